//! What a member who is not in a service's team is told of a service that is limited to it: nothing, by any route.

use actix_web::http::{Method, StatusCode};
use chrono::Utc;
use outcrop_store::people::teams;
use serde_json::{Value, json};

use super::mcp::call;
use super::reading::{fleet, get, reference};
use super::roles::{Least, TABLE, body};
use super::strangers::token_of;
use crate::state::State;

/// Words that only the closed service has sent, or is named by.
const PLANTED: [&str; 8] = [
    "fares",
    "ZeroDivision",
    "free metres",
    "tariff",
    "quotes",
    "quoting",
    "skerry.season",
    "postgresql",
];

/// What stands in the addresses of routes.
struct Known {
    error: String,
    occurrence: String,
    trace: String,
}

impl Known {
    /// The addresses to ask of a route, so that what is closed would come back where it could be read.
    fn addresses(&self, path: &str) -> Vec<String> {
        let id = if path.contains("/traces/") {
            &self.trace
        } else {
            &self.occurrence
        };
        let whole = path
            .replace("{ref}", &self.error)
            .replace("{id}", id)
            .replace("{service}", "fares")
            .replace("{name}", "x");
        let more: &[&str] = match path {
            "/api/v1/deploys/check" | "/api/v1/deploys/one" => &["?service=fares&version=2.5.0&environment=production"],
            "/api/v1/endpoints/course" => &[
                "?endpoint=POST%20/v1/quotes",
                "?endpoint=POST%20/v1/quotes&service=fares",
            ],
            "/api/v1/endpoints/groups" => &["?by=host.name", "?by=service.instance.id"],
            "/api/v1/errors/{ref}/choose" => &["?choice=latest"],
            "/api/v1/errors" => &["?strip=12", "?where=service%20%3D%20fares", "?where=file%20~%20tariff"],
            "/api/v1/find" => &[
                "?text=u-1",
                "?text=POST%20/v1/quotes",
                "?text=fares",
                "?text=winter",
                "?text=no%20tariff%20for%20season%20high",
            ],
            "/api/v1/ask" => &[
                "?question=count,latest%20message%20of%20occurrences%20by%20error,title,type",
                "?question=users,errors%20of%20occurrences%20by%20service,version,endpoint,file",
                "?question=count%20of%20occurrences%20by%20skerry.season,user,kind,function%20each%201h",
                "?question=count,latest%20message%20of%20lines%20by%20service,template,skerry.season",
            ],
            "/api/v1/ask/complete" => &["?text=count%20of%20occurrences%20by%20sk"],
            "/api/v1/parts" => &[
                "?by=service",
                "?by=type",
                "?by=file",
                "?by=function",
                "?by=user",
                "?by=version",
            ],
            "/api/v1/predicate/complete" => &[
                "?text=",
                "?text=sk",
                "?text=service%20%3D%20",
                "?text=type%20%3D%20",
                "?text=skerry.season%20%3D%20",
                "?text=file%20%3D%20",
            ],
            "/api/v1/logs" | "/api/v1/requests" | "/api/v1/slow" | "/api/v1/calls" | "/api/v1/statements"
            | "/api/v1/instances" | "/api/v1/endpoints" | "/api/v1/now" | "/api/v1/traffic" => {
                &["", "?service=fares", "?since=1h"]
            }
            _ => &[""],
        };
        more.iter().map(|query| format!("{whole}{query}")).collect()
    }
}

async fn ask(state: &State, token: &str, method: Method, path: &str, sent: &str) -> (StatusCode, Value) {
    super::ask(state, Some(token), &format!("{method} {path}"), sent).await
}

/// Without what the asker named in the address or sent, which answers may repeat.
fn unsaid(said: &Value, address: &str, sent: &str) -> String {
    let asked = address.replace("%20", " ");
    let mut said = said.to_string();
    for word in PLANTED {
        if asked.contains(word) || sent.contains(word) {
            said = said.replace(word, "");
        }
    }
    said
}

/// A fleet of which fares is limited to a team; a member of it, and a stranger to it.
async fn limited(state: &State) -> (String, String, Known) {
    let purser = fleet(state).await;
    let deploy = r#"{"service": "fares", "version": "2.5.0", "environment": "production"}"#;
    let (status, said) = ask(state, &purser, Method::POST, "/api/v1/deploys", deploy).await;
    assert_eq!(status, StatusCode::NO_CONTENT, "{said}");
    let marker = r#"{"title": "fares moves to pier-4", "service": "fares"}"#;
    ask(state, &purser, Method::POST, "/api/v1/markers", marker).await;
    let error = reference(state, &purser, "ZeroDivisionError").await;
    let page = get(state, &purser, &format!("/api/v1/errors/{error}/occurrences?limit=1")).await;
    let text = |at: &str| page.pointer(at).and_then(Value::as_str).unwrap_or_default().to_owned();
    let known = Known {
        error,
        occurrence: text("/items/0/id"),
        trace: text("/items/0/trace_id"),
    };
    let mate = token_of(state, "mate@skerry.example", "engineer", false).await;
    let at = Utc::now();
    teams::make(&state.database, "tariff desk", "master", at).await.unwrap();
    let (members, services) = (["purser@skerry.example".to_owned()], ["fares".to_owned()]);
    teams::set(&state.database, "tariff desk", Some(&members), Some(&services))
        .await
        .unwrap();
    teams::limit(&state.database, "fares", true, ("master", at))
        .await
        .unwrap();
    (purser, mate, known)
}

#[tokio::test]
async fn a_stranger_to_the_team_finds_no_word_of_its_service_by_any_route() {
    let (state, _supervisor, _closing) = State::for_tests(|_| {}).await;
    let (purser, mate, known) = limited(&state).await;
    let (mut wrong, mut seen_by_purser) = (vec![], 0);
    for (route, least, _) in TABLE {
        let (method, path) = route.split_once(' ').unwrap();
        if method != "GET" || *least == Least::Admin || path == "/api/v1/live" {
            continue;
        }
        for address in known.addresses(path) {
            let (status, said) = ask(&state, &mate, Method::GET, &address, "").await;
            // Names of teams are everybody's.
            let told = unsaid(&said, &address, "").replace("tariff desk", "");
            let found: Vec<_> = PLANTED.iter().filter(|word| told.contains(*word)).collect();
            if status.is_server_error() || !found.is_empty() {
                wrong.push(format!("{address}: {status} {found:?} {said}"));
            }
            let (status, said) = ask(&state, &purser, Method::GET, &address, "").await;
            let told = unsaid(&said, &address, "");
            let is_found = PLANTED.iter().any(|word| told.contains(word));
            seen_by_purser += usize::from(status == StatusCode::OK && is_found);
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n\n"));
    // The search finds what is there: whoever is in the team is told of it by most of these routes.
    assert!(seen_by_purser > 25, "{seen_by_purser}");
}

#[tokio::test]
async fn a_stranger_to_the_team_changes_nothing_of_its_service_and_is_told_nothing_by_trying() {
    let (state, _supervisor, _closing) = State::for_tests(|_| {}).await;
    let (purser, mate, known) = limited(&state).await;
    let mut wrong = vec![];
    for (route, least, _) in TABLE {
        let (method, path) = route.split_once(' ').unwrap();
        if method == "GET" || *least == Least::Admin || path.contains("/session") || path.contains("/tokens") {
            continue;
        }
        let sent = body(route).replace("kobal-tirun", &known.error);
        for address in known.addresses(path) {
            let (status, said) = ask(&state, &mate, method.parse().unwrap(), &address, &sent).await;
            let told = unsaid(&said, &address, &sent).replace("tariff desk", "");
            let found: Vec<_> = PLANTED.iter().filter(|word| told.contains(*word)).collect();
            if status.is_server_error() || !found.is_empty() {
                wrong.push(format!("{route}: {status} {found:?} {said}"));
            }
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n\n"));
    let handling = get(&state, &purser, &format!("/api/v1/errors/{}/handling", known.error)).await;
    assert_eq!(handling["history"], json!([]), "{handling}");
    let deploys = get(&state, &purser, "/api/v1/deploys?service=fares").await;
    assert_eq!(deploys["items"].as_array().unwrap().len(), 1, "{deploys}");
}

#[tokio::test]
async fn an_editor_of_a_stranger_is_told_nothing_by_any_tool() {
    let (state, _supervisor, _closing) = State::for_tests(|_| {}).await;
    let (purser, mate, known) = limited(&state).await;
    let mut seen_by_purser = 0;
    for (tool, arguments) in [
        ("find", json!({"text": known.error})),
        ("show_error", json!({"reference": known.error})),
        ("show_occurrence", json!({"id": known.occurrence})),
        ("show_trace", json!({"id": known.trace})),
        ("check_deploy", json!({"service": "fares", "version": "2.5.0"})),
        (
            "ask",
            json!({"question": "count, latest message of occurrences by title, file"}),
        ),
        ("note", json!({"reference": known.error, "text": "x"})),
    ] {
        let sent = arguments.to_string();
        let (_, said) = call(&state, &mate, tool, arguments.clone()).await;
        let told = unsaid(&Value::from(said.clone()), "", &sent).replace("tariff desk", "");
        let found: Vec<_> = PLANTED.iter().filter(|word| told.contains(*word)).collect();
        assert!(found.is_empty(), "{tool}: {found:?} {said}");
        let (_, said) = call(&state, &purser, tool, arguments).await;
        seen_by_purser += usize::from(PLANTED.iter().any(|word| said.contains(word)));
    }
    assert!(seen_by_purser >= 5, "{seen_by_purser}");
}

#[tokio::test]
async fn spans_of_a_closed_service_are_boxes_in_the_trace_of_an_open_one() {
    let (state, _supervisor, _closing) = State::for_tests(|_| {}).await;
    let (purser, mate, known) = limited(&state).await;
    let path = format!("/api/v1/traces/{}", known.trace);
    let (whole, part) = (get(&state, &purser, &path).await, get(&state, &mate, &path).await);
    assert_eq!(
        whole["spans"].as_array().unwrap().len(),
        part["spans"].as_array().unwrap().len()
    );
    let services: Vec<&str> = part["spans"]
        .as_array()
        .unwrap()
        .iter()
        .filter_map(|span| span["service"].as_str())
        .collect();
    assert!(services.contains(&"(closed)") && services.contains(&"berths"), "{part}");
    assert_eq!(whole["duration_ms"], part["duration_ms"]);
}
