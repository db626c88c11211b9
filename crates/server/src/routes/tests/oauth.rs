//! How a program is let in: what it finds out, presents, is given and is refused.

use actix_web::cookie::Cookie;
use actix_web::http::StatusCode;
use actix_web::http::header::{AUTHORIZATION, CONTENT_TYPE, HOST, LOCATION, WWW_AUTHENTICATE};
use actix_web::test::{TestRequest, call_service, init_service, read_body};
use actix_web::{App, web};
use outcrop_store::people::sessions;
use outcrop_store::people::sign_in::{Attempt, Turn, begin};
use serde_json::{Value, json};

use super::strangers::token_of;
use super::text;
use crate::access::Secret;
use crate::state::State;

const HOME: &str = "outcrop.skerry.example";
const BACK: &str = "http://127.0.0.1:33418/back";
/// The example of RFC 7636, appendix B.
const VERIFIER: &str = "dBjftJeZ4CVP-mB92K27uhbUJU1p1r_wW1gFWFOEjXk";
const CHALLENGE: &str = "E9Melhoa2OwvFrEMTJguCHaoeK1t8URWbuGJSstw-cM";

struct Said {
    status: StatusCode,
    location: String,
    challenge: String,
    body: Value,
}

async fn answer(state: &State, request: TestRequest) -> Said {
    let app = init_service(
        App::new()
            .app_data(web::Data::new(state.clone()))
            .configure(crate::routes::everything),
    )
    .await;
    let answer = call_service(&app, request.insert_header((HOST, HOME)).to_request()).await;
    let header = |name| {
        let found = answer.headers().get(name);
        found
            .map(|value| value.to_str().unwrap().to_owned())
            .unwrap_or_default()
    };
    Said {
        status: answer.status(),
        location: header(LOCATION),
        challenge: header(WWW_AUTHENTICATE),
        body: serde_json::from_slice(&read_body(answer).await).unwrap_or_default(),
    }
}

/// A member's session in a browser.
async fn browser_of(state: &State, email: &str, role: &str) -> Cookie<'static> {
    token_of(state, email, role, false).await;
    let turn = begin(&state.database, &Attempt::new(email, "203.0.113.7")).await;
    let Turn::Now(Some(known)) = turn.unwrap() else {
        panic!("no member")
    };
    let secret = Secret::random("outcrop-session");
    sessions::begin(&state.database, known.id, secret.digest(), "a browser")
        .await
        .unwrap();
    Cookie::new("__Host-outcrop_session", secret.expose().to_owned())
}

async fn registered(state: &State, said: &Value) -> Said {
    let request = TestRequest::post().uri("/oauth/register");
    answer(
        state,
        request
            .insert_header((CONTENT_TYPE, "application/json"))
            .set_payload(said.to_string()),
    )
    .await
}

async fn client(state: &State) -> String {
    let said = registered(state, &json!({"client_name": "an editor", "redirect_uris": [BACK]})).await;
    assert_eq!(said.status, StatusCode::CREATED, "{}", said.body);
    said.body["client_id"].as_str().unwrap().to_owned()
}

/// An authorization request, with some parameters as they should not be.
fn request_of(client: &str, changed: &[(&str, &str)]) -> String {
    let mut all = vec![
        ("response_type", "code"),
        ("client_id", client),
        ("redirect_uri", BACK),
        ("code_challenge", CHALLENGE),
        ("code_challenge_method", "S256"),
        ("state", "st&te"),
        ("resource", "http://outcrop.skerry.example/mcp"),
    ];
    for (name, value) in changed {
        all.retain(|(known, _)| known != name);
        if !value.is_empty() {
            all.push((name, value));
        }
    }
    form(&all)
}

fn form(all: &[(&str, &str)]) -> String {
    form_urlencoded::Serializer::new(String::new())
        .extend_pairs(all)
        .finish()
}

async fn consent(state: &State, browser: &Cookie<'static>, request: &str, allow: bool) -> Said {
    let asked = TestRequest::post()
        .uri("/api/v1/consent")
        .cookie(browser.clone())
        .insert_header((CONTENT_TYPE, "application/json"));
    answer(
        state,
        asked.set_payload(json!({"request": request, "allow": allow}).to_string()),
    )
    .await
}

/// A parameter of where a program is sent back to.
fn parameter(location: &str, name: &str) -> Option<String> {
    let (_, query) = location.split_once('?')?;
    form_urlencoded::parse(query.as_bytes())
        .find(|(known, _)| known == name)
        .map(|(_, value)| value.into_owned())
}

async fn code(state: &State, browser: &Cookie<'static>, client: &str) -> String {
    let said = consent(state, browser, &request_of(client, &[]), true).await;
    let location = said.body["location"]
        .as_str()
        .unwrap_or_else(|| panic!("{}", said.body))
        .to_owned();
    assert!(location.starts_with(BACK), "{location}");
    assert_eq!(parameter(&location, "state").as_deref(), Some("st&te"));
    assert_eq!(
        parameter(&location, "iss").as_deref(),
        Some("http://outcrop.skerry.example")
    );
    parameter(&location, "code").unwrap()
}

async fn exchange(state: &State, pairs: &[(&str, &str)]) -> (StatusCode, Value) {
    let request = TestRequest::post()
        .uri("/oauth/token")
        .insert_header((CONTENT_TYPE, "application/x-www-form-urlencoded"));
    let said = answer(state, request.set_payload(form(pairs))).await;
    (said.status, said.body)
}

fn of_code<'a>(client: &'a str, code: &'a str) -> Vec<(&'a str, &'a str)> {
    vec![
        ("grant_type", "authorization_code"),
        ("client_id", client),
        ("code", code),
        ("redirect_uri", BACK),
        ("code_verifier", VERIFIER),
    ]
}

/// What the way in for editors, or another address, answers to a bearer token.
async fn with_token(state: &State, path: &str, token: &str) -> Said {
    let request = if path == "/mcp" {
        let list = json!({"jsonrpc": "2.0", "id": 2, "method": "tools/list"});
        TestRequest::post()
            .insert_header((CONTENT_TYPE, "application/json"))
            .insert_header(("accept", "application/json, text/event-stream"))
            .set_payload(list.to_string())
    } else {
        TestRequest::get()
    };
    answer(
        state,
        request
            .uri(path)
            .insert_header((AUTHORIZATION, format!("Bearer {token}"))),
    )
    .await
}

#[tokio::test]
async fn a_program_finds_its_way_is_let_in_and_acts_for_its_member_at_one_place_alone() {
    let (state, _supervisor, _closing) = State::for_tests(|_| ()).await;
    let browser = browser_of(&state, "mate@skerry.example", "engineer").await;
    let stranger = with_token(&state, "/mcp", "of-nobody").await;
    assert_eq!(stranger.status, StatusCode::UNAUTHORIZED);
    let (_, metadata) = stranger.challenge.split_once("resource_metadata=\"").unwrap();
    let path = metadata
        .trim_end_matches('"')
        .strip_prefix("http://outcrop.skerry.example")
        .unwrap();
    let resource = answer(&state, TestRequest::get().uri(path)).await.body;
    assert_eq!(resource["resource"], "http://outcrop.skerry.example/mcp");
    assert_eq!(
        resource["authorization_servers"],
        json!(["http://outcrop.skerry.example"])
    );
    let well_known = "/.well-known/oauth-authorization-server";
    let server = answer(&state, TestRequest::get().uri(well_known)).await.body;
    assert_eq!(server["issuer"], "http://outcrop.skerry.example");
    assert_eq!(server["code_challenge_methods_supported"], json!(["S256"]));

    let forged = TestRequest::get()
        .uri(well_known)
        .insert_header(("x-forwarded-host", "evil.example"));
    assert_eq!(answer(&state, forged).await.body["issuer"], server["issuer"]);

    let client = client(&state).await;
    let asked = request_of(&client, &[]);
    let sent = answer(&state, TestRequest::get().uri(&format!("/oauth/authorize?{asked}"))).await;
    assert_eq!(
        (sent.status, sent.location),
        (StatusCode::FOUND, format!("/consent#{asked}"))
    );
    let query = form(&[("request", &asked)]);
    let page = TestRequest::get()
        .uri(&format!("/api/v1/consent?{query}"))
        .cookie(browser.clone());
    assert_eq!(
        answer(&state, page).await.body,
        json!({"client": "an editor", "back_to": "http://127.0.0.1:33418", "email": "mate@skerry.example",
            "role": "engineer"})
    );
    let code = code(&state, &browser, &client).await;
    let (status, tokens) = exchange(&state, &of_code(&client, &code)).await;
    assert_eq!(
        (status, &tokens["token_type"]),
        (StatusCode::OK, &json!("Bearer")),
        "{tokens}"
    );
    let access = tokens["access_token"].as_str().unwrap();
    assert_eq!(with_token(&state, "/mcp", access).await.status, StatusCode::OK);
    for elsewhere in ["/api/v1/errors", "/api/v1/tokens", "/api/v1/session"] {
        let said = with_token(&state, elsewhere, access).await;
        assert_eq!(said.status, StatusCode::UNAUTHORIZED, "{elsewhere}");
    }

    let refresh = tokens["refresh_token"].as_str().unwrap();
    let again = [
        ("grant_type", "refresh_token"),
        ("client_id", &client),
        ("refresh_token", refresh),
    ];
    let (status, newer) = exchange(&state, &again).await;
    assert_eq!(status, StatusCode::OK, "{newer}");
    let newer = newer["access_token"].as_str().unwrap();
    assert_eq!(
        with_token(&state, "/mcp", access).await.status,
        StatusCode::UNAUTHORIZED
    );
    assert_eq!(with_token(&state, "/mcp", newer).await.status, StatusCode::OK);
    let list = TestRequest::get().uri("/api/v1/grants").cookie(browser.clone());
    let listed = answer(&state, list).await.body;
    assert_eq!(listed["items"][0]["client"], "an editor");
    let id = listed["items"][0]["id"].as_i64().unwrap();
    let end = || {
        TestRequest::delete()
            .uri(&format!("/api/v1/grants/{id}"))
            .cookie(browser.clone())
    };
    assert_eq!(answer(&state, end()).await.status, StatusCode::NO_CONTENT);
    assert_eq!(with_token(&state, "/mcp", newer).await.status, StatusCode::UNAUTHORIZED);
    assert_eq!(answer(&state, end()).await.status, StatusCode::NOT_FOUND);
}

#[tokio::test]
async fn a_stranger_to_what_was_given_is_refused_and_what_was_stolen_ends() {
    let (state, _supervisor, _closing) = State::for_tests(|_| ()).await;
    let browser = browser_of(&state, "mate@skerry.example", "engineer").await;
    let client = client(&state).await;
    let another = self::client(&state).await;
    let wrong = "a".repeat(43);
    for (name, value, error) in [
        ("client_id", another.as_str(), "invalid_grant"),
        ("code_verifier", wrong.as_str(), "invalid_grant"),
        ("code_verifier", "", "invalid_grant"),
        ("redirect_uri", "http://127.0.0.1:1/back", "invalid_grant"),
        ("code", "outcrop-code-guessed", "invalid_grant"),
        ("grant_type", "password", "unsupported_grant_type"),
        ("resource", "https://evil.example/mcp", "invalid_target"),
        ("client_id", "", "invalid_request"),
        ("state", "\0", "invalid_request"),
    ] {
        let code = code(&state, &browser, &client).await;
        let mut pairs = of_code(&client, &code);
        pairs.retain(|(known, _)| *known != name);
        if !value.is_empty() {
            pairs.push((name, value));
        }
        let (status, said) = exchange(&state, &pairs).await;
        assert_eq!(status, StatusCode::BAD_REQUEST, "{name}: {said}");
        assert_eq!(said["error"], error, "{name}: {said}");
    }
    let code = code(&state, &browser, &client).await;
    let (_, tokens) = exchange(&state, &of_code(&client, &code)).await;
    let access = tokens["access_token"].as_str().unwrap();
    assert_eq!(with_token(&state, "/mcp", access).await.status, StatusCode::OK);
    let (status, said) = exchange(&state, &of_code(&client, &code)).await;
    assert_eq!(
        (status, &said["error"]),
        (StatusCode::BAD_REQUEST, &json!("invalid_grant"))
    );
    assert_eq!(
        with_token(&state, "/mcp", access).await.status,
        StatusCode::UNAUTHORIZED,
        "replayed"
    );

    let code = self::code(&state, &browser, &client).await;
    let (_, tokens) = exchange(&state, &of_code(&client, &code)).await;
    let revoke = TestRequest::post()
        .uri("/oauth/revoke")
        .insert_header((CONTENT_TYPE, "application/x-www-form-urlencoded"))
        .set_payload(form(&[("token", tokens["refresh_token"].as_str().unwrap())]));
    assert_eq!(answer(&state, revoke).await.status, StatusCode::OK);
    let access = tokens["access_token"].as_str().unwrap();
    assert_eq!(
        with_token(&state, "/mcp", access).await.status,
        StatusCode::UNAUTHORIZED,
        "revoked"
    );
}

#[tokio::test]
async fn requests_that_ask_wrongly_go_back_to_the_program_or_nowhere() {
    let (state, _supervisor, _closing) = State::for_tests(|_| ()).await;
    let browser = browser_of(&state, "mate@skerry.example", "engineer").await;
    let client = client(&state).await;
    for (name, value, error) in [
        ("response_type", "token", "unsupported_response_type"),
        ("code_challenge", "", "invalid_request"),
        ("code_challenge", "short", "invalid_request"),
        ("code_challenge_method", "plain", "invalid_request"),
        ("code_challenge_method", "", "invalid_request"),
        ("resource", "https://evil.example/mcp", "invalid_target"),
    ] {
        let asked = request_of(&client, &[(name, value)]);
        let sent = answer(&state, TestRequest::get().uri(&format!("/oauth/authorize?{asked}"))).await;
        assert_eq!(sent.status, StatusCode::FOUND, "{name}");
        assert!(sent.location.starts_with(BACK), "{}", sent.location);
        assert_eq!(parameter(&sent.location, "error").as_deref(), Some(error), "{name}");
        let said = consent(&state, &browser, &asked, true).await;
        assert!(!said.body.to_string().contains("code="), "{name}: {}", said.body);
    }
    for (name, value) in [
        ("client_id", "outcrop-client-made-up"),
        ("client_id", ""),
        ("redirect_uri", "https://evil.example/back"),
        ("redirect_uri", "http://127.0.0.1:33418/other"),
    ] {
        let asked = request_of(&client, &[(name, value)]);
        let page = TestRequest::get().uri(&format!("/oauth/authorize?{asked}"));
        let (status, said) = text(&state, page).await;
        assert_eq!(status, StatusCode::BAD_REQUEST, "{name}: {said}");
        let said = consent(&state, &browser, &asked, true).await;
        assert_eq!(said.status, StatusCode::BAD_REQUEST, "{name}");
    }
    let long = request_of(&client, &[("state", &"x".repeat(4_000))]);
    let page = TestRequest::get().uri(&format!("/oauth/authorize?{long}"));
    assert_eq!(text(&state, page).await.0, StatusCode::BAD_REQUEST);
    let asked = request_of(&client, &[]);
    let refused = consent(&state, &browser, &asked, false).await.body["location"].to_string();
    assert!(
        refused.contains("error=access_denied") && !refused.contains("code="),
        "{refused}"
    );
    let token = token_of(&state, "mate@skerry.example", "engineer", false).await;
    let by_token = json!({"request": asked, "allow": true});
    let (status, _) = super::ask(&state, Some(&token), "POST /api/v1/consent", by_token).await;
    assert_eq!(status, StatusCode::FORBIDDEN, "a token makes no more of itself");
}

#[tokio::test]
async fn a_program_registers_with_addresses_that_are_its_own() {
    let (state, _supervisor, _closing) = State::for_tests(|_| ()).await;
    for wrong in [
        json!({"redirect_uris": ["javascript:alert(1)"]}),
        json!({"redirect_uris": [BACK, "http://evil.example/"]}),
        json!({"redirect_uris": []}),
        json!({"redirect_uris": vec![BACK; 11]}),
        json!({"redirect_uris": [format!("{BACK}{}", "x".repeat(500))]}),
        json!({"redirect_uris": BACK}),
        json!({"client_name": "\0", "redirect_uris": [BACK]}),
        json!([]),
    ] {
        let said = registered(&state, &wrong).await;
        assert_eq!(said.status, StatusCode::BAD_REQUEST, "{wrong}");
        assert!(
            said.body["error"].as_str().unwrap().starts_with("invalid_"),
            "{}",
            said.body
        );
    }
    let large = registered(
        &state,
        &json!({"redirect_uris": [BACK], "client_name": "x".repeat(20_000)}),
    )
    .await;
    assert_eq!(large.status, StatusCode::PAYLOAD_TOO_LARGE);
    let name = format!("an\u{202e} editor\n{}", "é".repeat(100));
    let said = registered(
        &state,
        &json!({"redirect_uris": ["skerry-editor://back"], "client_name": name,
        "token_endpoint_auth_method": "client_secret_post", "scope": "all"}),
    )
    .await;
    assert_eq!(said.status, StatusCode::CREATED);
    let shown = said.body["client_name"].as_str().unwrap();
    assert!(shown.starts_with("an editoré") && shown.len() <= 100, "{shown:?}");
    assert_eq!(said.body["token_endpoint_auth_method"], "none");
}
