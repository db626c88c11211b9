//! Members, invitations and teams over the API.

use actix_web::http::StatusCode;
use chrono::Utc;
use outcrop_store::people::teams;
use rstest::rstest;
use serde_json::{Value, json};

use super::reading::{fleet, get, reference, request, resource};
use super::strangers::token_of;
use super::{answer, bounds, post};
use crate::clock::now;
use crate::state::State;

async fn ask(state: &State, token: Option<&str>, route: &str, sent: Value) -> (StatusCode, Value) {
    super::ask(state, token, &route.replacen(' ', " /api/v1", 1), sent).await
}

#[tokio::test]
async fn who_is_invited_chooses_a_password_once_and_is_in_their_teams() {
    let (state, _supervisor, _closing) = State::for_tests(|settings| {
        settings.public_url = Some("https://errors.skerry.example".to_owned());
    })
    .await;
    let master = token_of(&state, "master@skerry.example", "admin", false).await;
    let admin = Some(master.as_str());
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
    let open = get(&state, &master, "/api/v1/invitations").await;
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
    let members = get(&state, &master, "/api/v1/members").await;
    assert_eq!(members["items"][1]["teams"], json!(["deck team"]), "{members}");
    let audit = get(&state, &master, "/api/v1/audit").await.to_string();
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
    let lost = "DELETE /members/mate@skerry.example/sessions";
    assert_eq!(ask(&state, admin, lost, json!({})).await.0, StatusCode::NO_CONTENT);
    assert_eq!(may().await, StatusCode::UNAUTHORIZED, "the token is revoked");
    assert_eq!(
        ask(&state, admin, "DELETE /members/cook@skerry.example/sessions", json!({}))
            .await
            .0,
        StatusCode::NOT_FOUND
    );
    let mate = token_of(&state, "mate@skerry.example", "engineer", false).await;
    let viewer = Some(mate.as_str());
    let may = async || ask(&state, viewer, "PUT /slices/mine", slice.clone()).await.0;
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

#[tokio::test]
async fn a_new_error_goes_to_its_owner_where_a_rule_says_so_and_else_they_are_proposed() {
    let (state, _supervisor, _closing) = State::for_tests(|_| {}).await;
    known_for_an_hour(&state).await;
    let engineer = fleet(&state).await;
    let token = Some(engineer.as_str());
    let error = reference(&state, &engineer, "ZeroDivisionError").await;
    let handling = format!("/api/v1/errors/{error}/handling");
    let by = async |rule: Value| ask(&state, token, "POST /owners", rule).await;
    let (status, said) = by(json!({"owner": "galley"})).await;
    assert_eq!(
        (status, &said["detail"]),
        (StatusCode::NOT_FOUND, &json!("no team or member is called `galley`"))
    );
    for wrong in [json!({"where": "mine"}), json!({"where": "berth ="})] {
        let mut rule = json!({"owner": "purser@skerry.example"});
        rule.as_object_mut().unwrap().extend(wrong.as_object().unwrap().clone());
        assert_eq!(by(rule).await.0, StatusCode::BAD_REQUEST);
    }
    let list = get(&state, &engineer, "/api/v1/owners").await;
    assert_eq!(
        list["services"][0]["service"], "fares",
        "with errors that nobody owns first: {list}"
    );
    assert_eq!(list["services"][0]["owner"], Value::Null);

    teams::make(&state.database, "tariff desk", "master", Utc::now())
        .await
        .unwrap();
    let path = json!({"owner": "Tariff Desk", "path": "app/*.py", "hand_over": true});
    let (status, said) = by(path).await;
    assert_eq!(status, StatusCode::NO_CONTENT, "{said}");
    let proposed = get(&state, &engineer, &handling).await;
    assert_eq!(
        proposed["proposals"],
        json!([{"to": "tariff desk", "because": "owns app/*.py"}])
    );
    outcrop_store::flags::Watch::default()
        .round(&state.database, Utc::now())
        .await
        .unwrap();
    let handed = crate::answers::owners::hand_over(&state.database, &state.settings, Utc::now())
        .await
        .unwrap();
    assert_eq!(handed, 1);
    let now = get(&state, &engineer, &handling).await;
    assert_eq!(now["taken_by"], "tariff desk", "{now}");
    assert_eq!(
        (&now["history"][0]["by"], now["proposals"].is_null()),
        (&json!("outcrop"), true),
        "{now}"
    );
    let again = crate::answers::owners::hand_over(&state.database, &state.settings, Utc::now())
        .await
        .unwrap();
    assert_eq!(again, 0);
    let list = get(&state, &engineer, "/api/v1/owners").await;
    let rule = list["rules"][0]["id"].as_i64().unwrap();
    assert_eq!(list["rules"][0]["about"], "app/*.py");
    assert_eq!(
        ask(&state, token, &format!("DELETE /owners/{rule}"), json!({})).await.0,
        StatusCode::NO_CONTENT
    );
}

/// Sound requests of fares an hour ago, so that an error of today is new in it.
async fn known_for_an_hour(state: &State) {
    let key = state.key("pier-4", bounds(None)).await;
    let begin = u64::try_from(now().0).unwrap() - 3_600_000_000_000;
    // The eighth request fails: those between do not.
    let spans: Vec<Value> = (1..8)
        .flat_map(|number| request(number, begin + number * 1_000_000_000).0)
        .collect();
    let sent = json!({"resourceSpans": [{"resource": resource("fares", "2.3.9"), "scopeSpans": [{"spans": spans}]}]});
    let (status, _, said) = answer(state, post("/v1/traces", &key, sent.to_string())).await;
    assert_eq!(status, StatusCode::OK, "{said}");
}

#[tokio::test]
async fn what_is_deleted_is_tried_confirmed_by_its_name_and_recorded() {
    let (state, _supervisor, _closing) = State::for_tests(|_| {}).await;
    let engineer = fleet(&state).await;
    let master = token_of(&state, "master@skerry.example", "admin", false).await;
    let admin = Some(master.as_str());
    let asked = |confirm: &str| json!({"kind": "user", "name": "u-1", "confirm": confirm});
    let (status, tried) = ask(&state, admin, "POST /clean-up/try", asked("")).await;
    assert_eq!(status, StatusCode::OK, "{tried}");
    assert!(tried["counts"][0]["count"].as_i64().unwrap() > 0, "{tried}");
    assert_eq!(
        ask(&state, admin, "POST /clean-up", asked("u-2")).await.0,
        StatusCode::BAD_REQUEST
    );
    assert_eq!(
        ask(&state, admin, "POST /clean-up", asked("u-1")).await.0,
        StatusCode::ACCEPTED
    );
    let clean = async || {
        outcrop_store::upkeep::cleaning::clean(&state.database, Utc::now())
            .await
            .unwrap()
    };
    assert!(clean().await.unwrap().1 > 0);
    let found = get(&state, &engineer, "/api/v1/find?text=u-1").await;
    assert_eq!(found["items"], json!([]), "{found}");
    for place in ["/api/v1/clean-up", "/api/v1/audit"] {
        let recorded = get(&state, &master, place).await.to_string();
        assert!(recorded.contains("a user") && !recorded.contains("u-1"), "{recorded}");
    }
    let error = reference(&state, &engineer, "ZeroDivisionError").await;
    let gone = json!({"kind": "error", "name": error, "confirm": error});
    assert_eq!(ask(&state, admin, "POST /clean-up", gone).await.0, StatusCode::ACCEPTED);
    clean().await.unwrap();
    let list = get(&state, &engineer, "/api/v1/errors").await.to_string();
    assert!(!list.contains("ZeroDivisionError"), "{list}");
    let berths = json!({"kind": "service", "name": "berths", "confirm": "berths"});
    assert_eq!(
        ask(&state, admin, "POST /clean-up", berths).await.0,
        StatusCode::ACCEPTED
    );
    clean().await.unwrap();
    for list in ["services", "endpoints", "instances", "requests", "calls"] {
        let told = get(&state, &engineer, &format!("/api/v1/{list}?service=berths")).await;
        let items = told["items"].as_array().unwrap();
        let is_there = items.iter().any(|item| item["service"] == "berths");
        assert!(!is_there, "{list}: {told}");
    }
    let nothing = json!({"kind": "service", "name": "galley", "confirm": "galley"});
    assert_eq!(
        ask(&state, admin, "POST /clean-up", nothing).await.0,
        StatusCode::NOT_FOUND
    );
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
