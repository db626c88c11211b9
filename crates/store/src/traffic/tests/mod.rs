//! Tests of traffic.

mod reading;

use std::collections::BTreeMap;

use chrono::{TimeDelta, Utc};

use crate::Scope;
use crate::testing::{database, now, number, of, resource, span, spans, store, trace, writer};
use crate::traffic::endpoints::*;
use crate::traffic::fold::*;
use crate::traffic::thresholds::*;

#[test]
fn a_threshold_comes_from_the_nearest_history_there_is() {
    let thresholds = Thresholds {
        endpoints: [(1, (50_000, false)), (2, (70_000, true))].into(),
        services: [(7, 200_000), (FLEET, 300_000)].into(),
    };
    assert_eq!(thresholds.of(7, 1), (50_000, SlowBy::Endpoint));
    assert_eq!(thresholds.of(7, 2), (70_000, SlowBy::Set));
    assert_eq!(thresholds.of(7, 3), (200_000, SlowBy::Service));
    assert_eq!(thresholds.of(8, 3), (300_000, SlowBy::Fleet));
    assert_eq!(Thresholds::default().of(8, 3), (DEFAULT_SLOW_US, SlowBy::Default));
}

#[tokio::test]
async fn a_slow_request_of_a_new_endpoint_is_kept_from_the_first_on() {
    let database = database().await;
    let writer = writer(&database);
    let request = |number: u64, name: &str, millis: i64| {
        let mut request = span(trace(number), number, None, now());
        request.name = name.to_owned();
        request.start = request.end.map(|end| end.plus_millis(-millis));
        request
    };
    let send = async |requests: Vec<outcrop_core::telemetry::Span>| {
        store(&writer, &[spans(vec![of(resource("fares"), requests)], now())]).await;
    };
    let kept = "SELECT count(*) FROM request WHERE marks & 2 = 2";
    // Nothing is known: two seconds.
    send(vec![
        request(1, "GET /v1/piers", 1_900),
        request(2, "GET /v1/piers", 3_200),
    ])
    .await;
    assert_eq!(number(&database, kept).await, 1);
    // The service is: 95 of 100 requests take 100 ms.
    send((10..210).map(|number| request(number, "GET /v1/quotes", 100)).collect()).await;
    while fold(&database).await.unwrap() {}
    set_thresholds(&database, Utc::now()).await.unwrap();
    writer.read_thresholds().await.unwrap();
    send(vec![
        request(300, "GET /v1/berths", 150),
        request(301, "GET /v1/berths", 900),
    ])
    .await;
    assert_eq!(number(&database, kept).await, 2);
    let to = Utc::now() + TimeDelta::minutes(1);
    let scope = Scope {
        service: None,
        environment: None,
        version: None,
        from: to - TimeDelta::hours(1),
        to,
        predicate: None,
    };
    let by: BTreeMap<String, SlowBy> = endpoints(&database, &scope)
        .await
        .unwrap()
        .into_iter()
        .map(|endpoint| (endpoint.name, endpoint.slow.1))
        .collect();
    assert_eq!(by["GET /v1/berths"], SlowBy::Service);
    assert_eq!(by["GET /v1/quotes"], SlowBy::Endpoint);
}
