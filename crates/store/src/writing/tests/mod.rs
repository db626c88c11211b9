//! What is sent is stored and counted, once, whatever it is and however often it comes.

mod limits;

use outcrop_core::telemetry::{LogRecord, Span};
use proptest::prelude::*;
use proptest::strategy::ValueTree;
use proptest::test_runner::TestRunner;

use crate::Database;
use crate::testing::{
    attributes, counted, database, exception, failing, logged, logs, now, number, of, resource, resource_of, span,
    spans, store, trace, writer,
};
use crate::writing::{Outcome, Submission, Writer};

#[tokio::test]
async fn a_log_record_too_old_to_be_taken_is_refused_and_its_neighbours_are_stored() {
    let database = database().await;
    let writer = writer(&database);
    // It names a sender of whom nothing else is taken.
    let old = LogRecord {
        trace_id: Some(trace(7)),
        ..logged(now().plus_millis(-40 * 86_400_000), "from a drawer")
    };
    let request = logs(
        vec![
            of(resource("ledger"), vec![old]),
            of(resource("fares"), vec![logged(now(), "no tariff")]),
        ],
        now(),
    );
    let outcomes = writer.write(&[request.clone(), request]).await.unwrap();
    assert!(
        matches!(&outcomes[0], Outcome::Stored(refused) if refused.count == 1),
        "{outcomes:?}"
    );
    assert_eq!(counted(&database).await, 1);
}

#[tokio::test]
async fn requests_of_a_service_are_the_sum_of_its_endpoints_whenever_they_come() {
    let database = database().await;
    let writer = writer(&database);
    for batch in 0..4_u64 {
        let each = (0..60_u64).map(|n| {
            let number = batch * 60 + n;
            let at = now().plus_millis(-i64::try_from(n % 7).unwrap() * 11_000_000);
            let mut request = if n % 5 == 0 {
                failing(trace(number), number + 1, None, at, "berth 7 is taken")
            } else {
                span(trace(number), number + 1, None, at)
            };
            request.name = format!("GET /berths/{}", n % 3);
            let sender = resource_of(&[
                ("service.name", ["fares", "ledger"][usize::try_from(n % 2).unwrap()]),
                (
                    "service.version",
                    ["2.4.0", "2.5.0"][usize::try_from(batch % 2).unwrap()],
                ),
            ]);
            of(sender, vec![request])
        });
        store(&writer, &[spans(each.collect(), now())]).await;
    }
    for step in ["minute", "hour", "day"] {
        let sums = format!(
            "SELECT service_id, {step}, environment_id, version_id, sum(requests)::bigint, sum(failed)::bigint FROM \
             traffic_{step} GROUP BY 1, 2, 3, 4"
        );
        let statement = format!(
            "SELECT (SELECT count(*) FROM (({sums} EXCEPT SELECT * FROM served_{step}) UNION ALL (SELECT * FROM \
             served_{step} EXCEPT {sums})) different), sum(requests)::bigint, sum(failed)::bigint FROM served_{step}"
        );
        let counts: (i64, i64, i64) = sqlx::query_as(sqlx::AssertSqlSafe(statement))
            .fetch_one(&database.pool)
            .await
            .unwrap();
        assert_eq!(counts, (0, 240, 48), "{step}");
    }
}

#[tokio::test]
async fn a_request_that_makes_the_writer_panic_is_named_unusable_and_its_neighbours_are_stored() {
    let database = database().await;
    let writer = Writer::new(database.clone(), |report| {
        assert!(!report.message.contains("berth 13"), "a fault of ours");
        report.message.clone()
    })
    .keeping_bodies(1_000);
    let request = |berth: u32| {
        logs(
            vec![of(
                resource("berths"),
                vec![logged(now(), &format!("berth {berth} is taken"))],
            )],
            now(),
        )
    };
    let batch: Vec<Submission> = (1..=20).map(request).collect();
    let outcomes = writer.write(&batch).await.unwrap();
    let unusable: Vec<usize> = (0..20)
        .filter(|at| matches!(outcomes[*at], Outcome::Unusable(_)))
        .map(|at| at + 1)
        .collect();
    assert_eq!((unusable, counted(&database).await), (vec![13], 19));
    store(&writer, &[request(21)]).await;
    assert_eq!(counted(&database).await, 20, "the writer goes on");
}

#[tokio::test]
async fn every_exception_of_a_crowded_span_is_counted_once_though_few_have_a_row() {
    let database = database().await;
    let writer = writer(&database);
    let at = now();
    let crowded = || {
        let events = (0..5_000)
            .map(|n| exception(at.plus_millis(-(n % 50)), &format!("berth {n} is taken")))
            .collect();
        Span {
            events,
            is_error: true,
            ..span(trace(1), 1, None, at)
        }
    };
    store(&writer, &[spans(vec![of(resource("berths"), vec![crowded()])], at)]).await;
    let rows = number(&database, "SELECT count(*) FROM occurrence").await;
    assert_eq!((counted(&database).await, rows), (5_000, 128));
    assert_eq!(number(&database, "SELECT sum(n)::bigint FROM sighted").await, 5_000);
    assert_eq!(
        number(&database, "SELECT n FROM limit_reached WHERE what = 'failures in full'").await,
        5_000 - 128
    );
    // A collector that batches anew sends the same span in another body.
    store(
        &writer,
        &[spans(
            vec![of(resource("berths"), vec![span(trace(2), 9, None, at), crowded()])],
            at,
        )],
    )
    .await;
    assert_eq!(counted(&database).await, 5_000);
}

#[tokio::test]
async fn the_state_of_a_trace_stays_flat_and_what_comes_again_counts_nothing() {
    let database = database().await;
    let writer = writer(&database);
    let at = now();
    let request = |number: u64| {
        let failing = (0..500)
            .map(|n| {
                failing(
                    trace(7),
                    number * 500 + n + 2,
                    Some(1),
                    at,
                    &format!("item {number}-{n}"),
                )
            })
            .collect();
        spans(vec![of(resource("ledger"), failing)], at)
    };
    let mut sizes = vec![];
    for number in 0..8 {
        store(&writer, &[request(number)]).await;
        sizes.push(self::number(&database, "SELECT max(length(state))::bigint FROM failing").await);
    }
    assert_eq!(counted(&database).await, 4_000);
    // Reports up to 1,000 and spans up to 5,000 are remembered.
    assert!(sizes[7] < 400_000, "{sizes:?}");
    for number in [0, 3, 7] {
        store(&writer, &[request(number)]).await;
    }
    assert_eq!(counted(&database).await, 4_000, "sent again in other bodies");
    assert_eq!(
        number(
            &database,
            "SELECT n FROM limit_reached WHERE what = 'failures in trace'"
        )
        .await,
        3_000
    );
}

#[tokio::test]
async fn an_untraced_report_that_pairing_has_forgotten_is_counted_once() {
    let database = database().await;
    let writer = writer(&database);
    let at = now();
    let record = |n: i64| logged(at.plus_millis(n), "no berth");
    store(
        &writer,
        &[logs(vec![of(resource("berths"), (0..900).map(record).collect())], at)],
    )
    .await;
    assert_eq!(counted(&database).await, 900);
    // The same reports, batched anew: the first 388 are not remembered any more.
    for part in [0..450, 300..900, 0..901] {
        store(
            &writer,
            &[logs(vec![of(resource("berths"), part.map(record).collect())], at)],
        )
        .await;
    }
    assert_eq!(counted(&database).await, 901);
}

#[tokio::test]
async fn a_report_that_was_part_of_another_changes_nothing_when_its_state_is_gone() {
    let database = database().await;
    let writer = writer(&database);
    // Of two hours ago, by event time and by reception.
    let at = now().plus_millis(-2 * 3_600_000 - 600_000);
    let inner = || failing(trace(3), 2, Some(1), at, "no tariff");
    let outer = || failing(trace(3), 1, None, at.plus_millis(2), "no tariff");
    store(
        &writer,
        &[spans(vec![of(resource("fares"), vec![inner(), outer()])], at)],
    )
    .await;
    assert_eq!(
        (
            counted(&database).await,
            number(&database, "SELECT count(*) FROM also_reported").await
        ),
        (1, 1)
    );
    sqlx::query("DELETE FROM failing")
        .execute(&database.pool)
        .await
        .unwrap();
    store(&writer, &[spans(vec![of(resource("fares"), vec![outer()])], now())]).await;
    store(&writer, &[spans(vec![of(resource("fares"), vec![inner()])], now())]).await;
    assert_eq!(counted(&database).await, 1);
}

#[tokio::test]
async fn a_body_refused_under_one_key_is_taken_under_another() {
    let receipts = [1, 2].map(|key| Submission::receipt_of(key, "logs", b"{}"));
    assert_ne!(receipts[0], receipts[1]);
    assert_ne!(receipts[0], Submission::receipt_of(1, "traces", b"{}"));
}

#[tokio::test]
async fn times_outside_the_accepted_window_get_no_partition() {
    let database = database().await;
    let writer = writer(&database);
    let good = logs(vec![of(resource("fares"), vec![logged(now(), "no tariff")])], now());
    // Found by a release with other rules, or by a fault of ours: its event time is in 40 days.
    let mut wrong = logs(
        vec![of(
            resource("fares"),
            vec![logged(now().plus_millis(40 * 86_400_000), "from the future")],
        )],
        now().plus_millis(40 * 86_400_000),
    );
    wrong.received = now();
    let outcomes = writer.write(&[wrong, good]).await.unwrap();
    assert!(
        matches!(&outcomes[..], [Outcome::Unusable(_), Outcome::Stored(_)]),
        "{outcomes:?}"
    );
    let days = number(
        &database,
        "SELECT count(*) FROM pg_inherits WHERE inhparent = 'occurrence'::regclass",
    )
    .await;
    assert_eq!((days, counted(&database).await), (1, 1));
}

#[tokio::test]
async fn sums_of_calls_stop_growing_before_they_overflow() {
    let database = database().await;
    let writer = writer(&database);
    let at = now();
    let call = |n: u64| {
        let mut call = span(trace(n), n + 1, Some(1), at);
        call.kind = outcrop_core::telemetry::SpanKind::Client;
        call.attributes = attributes(&[("db.system.name", "postgresql"), ("db.namespace", "fares")]);
        (call.start, call.one_in) = (Some(at.plus_millis(-29 * 86_400_000)), Some(1_000_000.0));
        spans(vec![of(resource("fares"), vec![call])], at)
    };
    for n in 0..8 {
        store(&writer, &[call(n)]).await;
    }
    let (total,): (i64,) = sqlx::query_as("SELECT total_us FROM called_day")
        .fetch_one(&database.pool)
        .await
        .unwrap();
    assert!(total > 8_000_000_000_000_000_000, "{total}");
}

/// What is counted of a cause in an environment and version, and what its rows say.
async fn recount(database: &Database) -> Vec<(i64, i64, i64, i64, bool, bool)> {
    sqlx::query_as(
        "SELECT s.cause_id, s.n, (SELECT sum(n)::bigint FROM tally_minute t WHERE t.cause_id = s.cause_id), \
         count(o.id), \
             s.first_at = min(id_time(o.id)), s.last_at = max(id_time(o.id)) \
         FROM sighted s LEFT JOIN occurrence o USING (cause_id, environment_id, version_id) GROUP BY s.cause_id, s.n, \
         s.first_at, s.last_at ORDER BY 1",
    )
    .fetch_all(&database.pool)
    .await
    .unwrap()
}

#[tokio::test]
async fn whatever_is_taken_back_and_restored_the_counters_equal_a_recount() {
    let database = database().await;
    let writer = writer(&database);
    let at = now().plus_millis(-3_600_000);
    let parts = |number: u64| {
        let fares = resource("fares");
        let record = |span: u64, after: i64| LogRecord {
            trace_id: Some(trace(number)),
            span_id: Some(outcrop_core::telemetry::SpanId(span)),
            flags: 1,
            ..logged(
                at.plus_millis(i64::try_from(number).unwrap() * 1_000 + after),
                "no tariff",
            )
        };
        let at = at.plus_millis(i64::try_from(number).unwrap() * 1_000);
        vec![
            spans(
                vec![of(
                    fares.clone(),
                    vec![failing(trace(number), 3, Some(2), at, "no tariff")],
                )],
                at,
            ),
            spans(
                vec![of(
                    fares.clone(),
                    vec![failing(trace(number), 2, Some(1), at.plus_millis(1), "no tariff")],
                )],
                at,
            ),
            spans(
                vec![of(
                    fares.clone(),
                    vec![failing(
                        trace(number),
                        1,
                        None,
                        at.plus_millis(2),
                        "the quote failed: no tariff",
                    )],
                )],
                at,
            ),
            logs(vec![of(fares.clone(), vec![record(1, 3), record(3, 1)])], at),
            logs(vec![of(fares, vec![logged(at.plus_millis(4), "no tariff")])], at),
        ]
    };
    let mut runner = TestRunner::deterministic();
    for round in 0..12_u64 {
        let all: Vec<Submission> = (0..3).flat_map(|trace| parts(round * 3 + trace)).collect();
        let shuffled = Just(all).prop_shuffle().new_tree(&mut runner).unwrap().current();
        for batch in shuffled.chunks(1 + usize::try_from(round).unwrap() % 4) {
            store(&writer, batch).await;
        }
        for (cause, sighted, tallied, rows, is_first, is_last) in recount(&database).await {
            assert_eq!(
                (sighted, tallied, is_first, is_last),
                (rows, rows, true, true),
                "cause {cause} in round {round}"
            );
        }
        let expected = i64::try_from((round + 1) * 3).unwrap();
        assert_eq!(
            counted(&database).await,
            expected,
            "one failure per trace, in round {round}"
        );
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn writers_with_the_same_keys_in_opposite_order_never_wait_for_each_other_in_a_circle() {
    let database = database().await;
    let requests = |backwards: bool| -> Vec<Submission> {
        let mut services: Vec<u64> = (0..40).collect();
        if backwards {
            services.reverse();
        }
        let mut all = vec![];
        for round in 0..6 {
            let of_service = |service: &u64| {
                let number = round * 100 + service * 2 + u64::from(backwards) + 10_000;
                let spans = vec![failing(
                    trace(number),
                    number,
                    None,
                    now(),
                    &format!("fault {}", service % 7),
                )];
                of(resource(&format!("service-{service}")), spans)
            };
            all.push(spans(services.iter().map(of_service).collect(), now()));
        }
        all
    };
    let tasks = [false, true].map(|backwards| {
        let (database, requests) = (database.clone(), requests(backwards));
        tokio::spawn(async move {
            let writer = writer(&database);
            for request in requests {
                store(&writer, &[request]).await;
            }
        })
    });
    for task in tasks {
        task.await.unwrap();
    }
    assert_eq!(counted(&database).await, 2 * 6 * 40);
}
