//! What a failure, a call, a user and an instance are called: tables of what runtimes and loggers write.

use outcrop_core::failure::endpoint::endpoint;
use outcrop_core::telemetry::names::{
    Identity, MAX_NAME_BYTES, called, host, http_status, identity, instance, is_entry, statement, status, touches, user,
};
use outcrop_core::telemetry::{Attributes, Resource, Span, SpanId, SpanKind, TraceId, Value};
use outcrop_core::{failure_kind, failure_kinds};
use rstest::rstest;

fn attributes(pairs: &[(&str, &str)]) -> Attributes {
    pairs
        .iter()
        .map(|(name, value)| (*name, Value::String((*value).to_owned())))
        .collect()
}

fn span(kind: SpanKind, name: &str, pairs: &[(&str, &str)]) -> Span {
    Span {
        trace_id: TraceId([7; 16]),
        span_id: SpanId(7),
        parent_id: None,
        name: name.to_owned(),
        kind,
        start: None,
        end: None,
        attributes: attributes(pairs),
        events: vec![],
        links: vec![],
        is_error: true,
        status_message: String::new(),
        flags: 0,
        one_in: None,
    }
}

#[rstest]
#[case::python("TimeoutError", "", "timeout")]
#[case::java_by_its_last_name("java.net.SocketTimeoutException", "Read timed out", "timeout")]
#[case::php_by_its_last_name("App\\Http\\TimeoutException", "", "timeout")]
#[case::go_by_its_message("*errors.errorString", "context deadline exceeded", "timeout")]
#[case::node_errno("Error", "connect ECONNREFUSED 127.0.0.1:5432", "connection")]
#[case::python_memory("MemoryError", "", "memory")]
#[case::java_heap("java.lang.OutOfMemoryError", "Java heap space", "memory")]
#[case::ruby_deep("SystemStackError", "stack level too deep", "recursion")]
#[case::refused("PermissionError", "[Errno 13] Permission denied: '/srv/x'", "permission")]
#[case::division("ZeroDivisionError", "division by zero", "arithmetic")]
#[case::java_null("java.lang.NullPointerException", "", "null")]
#[case::node_null("TypeError", "Cannot read properties of undefined (reading 'berth')", "null")]
#[case::python_none("AttributeError", "'NoneType' object has no attribute 'berth'", "null")]
#[case::python_attribute("AttributeError", "'Fare' object has no attribute 'berth'", "missing")]
#[case::a_type_that_is_wrong("TypeError", "unsupported operand type(s) for +: 'int' and 'str'", "type")]
#[case::missing_key("KeyError", "'season'", "missing")]
#[case::the_type_goes_before_the_message("KeyError", "'timeout'", "missing")]
fn a_failure_is_of_the_kind_that_its_type_says_else_its_message(
    #[case] type_name: &str,
    #[case] message: &str,
    #[case] kind: &str,
) {
    assert_eq!(failure_kind(type_name, message), Some(kind));
}

#[test]
fn what_says_nothing_has_no_kind_and_each_kind_is_there_once() {
    assert_eq!(failure_kind("", ""), None);
    assert_eq!(failure_kind("Error", "no tariff for season high"), None);
    let mut kinds: Vec<&str> = failure_kinds().collect();
    let all = kinds.len();
    kinds.sort_unstable();
    kinds.dedup();
    assert_eq!(kinds.len(), all);
}

#[rstest]
#[case::by_its_own_type(&[("error.type", "TariffMissing")], "TariffMissing", "GET /fares ended with TariffMissing")]
#[case::a_number_is_no_type(
    &[("error.type", "500"), ("http.response.status_code", "500")],
    "HTTP 500",
    "GET /fares ended with HTTP 500"
)]
#[case::other_is_no_type(&[("error.type", "_OTHER")], "", "GET /fares ended in error")]
#[case::grpc_by_number(
    &[("rpc.grpc.status_code", "4")],
    "gRPC DEADLINE_EXCEEDED",
    "GET /fares ended with gRPC DEADLINE_EXCEEDED"
)]
#[case::grpc_by_name(
    &[("rpc.response.status_code", "UNAVAILABLE")],
    "gRPC UNAVAILABLE",
    "GET /fares ended with gRPC UNAVAILABLE"
)]
#[case::database(&[("db.response.status_code", "40P01")], "database 40P01", "GET /fares ended with database 40P01")]
#[case::nothing(&[], "", "GET /fares ended in error")]
fn a_span_in_error_says_what_it_ended_with(
    #[case] pairs: &[(&str, &str)],
    #[case] type_name: &str,
    #[case] message: &str,
) {
    let said = status(&span(SpanKind::Server, "GET /fares", pairs));
    assert_eq!(said, (type_name.to_owned(), message.to_owned()));
}

#[test]
fn a_spans_own_words_stand_in_its_message() {
    let mut failed = span(SpanKind::Server, "GET /fares", &[]);
    failed
        .attributes
        .0
        .push(("http.response.status_code".to_owned(), Value::Int(503)));
    failed.status_message = " no berth ".to_owned();
    assert_eq!(
        status(&failed),
        ("HTTP 503".to_owned(), "GET /fares: no berth".to_owned())
    );
}

#[rstest]
#[case::database(
    &[("db.system.name", "postgresql"), ("db.namespace", "fares")],
    Some(("database", "postgresql fares"))
)]
#[case::database_of_older_names(&[("db.system", "mysql"), ("db.name", "berths")], Some(("database", "mysql berths")))]
#[case::queue(
    &[("messaging.system", "rabbitmq"), ("messaging.destination.name", "boarding")],
    Some(("queue", "rabbitmq boarding"))
)]
#[case::queue_without_a_name(&[("messaging.operation", "send")], Some(("queue", "queue GET")))]
#[case::http(
    &[("http.request.method", "GET"), ("server.address", "berths.skerry.example")],
    Some(("http", "berths.skerry.example"))
)]
#[case::by_url(
    &[("url.full", "https://u:p@berths.skerry.example:8443/v1?x=1")],
    Some(("http", "berths.skerry.example:8443"))
)]
#[case::rpc_by_service(&[("rpc.system", "grpc"), ("rpc.service", "skerry.Berths")], Some(("rpc", "skerry.Berths")))]
#[case::nobody(&[("http.request.method", "GET")], None)]
#[case::nothing(&[("skerry.season", "winter")], None)]
fn a_call_is_named_for_what_it_calls(#[case] pairs: &[(&str, &str)], #[case] expected: Option<(&str, &str)>) {
    let expected = expected.map(|(kind, name)| (kind, name.to_owned()));
    assert_eq!(called(SpanKind::Client, "GET", &attributes(pairs)), expected);
}

#[test]
fn only_who_calls_touches_something_and_who_takes_a_message_consumed_it() {
    let of = attributes(&[
        ("messaging.system", "rabbitmq"),
        ("messaging.destination.name", "boarding"),
    ]);
    assert_eq!(touches(SpanKind::Server, &of), None);
    assert_eq!(touches(SpanKind::Producer, &of), Some("queue"));
    assert_eq!(
        called(SpanKind::Consumer, "x", &of),
        Some(("consumed", "rabbitmq boarding".to_owned()))
    );
}

#[rstest]
#[case::values(
    &[("db.query.text", "SELECT fare FROM tariff WHERE id = 42")],
    Some("SELECT fare FROM tariff WHERE id = {n}")
)]
#[case::parameters(
    &[("db.statement", "SELECT fare FROM tariff WHERE id = $1")],
    Some("SELECT fare FROM tariff WHERE id = ?")
)]
#[case::a_summary_goes_first(
    &[("db.query.summary", "SELECT tariff"), ("db.query.text", "SELECT 1")],
    Some("SELECT tariff")
)]
#[case::none(&[("db.system.name", "postgresql")], None)]
#[case::empty(&[("db.query.text", "  ")], None)]
fn a_statement_is_kept_without_its_values(#[case] pairs: &[(&str, &str)], #[case] expected: Option<&str>) {
    assert_eq!(statement(&attributes(pairs)).as_deref(), expected);
}

#[rstest]
#[case::route(&[("http.request.method", "GET"), ("http.route", "/fares/{code}")], "GET /fares/{code}")]
#[case::route_alone(&[("http.route", "/fares/{code}")], "/fares/{code}")]
#[case::rpc(&[("rpc.service", "skerry.Berths"), ("rpc.method", "Take")], "skerry.Berths/Take")]
#[case::rpc_method_alone(&[("rpc.method", "Take")], "Take")]
#[case::its_own_name(&[], "moor")]
fn an_endpoint_is_named_by_its_route_its_method_or_the_span(#[case] pairs: &[(&str, &str)], #[case] expected: &str) {
    assert_eq!(endpoint(&span(SpanKind::Server, "moor", pairs)), expected);
}

#[test]
fn an_endpoint_has_a_name_and_a_bound() {
    assert_eq!(endpoint(&span(SpanKind::Server, "  ", &[])), "(unnamed)");
    assert_eq!(
        endpoint(&span(SpanKind::Server, &"x".repeat(900), &[])).len(),
        MAX_NAME_BYTES
    );
}

#[rstest]
#[case::an_id(&[("service.instance.id", "a"), ("host.name", "pier-3")], "a")]
#[case::host_and_process(&[("host.name", "pier-3"), ("process.pid", "41")], "pier-3/41")]
#[case::a_pod_goes_before_its_host(&[("k8s.pod.uid", "p"), ("host.name", "pier-3")], "p/")]
#[case::nothing(&[], "/")]
fn an_instance_is_told_by_its_id_else_by_where_it_runs(#[case] pairs: &[(&str, &str)], #[case] expected: &str) {
    assert_eq!(
        instance(&Resource {
            attributes: attributes(pairs)
        }),
        expected
    );
}

#[test]
fn a_resource_without_names_is_somebody_too() {
    let nobody = identity(&Resource::default());
    let named = |identity: &Identity| {
        [
            identity.service.clone(),
            identity.version.clone(),
            identity.environment.clone(),
        ]
    };
    assert!(named(&nobody).iter().all(|name| !name.is_empty()), "{nobody:?}");
    let long = "x".repeat(900);
    let resource = Resource {
        attributes: attributes(&[
            ("service.name", &long),
            ("deployment.environment", "staging"),
            ("k8s.node.name", "n1"),
        ]),
    };
    let known = identity(&resource);
    assert_eq!(
        (known.service.len(), known.environment.as_str()),
        (MAX_NAME_BYTES, "staging")
    );
    assert_eq!(host(&resource), Some("n1"));
}

#[rstest]
#[case::an_id_goes_first(&[("username", "bosun"), ("user.id", "u-7")], Some("u-7"))]
#[case::a_loggers_name(&[("userId", "u-8")], Some("u-8"))]
#[case::empty(&[("user.id", "")], None)]
#[case::nobody(&[("skerry.season", "winter")], None)]
fn a_user_is_found_under_the_names_that_are_used(#[case] pairs: &[(&str, &str)], #[case] expected: Option<&str>) {
    assert_eq!(user(&attributes(pairs)).as_deref(), expected);
}

#[rstest]
#[case::today("http.response.status_code", 503, Some(503))]
#[case::older("http.status_code", 404, Some(404))]
#[case::none_at_all("http.response.status_code", 0, None)]
#[case::no_status("http.response.status_code", 7_000, None)]
#[case::negative("http.response.status_code", -1, None)]
fn a_status_is_one_of_https_numbers(#[case] name: &str, #[case] number: i64, #[case] expected: Option<u16>) {
    let sent: Attributes = [(name, Value::Int(number))].into_iter().collect();
    assert_eq!(http_status(&sent), expected);
}

#[rstest]
#[case::served(SpanKind::Server, Some(1), true)]
#[case::taken_from_a_queue(SpanKind::Consumer, Some(1), true)]
#[case::a_run_of_a_job(SpanKind::Internal, None, true)]
#[case::a_step_of_one(SpanKind::Internal, Some(1), false)]
#[case::a_call(SpanKind::Client, None, false)]
#[case::a_message_sent(SpanKind::Producer, None, false)]
fn a_services_work_begins_with_an_entry_span(#[case] kind: SpanKind, #[case] parent: Option<u64>, #[case] entry: bool) {
    let span = Span {
        parent_id: parent.map(SpanId),
        ..span(kind, "x", &[])
    };
    assert_eq!(is_entry(&span), entry);
}

#[test]
fn kinds_of_spans_pass_both_ways_and_what_is_unknown_is_internal() {
    for kind in [
        SpanKind::Internal,
        SpanKind::Server,
        SpanKind::Client,
        SpanKind::Producer,
        SpanKind::Consumer,
    ] {
        assert_eq!(SpanKind::from_otlp(kind.to_otlp()), kind);
    }
    assert_eq!(SpanKind::from_otlp(99), SpanKind::Internal);
    assert_eq!(TraceId::from_bytes(&[0; 16]), None, "the id of nothing");
    assert_eq!(SpanId::from_bytes(&[1, 2]), None, "too short");
    assert_eq!(SpanId::from_bytes(&[0, 0, 0, 0, 0, 0, 0, 9]), Some(SpanId(9)));
}
