//! What is past a limit is counted together, and how much the writer does at once is bounded.

use rstest::rstest;

use crate::StoreError;
use crate::testing::{
    counted, database, failing, now, number, of, resource, resource_of, span, spans, store, trace, writer,
};

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
    .bind(i32::try_from(crate::writing::dictionary::causes::MAX_ERRORS).unwrap())
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
