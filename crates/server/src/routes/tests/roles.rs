//! Who may call what: every route of the OpenAPI document, asked by everybody. A route that is not
//! in the table fails the test.

use std::collections::BTreeMap;

use actix_web::http::header::{AUTHORIZATION, CONTENT_TYPE};
use actix_web::http::{Method, StatusCode};
use actix_web::test::{TestRequest, call_service, init_service};
use actix_web::{App, web};

use super::strangers::token_of;
use crate::state::State;

/// Who may do something; each may what those before may, but for a pipeline and a sender, which may nothing else.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(super) enum Least {
    Nobody,
    Viewer,
    Engineer,
    Admin,
}
use Least::{Admin, Engineer, Nobody, Viewer};

/// The least role for each route, and whether a pipeline's token of an engineer may call it.
pub(super) const TABLE: &[(&str, Least, bool)] = &[
    ("DELETE /api/v1/drops/{id}", Admin, false),
    ("DELETE /api/v1/errors/{ref}/ticket", Engineer, false),
    ("DELETE /api/v1/invitations/{id}", Admin, false),
    ("DELETE /api/v1/keys/{name}", Admin, false),
    ("DELETE /api/v1/markers/{id}", Engineer, false),
    ("DELETE /api/v1/members/{email}", Admin, false),
    ("DELETE /api/v1/members/{email}/sessions", Admin, false),
    ("DELETE /api/v1/metrics/{name}", Engineer, false),
    ("DELETE /api/v1/notice-rules/{id}", Engineer, false),
    ("DELETE /api/v1/notice-ways/{name}", Admin, false),
    ("DELETE /api/v1/owners/{id}", Engineer, false),
    ("DELETE /api/v1/scrubbing/{id}", Admin, false),
    ("DELETE /api/v1/session", Nobody, true),
    ("DELETE /api/v1/sessions/{id}", Viewer, false),
    ("DELETE /api/v1/slices/{name}", Engineer, false),
    ("DELETE /api/v1/teams/{name}", Admin, false),
    ("DELETE /api/v1/tokens/{id}", Viewer, false),
    ("DELETE /api/v1/tracker", Admin, false),
    ("GET /api/v1/audit", Admin, false),
    ("GET /api/v1/calls", Viewer, false),
    ("GET /api/v1/clean-up", Admin, false),
    ("GET /api/v1/deploys", Viewer, true),
    ("GET /api/v1/deploys/check", Viewer, true),
    ("GET /api/v1/deploys/one", Viewer, false),
    ("GET /api/v1/drops", Viewer, false),
    ("GET /api/v1/endpoints", Viewer, false),
    ("GET /api/v1/endpoints/course", Viewer, false),
    ("GET /api/v1/endpoints/groups", Viewer, false),
    ("GET /api/v1/consent", Viewer, false),
    ("POST /api/v1/consent", Viewer, false),
    ("GET /api/v1/grants", Viewer, false),
    ("DELETE /api/v1/grants/{id}", Viewer, false),
    ("GET /api/v1/errors", Viewer, false),
    ("GET /api/v1/errors/{ref}", Viewer, false),
    ("GET /api/v1/errors/{ref}/causes", Viewer, false),
    ("GET /api/v1/errors/{ref}/choose", Viewer, false),
    ("GET /api/v1/errors/{ref}/explanation", Viewer, false),
    ("GET /api/v1/errors/{ref}/handling", Viewer, false),
    ("GET /api/v1/close-ups", Viewer, false),
    ("POST /api/v1/close-ups", Engineer, false),
    ("GET /api/v1/close-ups/{id}", Viewer, false),
    ("DELETE /api/v1/close-ups/{id}", Engineer, false),
    ("GET /api/v1/errors/{ref}/history", Viewer, false),
    ("GET /api/v1/errors/{ref}/occurrences", Viewer, false),
    ("GET /api/v1/errors/{ref}/stands-out", Viewer, false),
    ("GET /api/v1/errors/{ref}/timeline", Viewer, false),
    ("GET /api/v1/errors/{ref}/users", Viewer, false),
    ("GET /api/v1/errors/{ref}/why", Viewer, false),
    ("GET /api/v1/find", Viewer, false),
    ("GET /api/v1/grouping/changes", Viewer, false),
    ("GET /api/v1/instances", Viewer, false),
    ("GET /api/v1/invitations", Admin, false),
    ("GET /api/v1/keys", Engineer, false),
    ("GET /api/v1/live", Viewer, false),
    ("GET /api/v1/installation", Admin, false),
    ("GET /api/v1/logs", Viewer, false),
    ("GET /api/v1/logs/stands-out", Viewer, false),
    ("GET /api/v1/logs/templates", Viewer, false),
    ("GET /api/v1/markers", Viewer, false),
    ("GET /api/v1/members", Viewer, false),
    ("GET /api/v1/notice-rules", Viewer, false),
    ("GET /api/v1/notice-ways", Viewer, false),
    ("GET /api/v1/notice-wishes", Viewer, false),
    ("GET /api/v1/notices", Viewer, false),
    ("GET /api/v1/now", Viewer, false),
    ("GET /api/v1/traffic", Viewer, false),
    ("GET /api/v1/occurrences/{id}", Viewer, false),
    ("GET /api/v1/occurrences/{id}/lead-up", Viewer, false),
    ("GET /api/v1/owners", Viewer, false),
    ("GET /api/v1/parts", Viewer, false),
    ("GET /api/v1/predicate/complete", Viewer, false),
    ("GET /api/v1/ask", Viewer, false),
    ("GET /api/v1/ask/complete", Viewer, false),
    ("GET /api/v1/export/{source}", Viewer, false),
    ("GET /api/v1/views", Viewer, false),
    ("PUT /api/v1/views/{name}", Viewer, false),
    ("DELETE /api/v1/views/{name}", Viewer, false),
    ("GET /api/v1/metrics", Viewer, false),
    ("GET /api/v1/metrics/{name}", Viewer, false),
    ("GET /api/v1/sheets", Viewer, false),
    ("GET /api/v1/sheets/{name}", Viewer, false),
    ("PUT /api/v1/sheets/{name}", Viewer, false),
    ("DELETE /api/v1/sheets/{name}", Viewer, false),
    ("GET /api/v1/made-sheet", Viewer, false),
    ("GET /api/v1/questions", Viewer, false),
    ("GET /api/v1/questions/{name}", Viewer, false),
    ("PUT /api/v1/questions/{name}", Viewer, false),
    ("DELETE /api/v1/questions/{name}", Viewer, false),
    ("GET /api/v1/refused", Engineer, false),
    ("GET /api/v1/requests", Viewer, false),
    ("GET /api/v1/scrubbing", Viewer, false),
    ("GET /api/v1/services", Viewer, false),
    ("GET /api/v1/services/{service}/settings", Viewer, false),
    ("GET /api/v1/session", Viewer, false),
    ("GET /api/v1/session/preferences", Viewer, false),
    ("GET /api/v1/sessions", Viewer, false),
    ("GET /api/v1/slices", Viewer, false),
    ("GET /api/v1/slow", Viewer, false),
    ("GET /api/v1/statements", Viewer, false),
    ("GET /api/v1/storage", Viewer, false),
    ("GET /api/v1/teams", Viewer, false),
    ("GET /api/v1/tokens", Viewer, false),
    ("GET /api/v1/traces/{id}", Viewer, false),
    ("GET /api/v1/tracker", Viewer, false),
    ("POST /api/v1/cdevents", Engineer, true),
    ("POST /api/v1/clean-up", Admin, false),
    ("POST /api/v1/clean-up/try", Admin, false),
    ("POST /api/v1/deploys", Engineer, true),
    ("POST /api/v1/drops", Admin, false),
    ("POST /api/v1/errors/{ref}/handling", Engineer, false),
    ("POST /api/v1/errors/{ref}/handling/undo", Engineer, false),
    ("POST /api/v1/errors/{ref}/ticket", Engineer, false),
    ("POST /api/v1/grouping/changes", Engineer, false),
    ("POST /api/v1/grouping/changes/{id}/undo", Engineer, false),
    ("POST /api/v1/handling", Engineer, false),
    ("POST /api/v1/invitation", Nobody, true),
    ("POST /api/v1/invitation/accept", Nobody, true),
    ("POST /api/v1/invitations", Admin, false),
    ("POST /api/v1/keys", Admin, false),
    ("POST /api/v1/keys/{name}/rotate", Admin, false),
    ("POST /api/v1/markers", Engineer, true),
    ("POST /api/v1/notice-link", Nobody, true),
    ("POST /api/v1/notice-link/act", Nobody, true),
    ("POST /api/v1/notice-rules", Engineer, false),
    ("POST /api/v1/notice-rules/try", Viewer, false),
    ("POST /api/v1/notice-rules/{id}/test", Engineer, false),
    ("POST /api/v1/notice-ways/{name}/test", Admin, false),
    ("POST /api/v1/notices/shown", Viewer, false),
    ("POST /api/v1/notices/{id}/again", Engineer, false),
    ("POST /api/v1/owners", Engineer, false),
    ("POST /api/v1/scrubbing", Admin, false),
    ("POST /api/v1/scrubbing/try", Engineer, false),
    ("POST /api/v1/session", Nobody, true),
    ("POST /api/v1/teams", Admin, false),
    ("POST /api/v1/tokens", Viewer, false),
    ("POST /api/v1/tracker/try", Admin, false),
    ("PUT /api/v1/endpoints/slow", Engineer, false),
    ("PUT /api/v1/errors/{ref}/ticket", Engineer, false),
    ("PUT /api/v1/members/{email}", Admin, false),
    ("PUT /api/v1/metrics/{name}", Engineer, false),
    ("PUT /api/v1/notice-rules/{id}", Engineer, false),
    ("PUT /api/v1/notice-ways/{name}", Admin, false),
    ("PUT /api/v1/notice-wishes", Viewer, false),
    ("PUT /api/v1/services/{service}/limit", Admin, false),
    ("PUT /api/v1/services/{service}/settings", Engineer, false),
    // A token sets no password: its owner must sign in.
    ("PUT /api/v1/session/password", Viewer, false),
    ("PUT /api/v1/session/preferences", Viewer, false),
    ("PUT /api/v1/slices/{name}", Engineer, false),
    ("PUT /api/v1/teams/{name}", Admin, false),
    ("PUT /api/v1/tracker", Admin, false),
];

/// The route that takes sender keys, and no member's token.
const BY_KEY: &str = "POST /api/v1/report";

/// A body that each route's reader takes, so that the role is what is judged.
pub(super) fn body(route: &str) -> &'static str {
    match route {
        "POST /api/v1/deploys" => r#"{"service": "fares", "version": "2.4.0", "environment": "production"}"#,
        "POST /api/v1/drops" => r#"{"where": "type = Nothing"}"#,
        "POST /api/v1/errors/{ref}/handling" => r#"{"verb": "reopen"}"#,
        "POST /api/v1/errors/{ref}/handling/undo" => r#"{"change": 7}"#,
        "POST /api/v1/handling" => r#"{"errors": ["kobal-tirun"], "action": {"verb": "reopen"}}"#,
        "POST /api/v1/grouping/changes" => r#"{"kind": "join_errors", "error": "kobal-tirun", "with": []}"#,
        "POST /api/v1/invitation" => r#"{"secret": "x"}"#,
        "POST /api/v1/invitation/accept" => r#"{"secret": "x", "password": "high tide at noon"}"#,
        "POST /api/v1/invitations" => r#"{"email": "x", "role": "viewer"}"#,
        "POST /api/v1/notice-link" | "POST /api/v1/notice-link/act" => r#"{"link": "x"}"#,
        "POST /api/v1/notice-rules" | "PUT /api/v1/notice-rules/{id}" => r#"{"name": "", "when": [], "by": []}"#,
        "POST /api/v1/notice-rules/try" => r#"{"rule": {"name": "", "when": [], "by": []}}"#,
        "PUT /api/v1/notice-ways/{name}" => r#"{"kind": "chat", "address": "x"}"#,
        "PUT /api/v1/notice-wishes" => r#"{"pace": "soon", "zone": "UTC", "digest_at": "08:00"}"#,
        "POST /api/v1/owners" => r#"{"owner": "nobody"}"#,
        "PUT /api/v1/errors/{ref}/ticket" => r#"{"link": "https://t.example/7"}"#,
        "PUT /api/v1/tracker" => r#"{"address": "x", "body": {}, "id": "/id", "link": "/url"}"#,
        "POST /api/v1/tracker/try" => {
            r#"{"ref": "kobal-tirun", "tracker": {"address": "x", "body": {}, "id": "/id", "link": "/url"}}"#
        }
        "POST /api/v1/clean-up" | "POST /api/v1/clean-up/try" => r#"{"kind": "service", "name": "x"}"#,
        "POST /api/v1/keys" | "POST /api/v1/teams" => r#"{"name": ""}"#,
        "PUT /api/v1/members/{email}" => r#"{"role": "viewer"}"#,
        "PUT /api/v1/services/{service}/limit" => r#"{"limited": true}"#,
        "POST /api/v1/markers" => r#"{"title": "x"}"#,
        "POST /api/v1/scrubbing" => r#"{"verb": "remove", "what": "", "reason": ""}"#,
        "POST /api/v1/scrubbing/try" => r#"{"text": "x"}"#,
        "POST /api/v1/session" => r#"{"email": "x", "password": "y"}"#,
        "POST /api/v1/consent" => r#"{"request": "client_id=x", "allow": true}"#,
        "POST /api/v1/tokens" => r#"{"days": 0}"#,
        "PUT /api/v1/endpoints/slow" => r#"{"service": "fares", "endpoint": "x"}"#,
        "PUT /api/v1/session/password" => r#"{"current": "x", "new": "y"}"#,
        "PUT /api/v1/slices/{name}" => r#"{"where": "uncaught"}"#,
        "PUT /api/v1/views/{name}" => r#"{"address": "/errors"}"#,
        "PUT /api/v1/sheets/{name}" => r#"{"document": {"parts": []}}"#,
        "PUT /api/v1/questions/{name}" | "PUT /api/v1/metrics/{name}" => r#"{"question": "count of occurrences"}"#,
        _ => "{}",
    }
}

async fn status(state: &State, token: Option<&str>, route: &str) -> StatusCode {
    let app = init_service(
        App::new()
            .app_data(web::Data::new(state.clone()))
            .configure(crate::routes::everything),
    )
    .await;
    let (method, path) = route.split_once(' ').unwrap();
    let path = path
        .replace("{ref}", "kobal-tirun")
        .replace("{id}", "7")
        .replace("{name}", "nothing")
        .replace("{email}", "nobody@skerry.example")
        .replace("{service}", "all");
    let mut request = TestRequest::with_uri(&path).method(method.parse::<Method>().unwrap());
    if let Some(token) = token {
        request = request.insert_header((AUTHORIZATION, format!("Bearer {token}")));
    }
    if method != "GET" && method != "DELETE" {
        request = request
            .insert_header((CONTENT_TYPE, "application/json"))
            .set_payload(body(route));
    }
    call_service(&app, request.to_request()).await.status()
}

#[tokio::test]
async fn every_route_lets_in_who_its_table_says_and_no_one_else() {
    let document = serde_json::to_value(crate::openapi()).unwrap();
    let routes: Vec<String> = (document["paths"].as_object().unwrap().iter())
        .flat_map(|(path, item)| {
            item.as_object()
                .unwrap()
                .keys()
                .map(move |method| format!("{} {path}", method.to_uppercase()))
        })
        .filter(|route| route != BY_KEY)
        .collect();
    let table: BTreeMap<&str, (Least, bool)> = TABLE
        .iter()
        .map(|(route, least, pipeline)| (*route, (*least, *pipeline)))
        .collect();
    assert!(
        routes.iter().all(|route| table.contains_key(route.as_str())),
        "not in the table: {:?}",
        routes
            .iter()
            .filter(|route| !table.contains_key(route.as_str()))
            .collect::<Vec<_>>()
    );
    assert_eq!(routes.len(), table.len(), "the table names routes that are none");

    let (state, _supervisor, _closing) = State::for_tests(|_| {}).await;
    let key = state
        .key("pier-3", outcrop_store::people::keys::Bounds::default())
        .await;
    let viewer = token_of(&state, "deckhand@skerry.example", "viewer", false).await;
    let engineer = token_of(&state, "purser@skerry.example", "engineer", false).await;
    let admin = token_of(&state, "harbour@skerry.example", "admin", false).await;
    let pipeline = token_of(&state, "purser@skerry.example", "engineer", true).await;
    for (route, (least, by_pipeline)) in table {
        let asked = async |token: Option<&str>| status(&state, token, route).await;
        // Signing in is refused for its own reason: the password.
        let is_sign_in = route == "POST /api/v1/session";
        for (who, token, role) in [("nobody", None, Nobody), ("a sender's key", Some(&key), Nobody)] {
            let answer = asked(token.map(String::as_str)).await;
            assert_eq!(
                answer == StatusCode::UNAUTHORIZED,
                least > role || is_sign_in,
                "{who}: {route} {answer}"
            );
        }
        for (token, role) in [(&viewer, Viewer), (&engineer, Engineer), (&admin, Admin)] {
            let answer = asked(Some(token)).await;
            // Both are done in a browser, by a person who is signed in.
            let is_by_session = route == "PUT /api/v1/session/password" || route.ends_with("/consent");
            let is_refused = least > role || is_by_session;
            assert_eq!(
                answer == StatusCode::FORBIDDEN,
                is_refused,
                "{role:?}: {route} {answer}"
            );
            assert!(answer != StatusCode::UNAUTHORIZED || is_sign_in, "{role:?}: {route}");
        }
        let answer = asked(Some(&pipeline)).await;
        assert_eq!(
            answer == StatusCode::FORBIDDEN,
            !by_pipeline,
            "a pipeline: {route} {answer}"
        );
    }
    for token in [None, Some(&viewer), Some(&admin), Some(&pipeline)] {
        assert_eq!(
            status(&state, token.map(String::as_str), BY_KEY).await,
            StatusCode::UNAUTHORIZED,
            "{BY_KEY}"
        );
    }
    assert_eq!(
        status(&state, Some(&key), BY_KEY).await,
        StatusCode::BAD_REQUEST,
        "the empty report is looked at"
    );
}

#[tokio::test]
async fn keeping_addresses_is_for_admins_and_what_was_changed_stands_in_the_record() {
    let (state, _supervisor, _closing) = State::for_tests(|_| {}).await;
    let engineer = token_of(&state, "purser@skerry.example", "engineer", false).await;
    let admin = token_of(&state, "harbour@skerry.example", "admin", false).await;
    let app = init_service(
        App::new()
            .app_data(web::Data::new(state.clone()))
            .configure(crate::routes::everything),
    )
    .await;
    let call = async |token: &str, method: Method, path: &str, body: &str| {
        let request = TestRequest::with_uri(path)
            .method(method)
            .insert_header((AUTHORIZATION, format!("Bearer {token}")));
        let request = request
            .insert_header((CONTENT_TYPE, "application/json"))
            .set_payload(body.to_owned());
        let answer = call_service(&app, request.to_request()).await;
        let status = answer.status();
        let said: serde_json::Value =
            serde_json::from_slice(&actix_web::test::read_body(answer).await).unwrap_or_default();
        (status, said)
    };
    let settings = "/api/v1/services/all/settings";
    assert_eq!(
        call(&engineer, Method::PUT, settings, r#"{"customer": "skerry.line"}"#)
            .await
            .0,
        StatusCode::NO_CONTENT
    );
    let keeping = r#"{"customer": "skerry.line", "keep_addresses": true}"#;
    assert_eq!(
        call(&engineer, Method::PUT, settings, keeping).await.0,
        StatusCode::FORBIDDEN
    );
    assert_eq!(
        call(&admin, Method::PUT, settings, keeping).await.0,
        StatusCode::NO_CONTENT
    );
    assert_eq!(
        call(&engineer, Method::PUT, settings, keeping).await.0,
        StatusCode::NO_CONTENT,
        "it stays as it was"
    );
    assert_eq!(
        call(&admin, Method::POST, "/api/v1/keys", r#"{"name": "pier-3"}"#)
            .await
            .0,
        StatusCode::CREATED
    );
    let (_, made) = call(
        &engineer,
        Method::POST,
        "/api/v1/tokens",
        r#"{"name": "laptop", "days": 30}"#,
    )
    .await;
    let own = made["token"].as_str().unwrap();
    assert_eq!(call(own, Method::GET, "/api/v1/errors", "").await.0, StatusCode::OK);
    let path = format!("/api/v1/tokens/{}", made["id"]);
    assert_eq!(
        call(&admin, Method::DELETE, &path, "").await.0,
        StatusCode::NOT_FOUND,
        "not theirs"
    );
    assert_eq!(
        call(&engineer, Method::DELETE, &path, "").await.0,
        StatusCode::NO_CONTENT
    );
    assert_eq!(
        call(own, Method::GET, "/api/v1/errors", "").await.0,
        StatusCode::UNAUTHORIZED
    );
    let (_, page) = call(&admin, Method::GET, "/api/v1/audit?limit=2", "").await;
    let entry = |at: usize| {
        format!(
            "{} {} {}",
            page["items"][at]["by"], page["items"][at]["did"], page["items"][at]["subject"]
        )
        .replace('"', "")
    };
    assert_eq!(entry(0), "purser@skerry.example revoked token laptop");
    assert_eq!(entry(1), "purser@skerry.example made token laptop");
    let next = format!("/api/v1/audit?cursor={}", page["next"].as_str().unwrap());
    let (_, rest) = call(&admin, Method::GET, &next, "").await;
    assert_eq!(
        (rest["items"][0]["did"].as_str(), rest["items"].as_array().map(Vec::len)),
        (Some("made sender key"), Some(4))
    );
}
