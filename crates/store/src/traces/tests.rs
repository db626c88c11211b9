//! Tests of traces.

use chrono::{TimeDelta, Utc};
use outcrop_core::trace::Chunk;
use sqlx::AssertSqlSafe;
use uuid::Uuid;

use super::chunks::*;
use super::drain::*;
use super::hot::*;
use super::read::*;
use crate::testing::{database, failing, now, number, of, resource, span, spans, store, trace, writer};

#[tokio::test]
async fn a_hot_table_is_drained_in_steps_and_what_interrupts_it_loses_nothing() {
    let database = database().await;
    let writer = writer(&database);
    let send = async |number: u64| {
        let batch = [spans(
            vec![of(
                resource("fares"),
                vec![
                    failing(trace(number), 1, None, now(), "no tariff"),
                    span(trace(number + 1_000), 2, None, now()),
                ],
            )],
            now(),
        )];
        store(&writer, &batch).await;
    };
    for number in 0..30 {
        send(number).await;
    }
    let later = Utc::now() + TimeDelta::hours(2);
    // A reader keeps the table from being dropped: what was moved stays moved, and nothing is there twice.
    let table = hot_name(slot(Utc::now()));
    let mut reader = database.pool.begin().await.unwrap();
    sqlx::query(AssertSqlSafe(format!("SELECT count(*) FROM {table}")))
        .execute(&mut *reader)
        .await
        .unwrap();
    assert!(drain(&database, later, true).await.is_err());
    assert_eq!(number(&database, "SELECT count(*) FROM kept_chunk").await, 30);
    let trace_now = read(&database, trace(7).0).await.unwrap().unwrap();
    assert_eq!((trace_now.chunks.len(), trace_now.is_kept), (1, true));
    reader.rollback().await.unwrap();
    assert_eq!(drain(&database, later, true).await.unwrap(), 1);
    assert_eq!(number(&database, "SELECT count(*) FROM hot_table").await, 0);
    assert!(
        read(&database, trace(1_007).0).await.unwrap().is_none(),
        "what nothing keeps is gone"
    );
    assert_eq!(drain(&database, later, true).await.unwrap(), 0);
}

#[tokio::test]
async fn a_trace_of_very_many_spans_is_read_up_to_a_limit_that_is_said() {
    let database = database().await;
    let writer = writer(&database);
    for request in 0..7 {
        let many = (0..10_000)
            .map(|n| span(trace(5), request * 10_000 + n + 1, Some(1), now()))
            .collect();
        store(&writer, &[spans(vec![of(resource("fares"), many)], now())]).await;
    }
    let read_trace = read(&database, trace(5).0).await.unwrap().unwrap();
    let spans: usize = read_trace.chunks.iter().map(|chunk| chunk.spans.len()).sum();
    assert!(read_trace.is_cut);
    assert_eq!(i64::try_from(spans).unwrap(), MAX_SPANS);
    let (all, is_cut) = read_all(&database, &[Uuid::from_bytes(trace(5).0)]).await.unwrap();
    assert!(is_cut);
    assert_eq!(
        all.values().flatten().map(|chunk| chunk.spans.len()).sum::<usize>(),
        spans
    );
}

#[test]
fn chunks_are_stripped_of_all_that_origins_do_not_need() {
    let mut chunk = Chunk::decode(
        &spans(
            vec![of(
                resource("fares"),
                vec![failing(trace(1), 1, None, now(), "no tariff")],
            )],
            now(),
        )
        .found
        .chunks[0]
            .body,
    )
    .unwrap();
    let before = weight(&chunk);
    without_details(&mut chunk);
    assert!(weight(&chunk) < before && chunk.spans[0].events.len() == 1);
    assert!(chunk.spans[0].attributes.is_empty() && chunk.resource.is_empty());
}
