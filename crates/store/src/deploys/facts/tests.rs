//! Tests of the facts of deploys.

use chrono::{TimeDelta, Utc};

use super::asked::Asked;
use super::read::*;
use crate::Database;
use crate::deploys::{list, record};
use crate::testing::{announced, database, failing, now, of, resource, resource_of, span, spans, store, trace, writer};
use crate::writing::dictionary::causes;

/// Facts of all deploys in the order of their times, asked for together; asked for alone each must have the same.
async fn facts(database: &Database) -> Vec<Facts> {
    let until = Utc::now() + TimeDelta::minutes(1);
    let mut deploys = list(database, (None, None), (until - TimeDelta::days(2), until), 50)
        .await
        .unwrap();
    deploys.reverse();
    let asked: Vec<Asked<'_>> = deploys
        .iter()
        .map(|deploy| Asked {
            deploy,
            before_from: deploy.at - TimeDelta::minutes(30),
            until,
            compared_until: until,
        })
        .collect();
    let together = read(database, &asked).await.unwrap();
    for (one, expected) in asked.iter().zip(&together) {
        assert_eq!(
            format!("{:?}", read(database, &[*one]).await.unwrap()),
            format!("{:?}", [expected])
        );
    }
    together
}

#[tokio::test]
async fn each_deploy_has_its_own_requests_flags_and_endpoints() {
    let database = database().await;
    let start = Utc::now() - TimeDelta::minutes(10);
    record(&database, &announced("2.3.9", start - TimeDelta::minutes(50)))
        .await
        .unwrap();
    record(&database, &announced("2.4.0", start)).await.unwrap();
    let old = resource_of(&[
        ("service.name", "fares"),
        ("service.version", "2.3.9"),
        ("deployment.environment.name", "production"),
    ]);
    let before = crate::from_utc(start - TimeDelta::minutes(5));
    let requests = (1..=20).map(|n| {
        if n % 4 == 0 {
            failing(trace(n), n, None, now(), "no tariff")
        } else {
            span(trace(n), n, None, now())
        }
    });
    let batch = [
        spans(
            vec![of(
                old,
                vec![
                    span(trace(90), 90, None, before),
                    failing(trace(91), 91, None, before, "no ramp"),
                ],
            )],
            now(),
        ),
        spans(vec![of(resource("fares"), requests.collect())], now()),
    ];
    store(&writer(&database), &batch).await;
    let number = async |statement: &'static str| {
        sqlx::query_scalar::<_, i32>(statement)
            .fetch_one(&database.pool)
            .await
            .unwrap()
    };
    let error = number("SELECT id FROM error_group WHERE title LIKE '%no tariff%'").await;
    for (since, withdrawn) in [(1, false), (2, true), (200, false)] {
        sqlx::query(
            "INSERT INTO flag (error_id, service_id, environment_id, kind, version, by_deploy, since, said_at, \
             count, expected, evidence, withdrawn_at) \
             SELECT $1, service_id, (SELECT id FROM environment), 'surging', '2.4.0', true, $2, $2, 5, 1, 9, CASE \
             WHEN $3 THEN now() END FROM error_group WHERE id = $1",
        )
        .bind(error)
        .bind(start + TimeDelta::minutes(since))
        .bind(withdrawn)
        .execute(&database.pool)
        .await
        .unwrap();
    }
    let facts = facts(&database).await;
    let [old, new] = facts.as_slice() else {
        panic!("two deploys: {facts:?}")
    };
    assert_eq!((old.before, old.after), ((0, 0), (2, 1)));
    assert_eq!((new.before, new.after), ((2, 1), (20, 5)));
    assert_eq!(
        new.flags
            .iter()
            .map(|flag| flag.withdrawn_at.is_some())
            .collect::<Vec<_>>(),
        [false, true],
        "none of a time to come"
    );
    assert!(old.flags.is_empty(), "flags go by their version");
    assert_eq!(
        (
            new.whole.before.requests,
            new.whole.after.requests,
            new.whole.before.scatter.blocks
        ),
        (2, 20, 1)
    );
    assert!(new.known_since.is_some_and(|since| since < start));
    let first: Vec<_> = new
        .first_seen
        .iter()
        .map(|error| (error.error_id, error.count))
        .collect();
    assert_eq!(first, [(error, 5)], "the older version's error was seen before");
    let compared: Vec<_> = new
        .endpoints
        .values()
        .map(|both| (both.before.requests, both.after.requests, both.after.failed))
        .collect();
    assert_eq!(compared, [(2, 20, 5)]);
    assert!(
        new.endpoints
            .values()
            .all(|both| both.after.latency.quantile(0.5).is_some())
    );
}

#[tokio::test]
async fn failures_under_the_other_error_since_a_deploy_are_told_of_it_alone() {
    let database = database().await;
    record(&database, &announced("2.4.0", Utc::now() - TimeDelta::minutes(10)))
        .await
        .unwrap();
    record(&database, &announced("2.4.1", Utc::now() + TimeDelta::seconds(30)))
        .await
        .unwrap();
    let send = async |number: u64, message: &str| {
        let batch = [spans(
            vec![of(
                resource("fares"),
                vec![failing(trace(number), number, None, now(), message)],
            )],
            now(),
        )];
        store(&writer(&database), &batch).await;
    };
    send(1, "no tariff").await;
    assert!(facts(&database).await.iter().all(|facts| !facts.has_untold));
    sqlx::query(
        "INSERT INTO error_group (service_id, title, type) SELECT min(id), 'fault', '' FROM service, \
        generate_series(1, $1) GROUP BY generate_series",
    )
    .bind(i32::try_from(causes::MAX_ERRORS).unwrap())
    .execute(&database.pool)
    .await
    .unwrap();
    send(2, "the ramp is up").await;
    let told: Vec<bool> = facts(&database).await.iter().map(|facts| facts.has_untold).collect();
    assert_eq!(told, [true, false], "what was before a deploy says nothing of it");
}
