//! Every route of the OpenAPI document, asked as a stranger might: with texts, numbers and bodies that nobody means.

use actix_web::http::header::{ALLOW, AUTHORIZATION, CACHE_CONTROL, CONTENT_TYPE};
use actix_web::http::{Method, StatusCode};
use actix_web::test::{TestRequest, call_service, init_service, read_body};
use actix_web::{App, web};
use outcrop_store::people;
use outcrop_store::people::tokens;
use serde_json::Value;

use crate::access::Secret;
use crate::state::State;

/// One operation of the document.
struct Operation {
    method: Method,
    path: String,
    /// Parameters: name, whether in the path, whether a number.
    parameters: Vec<(String, bool, bool)>,
    has_body: bool,
}

fn operations() -> Vec<Operation> {
    let document = serde_json::to_value(crate::openapi()).unwrap();
    let mut found = vec![];
    for (path, item) in document["paths"].as_object().unwrap() {
        for (method, operation) in item.as_object().unwrap() {
            let parameters = operation["parameters"]
                .as_array()
                .map(Vec::as_slice)
                .unwrap_or_default();
            found.push(Operation {
                method: method.to_uppercase().parse().unwrap(),
                path: path.clone(),
                parameters: parameters
                    .iter()
                    .map(|parameter| {
                        let kind = parameter["schema"]["type"].to_string();
                        (
                            parameter["name"].as_str().unwrap().to_owned(),
                            parameter["in"] == "path",
                            kind.contains("integer"),
                        )
                    })
                    .collect(),
                has_body: operation.get("requestBody").is_some(),
            });
        }
    }
    found
}

impl Operation {
    /// Its address with a value for one parameter; other parts of the path hold something that may be.
    fn address(&self, name: &str, value: &str) -> String {
        let mut path = self.path.clone();
        let mut query = String::new();
        for (own, in_path, is_number) in &self.parameters {
            let usual = if *is_number { "7" } else { "kobal-tirun" };
            let given = if own == name { value } else { usual };
            if *in_path {
                path = path.replace(&format!("{{{own}}}"), given);
            } else if own == name {
                query = format!("?{own}={given}");
            }
        }
        format!("{path}{query}")
    }
}

/// A member's token.
pub(super) async fn token_of(state: &State, email: &str, role: &str, is_pipeline: bool) -> String {
    people::add_member(&state.database, email, role, "no password")
        .await
        .ok();
    let secret = Secret::random("outcrop-token");
    tokens::add(
        &state.database,
        email,
        secret.digest(),
        &tokens::NewToken {
            is_pipeline,
            ..Default::default()
        },
    )
    .await
    .unwrap();
    secret.expose().to_owned()
}

struct Answer {
    status: StatusCode,
    kind: String,
    caching: String,
    allow: String,
    body: Value,
}

async fn ask(state: &State, token: &str, method: &Method, uri: &str, body: Option<(&str, String)>) -> Answer {
    let app = init_service(
        App::new()
            .app_data(web::Data::new(state.clone()))
            .configure(crate::routes::everything),
    )
    .await;
    let mut request = TestRequest::with_uri(uri)
        .method(method.clone())
        .insert_header((AUTHORIZATION, format!("Bearer {token}")));
    if let Some((kind, body)) = body {
        request = request.insert_header((CONTENT_TYPE, kind)).set_payload(body);
    }
    let answer = call_service(&app, request.to_request()).await;
    let header = |name| {
        answer
            .headers()
            .get(name)
            .and_then(|value| value.to_str().ok())
            .unwrap_or_default()
            .to_owned()
    };
    let (status, kind, caching, allow) = (
        answer.status(),
        header(CONTENT_TYPE),
        header(CACHE_CONTROL),
        header(ALLOW),
    );
    // A stream of events never ends.
    let body = if kind.starts_with("text/event-stream") {
        web::Bytes::new()
    } else {
        read_body(answer).await
    };
    Answer {
        status,
        kind,
        caching,
        allow,
        body: serde_json::from_slice(&body).unwrap_or_default(),
    }
}

fn must_refuse(answer: &Answer, status: StatusCode, asked: &str) {
    assert_eq!(answer.status, status, "{asked}: {}", answer.body);
    assert_eq!(answer.kind, "application/problem+json", "{asked}");
    assert!(
        answer.body["detail"].as_str().is_some_and(|detail| detail.len() > 10),
        "{asked}: {}",
        answer.body
    );
}

#[tokio::test]
async fn a_text_that_holds_nul_is_refused_wherever_it_stands() {
    let (state, _supervisor, _closing) = State::for_tests(|_| {}).await;
    let token = token_of(&state, "harbour@skerry.example", "admin", false).await;
    for operation in operations() {
        for (name, in_path, is_number) in &operation.parameters {
            if *in_path && *is_number {
                continue;
            }
            let uri = operation.address(name, "a%00b");
            must_refuse(
                &ask(&state, &token, &operation.method, &uri, None).await,
                StatusCode::BAD_REQUEST,
                &uri,
            );
        }
        if operation.has_body {
            let uri = operation.address("", "");
            let body = Some(("application/json", r#"{"service": "a\u0000b"}"#.to_owned()));
            let answer = ask(&state, &token, &operation.method, &uri, body).await;
            // A failure's report goes the way of telemetry, which leaves NUL out.
            if !uri.ends_with("/report") {
                must_refuse(&answer, StatusCode::BAD_REQUEST, &uri);
            }
        }
    }
}

#[tokio::test]
async fn a_number_out_of_range_a_wrong_type_and_a_wrong_body_are_refused_in_the_apis_form() {
    let (state, _supervisor, _closing) = State::for_tests(|_| {}).await;
    let token = token_of(&state, "harbour@skerry.example", "admin", false).await;
    for operation in operations() {
        let body = || operation.has_body.then(|| ("application/json", "{}".to_owned()));
        for (name, _, _) in operation.parameters.iter().filter(|(_, _, is_number)| *is_number) {
            for value in ["99999999999999999999", "-99999999999999999999", "1.5", "seven", "1e400"] {
                let uri = operation.address(name, value);
                must_refuse(
                    &ask(&state, &token, &operation.method, &uri, body()).await,
                    StatusCode::BAD_REQUEST,
                    &uri,
                );
            }
        }
        for name in ["from", "to"]
            .into_iter()
            .filter(|name| operation.parameters.iter().any(|(own, _, _)| own == name))
        {
            for value in [
                "-262143-01-01T00:00:00Z",
                "%2B262142-12-31T23:59:59Z",
                "0000-01-01T00:00:00Z",
                "yesterday",
            ] {
                let uri = operation.address(name, value);
                must_refuse(
                    &ask(&state, &token, &operation.method, &uri, body()).await,
                    StatusCode::BAD_REQUEST,
                    &uri,
                );
            }
        }
        if operation.parameters.iter().any(|(own, _, _)| own == "since") {
            for value in ["999999999999d", "-1h", "584542046090y", "1e9h"] {
                let uri = operation.address("since", value);
                must_refuse(
                    &ask(&state, &token, &operation.method, &uri, body()).await,
                    StatusCode::BAD_REQUEST,
                    &uri,
                );
            }
        }
        // A failure's report is taken by a sender key; what it answers is tried below.
        if operation.has_body && !operation.path.ends_with("/report") {
            let uri = operation.address("", "");
            let kinds = [
                ("text/plain", "{}".to_owned(), StatusCode::UNSUPPORTED_MEDIA_TYPE),
                ("application/json", "[1, 2".to_owned(), StatusCode::BAD_REQUEST),
                ("application/json", "\"\\ud800\"".to_owned(), StatusCode::BAD_REQUEST),
                ("application/json", "7".to_owned(), StatusCode::BAD_REQUEST),
                (
                    "application/json",
                    format!("[{}]", "[".repeat(5_000)),
                    StatusCode::BAD_REQUEST,
                ),
            ];
            for (kind, body, status) in kinds {
                // CloudEvents come as any type in the protocol's binary mode.
                let status = if uri.ends_with("/cdevents") {
                    StatusCode::BAD_REQUEST
                } else {
                    status
                };
                must_refuse(
                    &ask(&state, &token, &operation.method, &uri, Some((kind, body))).await,
                    status,
                    &format!("{uri} {kind}"),
                );
            }
        }
    }
}

#[tokio::test]
async fn a_method_that_an_address_does_not_take_is_named_and_nothing_is_cached() {
    let (state, _supervisor, _closing) = State::for_tests(|_| {}).await;
    let token = token_of(&state, "harbour@skerry.example", "admin", false).await;
    let all = operations();
    for operation in &all {
        let uri = operation.address("", "");
        let taken: Vec<&Method> = all
            .iter()
            .filter(|other| other.path == operation.path)
            .map(|other| &other.method)
            .collect();
        for method in [Method::GET, Method::PUT, Method::DELETE, Method::PATCH]
            .iter()
            .filter(|method| !taken.contains(method))
        {
            let answer = ask(&state, &token, method, &uri, None).await;
            must_refuse(&answer, StatusCode::METHOD_NOT_ALLOWED, &format!("{method} {uri}"));
            assert!(
                taken.iter().all(|method| answer.allow.contains(method.as_str())),
                "{uri} takes {}",
                answer.allow
            );
        }
    }
    let answer = ask(&state, &token, &Method::GET, "/api/v1/errors", None).await;
    assert_eq!((answer.status, answer.caching.as_str()), (StatusCode::OK, "no-store"));
}

#[tokio::test]
async fn a_report_that_cannot_be_taken_is_refused_in_the_apis_form() {
    let (state, _supervisor, _closing) = State::for_tests(|settings| settings.max_body_bytes = 4_096).await;
    let key = state.key("pier-3", people::keys::Bounds::default()).await;
    let report = async |body: String| {
        ask(
            &state,
            &key,
            &Method::POST,
            "/api/v1/report",
            Some(("application/json", body)),
        )
        .await
    };
    must_refuse(&report("[1, 2".to_owned()).await, StatusCode::BAD_REQUEST, "no JSON");
    must_refuse(
        &report(r#"{"service": "", "message": "x"}"#.to_owned()).await,
        StatusCode::BAD_REQUEST,
        "no service",
    );
    let long = format!(r#"{{"service": "fares", "message": "{}"}}"#, "x".repeat(5_000));
    must_refuse(&report(long).await, StatusCode::PAYLOAD_TOO_LARGE, "too large");
    let taken = report(r#"{"service": "fares", "message": "no\u0000 tariff"}"#.to_owned()).await;
    assert_eq!(
        taken.status,
        StatusCode::OK,
        "NUL is left out of telemetry: {}",
        taken.body
    );
}

#[tokio::test]
async fn what_a_member_may_make_large_is_bounded() {
    let (state, _supervisor, _closing) = State::for_tests(|_| {}).await;
    let token = token_of(&state, "harbour@skerry.example", "engineer", false).await;
    let many: Vec<String> = (0..1_001).map(|_| "kobal-tirun".to_owned()).collect();
    let places: Vec<String> = (0..101).map(|n| format!("app/{n}")).collect();
    let changes = [
        (
            serde_json::json!({ "kind": "join_errors", "error": "kobal-tirun", "with": many }),
            "at most 1000 errors",
        ),
        (
            serde_json::json!({ "kind": "split_off", "error": "kobal-tirun", "causes": vec![1; 1_001] }),
            "at most 1000 causes",
        ),
        (
            serde_json::json!({ "kind": "split_by", "error": "kobal-tirun", "attribute": "a".repeat(501) }),
            "at most 500 bytes",
        ),
        (
            serde_json::json!({ "kind": "own_code", "service": "fares", "own": places }),
            "at most 100 beginnings",
        ),
    ];
    for (change, said) in changes {
        let asked = change["kind"].to_string();
        let answer = ask(
            &state,
            &token,
            &Method::POST,
            "/api/v1/grouping/changes",
            Some(("application/json", change.to_string())),
        )
        .await;
        must_refuse(&answer, StatusCode::BAD_REQUEST, &asked);
        assert!(answer.body.to_string().contains(said), "{asked}: {}", answer.body);
    }
    let slice = serde_json::json!({ "where": format!("type = {}", "a".repeat(4_097)) });
    let answer = ask(
        &state,
        &token,
        &Method::PUT,
        "/api/v1/slices/long",
        Some(("application/json", slice.to_string())),
    )
    .await;
    must_refuse(&answer, StatusCode::BAD_REQUEST, "slice");
}
