//! What is kept of a log line, and what an entry is named.

use outcrop_core::failure::endpoint;
use outcrop_core::failure::find_in_logs;
use outcrop_core::telemetry::{Attributes, LogRecord, Span, SpanKind, Value};
use rstest::rstest;

use crate::bounds::{NOW, limits, of, resource, span};

/// The message and template kept of what a record says.
fn kept(said: &str) -> (String, String) {
    let record = LogRecord {
        time: Some(NOW),
        body: Value::String(said.to_owned()),
        ..LogRecord::default()
    };
    let mut found = find_in_logs(vec![of(resource("fares", "pier-3"), vec![record])], limits());
    let line = found.lines.remove(0);
    (line.message, line.template)
}

#[rstest]
#[case::colours("\u{1b}[1;31mERROR\u{1b}[0m no berth", "ERROR no berth")]
#[case::cut_off_within("no berth \u{1b}[3", "no berth ")]
#[case::a_lone_escape("no\u{1b} berth", "no berth")]
#[case::none("fares [31m of it", "fares [31m of it")]
fn a_line_is_kept_without_the_colours_of_a_terminal(#[case] said: &str, #[case] message: &str) {
    assert_eq!(kept(said).0, message);
}

#[test]
fn lines_of_an_access_log_differ_by_their_status() {
    let of_status = |status: u16, bytes: u32| {
        kept(&format!(r#"198.51.100.7 - - [29/Nov/2026:12:00:00 +0000] "GET /fares/{bytes} HTTP/1.1" {status} {bytes} "-" "probe/2""#)).1
    };
    assert_eq!(of_status(200, 17), of_status(200, 3_114));
    assert_ne!(of_status(200, 17), of_status(500, 17));
}

#[rstest]
#[case::no_route_by_method("GET", 404, &[("url.path", "/wp/setup.php")], "GET (no route)")]
#[case::no_route_by_path("POST /wp/setup.php", 405, &[("http.target", "/wp/setup.php?x=1")], "POST (no route)")]
#[case::a_named_request("GET fares by code", 404, &[("url.path", "/fares/7")], "GET fares by code")]
#[case::a_route("GET", 404, &[("http.route", "/fares/{code}"), ("url.path", "/fares/7")], "GET /fares/{code}")]
#[case::an_answer("GET /fares", 200, &[("url.path", "/fares")], "GET /fares")]
fn requests_that_no_route_took_are_one_endpoint(
    #[case] name: &str,
    #[case] status: i64,
    #[case] said: &[(&str, &str)],
    #[case] endpoint: &str,
) {
    let method = name.split(' ').next().unwrap_or_default();
    let texts = said
        .iter()
        .copied()
        .chain([("http.request.method", method)])
        .map(|(name, value)| (name, Value::String(value.to_owned())));
    let attributes: Attributes = texts
        .chain([("http.response.status_code", Value::Int(status))])
        .collect();
    let span = Span {
        name: name.to_owned(),
        kind: SpanKind::Server,
        attributes,
        ..span(1, NOW, vec![])
    };
    assert_eq!(endpoint::endpoint(&span), endpoint);
}
