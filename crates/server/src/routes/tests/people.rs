//! Members, invitations and teams over the API.

use actix_web::http::header::{AUTHORIZATION, CONTENT_TYPE};
use actix_web::http::{Method, StatusCode};
use actix_web::test::TestRequest;
use rstest::rstest;
use serde_json::{Value, json};

use super::answer;
use super::reading::{fleet, get};
use super::strangers::token_of;
use crate::state::State;

async fn ask(state: &State, token: Option<&str>, route: &str, sent: Value) -> (StatusCode, Value) {
    let (method, path) = route.split_once(' ').unwrap();
    let mut request = TestRequest::default()
        .method(method.parse::<Method>().unwrap())
        .uri(&format!("/api/v1{path}"))
        .insert_header((CONTENT_TYPE, "application/json"))
        .set_payload(sent.to_string());
    if let Some(token) = token {
        request = request.insert_header((AUTHORIZATION, format!("Bearer {token}")));
    }
    let (status, _, said) = answer(state, request).await;
    (status, said)
}

#[tokio::test]
async fn who_is_invited_chooses_a_password_once_and_is_in_their_teams() {
    let (state, _supervisor, _closing) = State::for_tests(|settings| {
        settings.public_url = Some("https://errors.skerry.example".to_owned());
    })
    .await;
    let admin = token_of(&state, "master@skerry.example", "admin", false).await;
    let admin = Some(admin.as_str());
    let team = json!({"name": "deck team"});
    assert_eq!(
        ask(&state, admin, "POST /teams", team.clone()).await.0,
        StatusCode::NO_CONTENT
    );
    assert_eq!(ask(&state, admin, "POST /teams", team).await.0, StatusCode::CONFLICT);

    let mate = json!({"email": "mate@skerry.example", "role": "engineer", "teams": ["deck team"]});
    let (status, made) = ask(&state, admin, "POST /invitations", mate).await;
    assert_eq!(status, StatusCode::CREATED, "{made}");
    let link = made["link"].as_str().unwrap();
    let secret = link.strip_prefix("https://errors.skerry.example/join#").unwrap();
    let open = get(&state, admin.unwrap(), "/api/v1/invitations").await;
    assert!(!open.to_string().contains(secret), "the secret is shown once");

    let (status, shown) = ask(&state, None, "POST /invitation", json!({"secret": secret})).await;
    assert_eq!(
        (status, &shown["email"]),
        (StatusCode::OK, &json!("mate@skerry.example"))
    );
    let accept = async |password: &str| {
        let sent = json!({"secret": secret, "password": password});
        ask(&state, None, "POST /invitation/accept", sent).await
    };
    assert_eq!(accept("short").await.0, StatusCode::BAD_REQUEST);
    assert_eq!(accept("high tide at noon").await.0, StatusCode::NO_CONTENT);
    assert_eq!(accept("high tide at noon").await.0, StatusCode::NOT_FOUND);
    let signs_in = json!({"email": "mate@skerry.example", "password": "high tide at noon"});
    let (status, member) = ask(&state, None, "POST /session", signs_in).await;
    assert_eq!((status, &member["role"]), (StatusCode::OK, &json!("engineer")));
    let members = get(&state, admin.unwrap(), "/api/v1/members").await;
    assert_eq!(members["items"][1]["teams"], json!(["deck team"]), "{members}");
    let audit = get(&state, admin.unwrap(), "/api/v1/audit").await.to_string();
    for done in ["made team", "invited", "accepted invitation"] {
        assert!(audit.contains(done), "{done}: {audit}");
    }
    assert!(!audit.contains(secret));
}

#[tokio::test]
async fn roles_change_at_once_and_the_last_admin_stays() {
    let (state, _supervisor, _closing) = State::for_tests(|_| {}).await;
    let master = token_of(&state, "master@skerry.example", "admin", false).await;
    let mate = token_of(&state, "mate@skerry.example", "viewer", false).await;
    let (admin, viewer) = (Some(master.as_str()), Some(mate.as_str()));
    let slice = json!({"where": "uncaught"});
    let may = async || ask(&state, viewer, "PUT /slices/mine", slice.clone()).await.0;
    assert_eq!(may().await, StatusCode::FORBIDDEN);
    let role = json!({"role": "engineer"});
    let (status, said) = ask(&state, admin, "PUT /members/mate@skerry.example", role.clone()).await;
    assert_eq!(status, StatusCode::NO_CONTENT, "{said}");
    assert_ne!(may().await, StatusCode::FORBIDDEN);
    let (status, said) = ask(&state, admin, "PUT /members/master@skerry.example", role).await;
    assert_eq!(status, StatusCode::CONFLICT, "{said}");
    let seen = get(&state, &mate, "/api/v1/members").await;
    assert!(
        seen["items"][0]["last_used_at"].is_null() && seen["items"][0]["tokens"].is_null(),
        "{seen}"
    );
    assert_eq!(
        ask(&state, admin, "DELETE /members/mate@skerry.example", json!({}))
            .await
            .0,
        StatusCode::NO_CONTENT
    );
    assert_eq!(may().await, StatusCode::UNAUTHORIZED, "their tokens are gone");
}

#[tokio::test]
async fn a_service_is_limited_and_opened_and_its_team_named_whole() {
    let (state, _supervisor, _closing) = State::for_tests(|_| {}).await;
    let engineer = fleet(&state).await;
    let master = token_of(&state, "master@skerry.example", "admin", false).await;
    let admin = Some(master.as_str());
    ask(&state, admin, "POST /teams", json!({"name": "tariff desk"})).await;
    let unknown = json!({"services": ["fares", "galley"]});
    let (status, said) = ask(&state, admin, "PUT /teams/tariff%20desk", unknown).await;
    assert_eq!(
        (status, &said["detail"]),
        (StatusCode::NOT_FOUND, &json!("there is no `galley`"))
    );
    let services = json!({"services": ["fares"]});
    assert_eq!(
        ask(&state, admin, "PUT /teams/tariff%20desk", services).await.0,
        StatusCode::NO_CONTENT
    );
    let count = async || {
        get(&state, &engineer, "/api/v1/services").await["items"]
            .as_array()
            .unwrap()
            .len()
    };
    assert_eq!(count().await, 2);
    ask(&state, admin, "PUT /services/fares/limit", json!({"limited": true})).await;
    assert_eq!(count().await, 1);
    let teams = get(&state, &engineer, "/api/v1/teams").await;
    assert_eq!(
        teams,
        json!({"items": [{"name": "tariff desk", "members": [], "services": []}], "limited": []})
    );
    let members = json!({"members": ["purser@skerry.example"]});
    ask(&state, admin, "PUT /teams/tariff%20desk", members).await;
    assert_eq!(count().await, 2, "who is in the team reads it from the next request on");
    ask(&state, admin, "DELETE /teams/tariff%20desk", json!({})).await;
    assert_eq!(count().await, 1);
    ask(&state, admin, "PUT /services/fares/limit", json!({"limited": false})).await;
    assert_eq!(count().await, 2);
}

#[rstest]
#[case::no_address(json!({"email": "mate", "role": "viewer"}), "must be an address")]
#[case::with_a_line_break(json!({"email": "mate@skerry.example\nBcc: x@y", "role": "viewer"}), "must be an address")]
#[case::too_long(json!({"email": "m@s.example", "role": "viewer", "days": 31}), "must be 1 to 30")]
#[case::no_role(json!({"email": "m@s.example", "role": "captain"}), "unknown variant `captain`")]
#[tokio::test]
async fn an_invitation_that_cannot_be_made_says_why(#[case] sent: Value, #[case] why: &str) {
    let (state, _supervisor, _closing) = State::for_tests(|_| {}).await;
    let admin = token_of(&state, "master@skerry.example", "admin", false).await;
    let (status, said) = ask(&state, Some(&admin), "POST /invitations", sent).await;
    assert_eq!(status, StatusCode::BAD_REQUEST);
    assert!(said["detail"].as_str().unwrap().contains(why), "{said}");
}
