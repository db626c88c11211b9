//! What browsers are sent: the console's files, and answers as small as they take them.

use actix_web::http::StatusCode;
use actix_web::http::header::{ACCEPT_ENCODING, AUTHORIZATION, HeaderMap, IF_NONE_MATCH};
use actix_web::test::{TestRequest, call_service, init_service, read_body};
use actix_web::{App, web};

use super::reading::fleet;
use crate::state::State;

/// Answers as the service does; the body as it travels.
async fn sent(state: &State, request: TestRequest) -> (StatusCode, HeaderMap, web::Bytes) {
    let app = init_service(
        App::new()
            .app_data(web::Data::new(state.clone()))
            .configure(crate::routes::everything),
    )
    .await;
    let answer = call_service(&app, request.to_request()).await;
    let (status, headers) = (answer.status(), answer.headers().clone());
    (status, headers, read_body(answer).await)
}

fn get(path: &str, taken: &str) -> TestRequest {
    TestRequest::get().uri(path).insert_header((ACCEPT_ENCODING, taken))
}

fn header<'h>(headers: &'h HeaderMap, name: &str) -> &'h str {
    headers.get(name).map_or("", |value| value.to_str().unwrap())
}

#[tokio::test]
async fn files_travel_compressed_where_that_is_taken_and_are_asked_for_once() {
    let (state, _supervisor, _closing) = State::for_tests(|_| {}).await;
    let (status, headers, page) = sent(&state, get("/errors/kobal-tirun", "br")).await;
    assert_eq!(
        (status, header(&headers, "cache-control")),
        (StatusCode::OK, "no-cache")
    );
    let page = std::str::from_utf8(&page).expect("a page this small is sent as it is");
    let script = page
        .split('"')
        .find(|text| text.starts_with("/assets/index-"))
        .expect("script/console has built the console");
    let (_, headers, whole) = sent(&state, get(script, "identity")).await;
    assert_eq!(header(&headers, "content-encoding"), "");
    assert!(header(&headers, "cache-control").contains("immutable"));
    let mut tags = vec![header(&headers, "etag").to_owned()];
    for (taken, encoding) in [
        ("gzip, deflate, br, zstd", "br"),
        ("gzip", "gzip"),
        ("br;q=0, gzip;q=0.5", "gzip"),
        ("GZIP", "gzip"),
    ] {
        let (_, headers, body) = sent(&state, get(script, taken)).await;
        assert_eq!(header(&headers, "content-encoding"), encoding, "{taken}");
        assert_eq!(header(&headers, "vary"), "accept-encoding");
        assert!(
            body.len() * 2 < whole.len(),
            "{taken}: {} of {}",
            body.len(),
            whole.len()
        );
        tags.push(header(&headers, "etag").to_owned());
        let again = get(script, taken).insert_header((IF_NONE_MATCH, header(&headers, "etag")));
        assert_eq!(sent(&state, again).await.0, StatusCode::NOT_MODIFIED);
    }
    tags.sort();
    tags.dedup();
    assert_eq!(tags.len(), 3, "each form has its own tag");
    assert_eq!(
        sent(&state, get(&format!("{script}.br"), "br")).await.0,
        StatusCode::NOT_FOUND
    );
    // Its name holds no hash of its content.
    let (_, headers, _) = sent(&state, get("/mark.svg", "")).await;
    assert_eq!(header(&headers, "cache-control"), "no-cache");
}

#[tokio::test]
async fn answers_travel_compressed_and_live_news_do_not() {
    let (state, _supervisor, _closing) = State::for_tests(|_| {}).await;
    let token = fleet(&state).await;
    let asked = |path: &str| get(path, "gzip").insert_header((AUTHORIZATION, format!("Bearer {token}")));
    let (_, headers, body) = sent(&state, asked("/api/v1/errors?strip=48")).await;
    assert_eq!(header(&headers, "content-encoding"), "gzip");
    assert_eq!(&body[..2], [0x1f, 0x8b]);
    let app = init_service(
        App::new()
            .app_data(web::Data::new(state.clone()))
            .configure(crate::routes::everything),
    )
    .await;
    let live = call_service(&app, asked("/api/v1/live").to_request()).await;
    assert_eq!(live.status(), StatusCode::OK);
    assert!(!matches!(header(live.headers(), "content-encoding"), "gzip" | "br"));
}

#[tokio::test]
async fn the_console_is_served_with_a_policy_that_lets_nothing_in() {
    let (state, _supervisor, _closing) = State::for_tests(|_| {}).await;
    for path in ["/", "/errors/kobal-tirun", "/sign-in"] {
        let (_, headers, page) = sent(&state, get(path, "identity")).await;
        let policy = header(&headers, "content-security-policy");
        for part in [
            "default-src 'none'",
            "script-src 'self'",
            "base-uri 'none'",
            "form-action 'self'",
        ] {
            assert!(policy.split("; ").any(|one| one.trim() == part), "{part} in {policy}");
        }
        assert!(policy.contains("frame-ancestors 'none'"), "{policy}");
        assert!(!policy.contains("unsafe-eval") && !policy.contains("http"), "{policy}");
        assert_eq!(header(&headers, "x-content-type-options"), "nosniff");
        assert_eq!(header(&headers, "referrer-policy"), "same-origin");
        let page = std::str::from_utf8(&page).unwrap();
        // A script without an address would need the policy to let inline scripts through.
        assert_eq!(
            page.matches("<script").count(),
            page.matches("<script type=\"module\" crossorigin src=").count()
        );
    }
}
