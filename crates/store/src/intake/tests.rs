//! What is sent is stored and counted, once, whatever it is and however often it comes.

use outcrop_core::telemetry::{LogRecord, Span};
use proptest::prelude::*;
use proptest::strategy::ValueTree;
use proptest::test_runner::TestRunner;
use rstest::rstest;

use super::{Outcome, Submission, Writer};
use crate::testing::{
    attributes, counted, database, exception, failing, logged, logs, now, number, of, resource, resource_of, span,
    spans, store, trace, writer,
};
use crate::{Database, StoreError};

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

#[rstest]
#[case::services(5_000, 2_001, "SELECT count(*) FROM service", "services")]
#[case::environments(1_000, 501, "SELECT count(*) FROM environment", "environments")]
#[case::versions(3_000, 2_001, "SELECT count(*) FROM version", "versions")]
#[case::instances(12_000, 10_001, "SELECT count(*) FROM instance", "instances")]
#[tokio::test]
async fn names_past_their_limit_are_counted_together(
    #[case] sent: usize,
    #[case] kept: i64,
    #[case] counting: &'static str,
    #[case] what: &'static str,
) {
    let database = database().await;
    let writer = writer(&database);
    let group = |n: usize| {
        let name = format!("{what}-{n}");
        let of_case = |case: &str, otherwise: &'static str| {
            if what == case {
                name.clone()
            } else {
                otherwise.to_owned()
            }
        };
        let resource = resource_of(&[
            ("service.name", &of_case("services", "fares")),
            ("deployment.environment.name", &of_case("environments", "production")),
            ("service.version", &of_case("versions", "2.4.0")),
            ("service.instance.id", &of_case("instances", "pier-3")),
        ]);
        of(resource, vec![span(trace(n as u64), n as u64 + 1, None, now())])
    };
    store(&writer, &[spans((0..sent).map(group).collect(), now())]).await;
    assert_eq!(number(&database, counting).await, kept);
    let requests = number(&database, "SELECT sum(requests)::bigint FROM traffic_day").await;
    assert_eq!(requests, i64::try_from(sent).unwrap(), "nothing is lost");
    let reached: Vec<(String,)> = sqlx::query_as("SELECT DISTINCT what FROM limit_reached")
        .fetch_all(&database.pool)
        .await
        .unwrap();
    assert_eq!(reached, [(what.to_owned(),)]);
}

#[tokio::test]
async fn a_new_endpoint_gets_its_own_row_after_a_restart_and_past_the_limit_it_is_another() {
    let database = database().await;
    let endpoint = |n: u64| {
        let mut request = span(trace(n), n + 1, None, now());
        request.name = format!("GET /v1/{n}");
        request
    };
    let send = async |range: std::ops::Range<u64>| {
        store(
            &writer(&database),
            &[spans(vec![of(resource("fares"), range.map(endpoint).collect())], now())],
        )
        .await;
    };
    send(0..1_500).await;
    // Each is a new process: it knows nothing of what is stored.
    send(0..1_500).await;
    send(1_500..1_501).await;
    assert_eq!(number(&database, "SELECT count(*) FROM endpoint").await, 1_501);
    send(1_501..2_600).await;
    assert_eq!(number(&database, "SELECT count(*) FROM endpoint").await, 2_001);
    assert_eq!(
        number(
            &database,
            "SELECT sum(requests)::bigint FROM traffic_day JOIN endpoint ON endpoint.id = endpoint_id WHERE name = \
             '(other endpoints)'"
        )
        .await,
        600
    );
    // Names that nobody uses make room.
    sqlx::query("UPDATE endpoint SET used_day = used_day - 40 WHERE name < 'GET /v1/5'")
        .execute(&database.pool)
        .await
        .unwrap();
    send(9_000..9_010).await;
    assert_eq!(
        number(
            &database,
            "SELECT count(*) FROM endpoint WHERE name LIKE 'GET /v1/90__'"
        )
        .await,
        10
    );
}

#[tokio::test]
async fn an_error_past_the_limit_is_counted_under_the_services_other_error() {
    let database = database().await;
    let writer = writer(&database);
    let request = |message: &str| {
        spans(
            vec![of(
                resource("fares"),
                vec![failing(
                    trace(9),
                    u64::from(message.as_bytes()[0]),
                    None,
                    now(),
                    message,
                )],
            )],
            now(),
        )
    };
    store(&writer, &[request("a first fault")]).await;
    sqlx::query(
        "INSERT INTO error_group (service_id, title, type) SELECT min(id), 'fault', '' FROM service, \
        generate_series(1, $1) GROUP BY generate_series",
    )
    .bind(i32::try_from(crate::causes::MAX_ERRORS).unwrap())
    .execute(&database.pool)
    .await
    .unwrap();
    store(
        &writer,
        &[
            request("berth closed"),
            request("crane stuck"),
            request("a first fault again"),
        ],
    )
    .await;
    let (title, n): (String, i64) = sqlx::query_as(
        "SELECT title, sum(n)::bigint FROM sighted JOIN cause ON cause.id = cause_id JOIN error_group e ON e.id = \
         error_id WHERE title LIKE '(%' GROUP BY 1",
    )
    .fetch_one(&database.pool)
    .await
    .unwrap();
    assert_eq!((title.as_str(), n, counted(&database).await), ("(other errors)", 3, 4));
}

#[tokio::test]
async fn a_statement_that_takes_too_long_is_tried_with_less_at_once() {
    let database = database().await;
    let mut connection = database.writing.acquire().await.unwrap();
    sqlx::query("SET statement_timeout = '20ms'")
        .execute(&mut *connection)
        .await
        .unwrap();
    let error = StoreError::from(
        sqlx::query("SELECT pg_sleep(9)")
            .execute(&mut *connection)
            .await
            .unwrap_err(),
    );
    assert!(
        matches!(error, StoreError::TooLong(_)) && error.is_temporary(),
        "{error}"
    );
}

/// Counts the statements that each thread sends to a database. Set for the whole process: one that
/// is set for a thread alone misses statements whose call sites another test's thread meets first.
struct Statements;

thread_local! {
    static STATEMENTS: std::cell::Cell<usize> = const { std::cell::Cell::new(0) };
}

impl tracing::Subscriber for Statements {
    fn enabled(&self, metadata: &tracing::Metadata<'_>) -> bool {
        metadata.target() == "sqlx::query"
    }

    fn new_span(&self, _: &tracing::span::Attributes<'_>) -> tracing::span::Id {
        tracing::span::Id::from_u64(1)
    }

    fn record(&self, _: &tracing::span::Id, _: &tracing::span::Record<'_>) {}

    fn record_follows_from(&self, _: &tracing::span::Id, _: &tracing::span::Id) {}

    fn event(&self, _: &tracing::Event<'_>) {
        STATEMENTS.set(STATEMENTS.get() + 1);
    }

    fn enter(&self, _: &tracing::span::Id) {}

    fn exit(&self, _: &tracing::span::Id) {}
}

#[tokio::test]
async fn a_batch_makes_as_many_round_trips_however_many_names_it_holds() {
    let database = database().await;
    tracing::subscriber::set_global_default(Statements).unwrap();
    let mut counts = vec![];
    for (round, names) in [(0_u64, 2_u64), (1, 600)] {
        let group = |n: u64| {
            let number = round * 10_000 + n;
            let name = format!("service-{round}-{n}");
            let resource = resource_of(&[
                ("service.name", &name),
                ("service.version", &name),
                ("deployment.environment.name", &format!("e-{}", n % 200)),
            ]);
            let mut call = failing(trace(number), number + 1, None, now(), &format!("fault {number}"));
            call.name = format!("GET /v1/{number}");
            of(resource, vec![call])
        };
        let writer = writer(&database);
        writer.prepare(now()).await.unwrap();
        let request = spans((0..names).map(group).collect(), now());
        let before = STATEMENTS.get();
        store(&writer, &[request]).await;
        counts.push(STATEMENTS.get() - before);
    }
    assert!(counts[0] > 10, "statements are counted: {counts:?}");
    assert!(counts[1] <= counts[0] + 4, "{counts:?}");
}

#[tokio::test]
async fn two_processes_that_meet_the_same_new_names_at_once_make_each_once() {
    let database = database().await;
    let request = |number: u64| {
        let group = |n: u64| {
            of(
                resource(&format!("service-{n}")),
                vec![failing(
                    trace(number * 100 + n),
                    number * 100 + n + 1,
                    None,
                    now(),
                    "no berth",
                )],
            )
        };
        spans((0..50).map(group).collect(), now())
    };
    let tasks = [1, 2, 3].map(|number| {
        let database = database.clone();
        tokio::spawn(async move { store(&writer(&database), &[request(number)]).await })
    });
    for task in tasks {
        task.await.unwrap();
    }
    for (counting, expected) in [
        ("SELECT count(*) FROM service", 50),
        (
            "SELECT count(*) FROM cause WHERE id IN (SELECT cause_id FROM sighted)",
            50,
        ),
        ("SELECT count(*) FROM version", 50),
    ] {
        assert_eq!(number(&database, counting).await, expected, "{counting}");
    }
    assert_eq!(counted(&database).await, 150);
}
