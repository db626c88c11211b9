//! Tests of flags.

use chrono::{DateTime, DurationRound, TimeDelta, Utc};
use outcrop_core::deploy::{Measured, Minute};

use super::watch::*;
use crate::Database;
use crate::deploys::records::*;
use crate::flags::disturbed;
use crate::testing::{announced, database, failing, of, resource, span, spans, store, trace, writer};

#[tokio::test]
async fn a_deploy_is_found_by_its_version_and_recorded_once_per_time() {
    let database = database().await;
    let start = Utc::now() - TimeDelta::minutes(10);
    record(&database, &announced("2.4.0", start)).await.unwrap();
    let deploy = of_version(&database, "fares", "2.4.0", "production")
        .await
        .unwrap()
        .unwrap();
    assert!(deploy.announced && deploy.version == "2.4.0", "{deploy:?}");
    assert!(
        of_version(&database, "fares", "2.4.1", "production")
            .await
            .unwrap()
            .is_none()
    );
    assert!(
        of_version(&database, "nobody", "2.4.0", "production")
            .await
            .unwrap()
            .is_none()
    );
    // Said again of the same time, the last word holds.
    record(
        &database,
        &NewDeploy {
            link: "https://ci.skerry.example/7".to_owned(),
            ..announced("2.4.0", start)
        },
    )
    .await
    .unwrap();
    let window = (start - TimeDelta::hours(1), Utc::now());
    let listed = list(&database, (Some("fares"), None), window, 10).await.unwrap();
    assert_eq!(
        listed.iter().map(|deploy| deploy.link.as_str()).collect::<Vec<_>>(),
        ["https://ci.skerry.example/7"]
    );
}

#[test]
fn data_that_is_late_again_and_again_has_the_past_told_ever_more_rarely() {
    let looks: Vec<Minute> = std::iter::successors(Some(0), |last| Some(next_look(*last, true)))
        .take(9)
        .collect();
    assert_eq!(looks, [0, 1, 2, 4, 8, 16, 32, 60, 60]);
    assert_eq!(next_look(60, false), 1);
}

/// Three days of a service: requests every hour, one of them failing as it always did, and a
/// new failure in the last minutes.
async fn three_days(database: &Database) -> DateTime<Utc> {
    let now = Utc::now();
    let writer = writer(database);
    for hour in (1..72).rev() {
        let at = crate::from_utc(now - TimeDelta::hours(hour));
        let id = u64::try_from(hour).unwrap() * 10;
        let requests = (1..6).map(|n| span(trace(id + n), id + n, None, at));
        let group = of(
            resource("fares"),
            requests
                .chain([failing(trace(id), id, None, at, "no tariff")])
                .collect(),
        );
        store(&writer, &[spans(vec![group], at)]).await;
    }
    let at = crate::from_utc(now - TimeDelta::minutes(5));
    let group = of(
        resource("fares"),
        (2_000..2_040)
            .map(|n| failing(trace(n), n, None, at, "the ramp is up"))
            .collect(),
    );
    store(&writer, &[spans(vec![group], at)]).await;
    now
}

async fn said(database: &Database) -> Vec<(String, i64)> {
    sqlx::query_as(
        "SELECT e.title || ' ' || kind, count(*) FROM flag JOIN error_group e ON e.id = error_id GROUP \
        BY 1 ORDER BY 1",
    )
    .fetch_all(&database.pool)
    .await
    .unwrap()
}

#[tokio::test]
async fn two_instances_that_take_turns_say_each_flag_once() {
    let database = database().await;
    let now = three_days(&database).await;
    let (mut one, mut other) = (Watch::default(), Watch::default());
    one.round(&database, now).await.unwrap();
    let first = said(&database).await;
    assert_eq!(first, [("BerthTaken: the ramp is up new".to_owned(), 1)]);
    for minute in 1..5 {
        let watch = if minute % 2 == 0 { &mut one } else { &mut other };
        watch.round(&database, now + TimeDelta::minutes(minute)).await.unwrap();
    }
    assert_eq!(said(&database).await, first);
}

#[tokio::test]
async fn a_late_request_of_a_past_hour_has_the_past_told_anew_once() {
    let database = database().await;
    let now = three_days(&database).await;
    let mut watch = Watch::default();
    watch.round(&database, now).await.unwrap();
    let mut connection = database.pool.acquire().await.unwrap();
    let (begun, next) = (watch.begun, watch.next.unwrap());
    assert!(!watch.has_late(&mut connection, next).await.unwrap());
    let late = crate::from_utc(now - TimeDelta::hours(30));
    store(
        &writer(&database),
        &[spans(
            vec![of(resource("fares"), vec![span(trace(9_000), 9_000, None, late)])],
            late,
        )],
    )
    .await;
    assert!(watch.has_late(&mut connection, next).await.unwrap());
    watch.round(&database, now + TimeDelta::minutes(2)).await.unwrap();
    assert_eq!(watch.begun, begun + 2, "told anew");
    watch.round(&database, now + TimeDelta::minutes(6)).await.unwrap();
    assert_eq!(
        (watch.begun, watch.next),
        (begun + 2, Some(next + 6)),
        "and then only what is new"
    );
    assert_eq!(
        said(&database).await,
        [("BerthTaken: the ramp is up new".to_owned(), 1)]
    );
}

#[tokio::test]
async fn a_new_error_is_new_since_its_first_occurrence_in_whatever_order_the_minutes_arrive() {
    let database = database().await;
    let now = three_days(&database).await;
    let mut watch = Watch::default();
    watch.round(&database, now).await.unwrap();
    let since = async || -> Vec<(DateTime<Utc>, DateTime<Utc>)> {
        sqlx::query_as("SELECT since, said_at FROM flag WHERE kind = 'new' AND withdrawn_at IS NULL")
            .fetch_all(&database.pool)
            .await
            .unwrap()
    };
    let minute = |minutes: i64| {
        (now - TimeDelta::minutes(minutes))
            .duration_trunc(TimeDelta::minutes(1))
            .unwrap()
    };
    assert_eq!(since().await, [(minute(5), minute(5))]);
    // The sender had kept back what happened two hours before.
    let at = crate::from_utc(now - TimeDelta::minutes(125));
    let group = of(
        resource("fares"),
        vec![failing(trace(3_000), 3_000, None, at, "the ramp is up")],
    );
    store(&writer(&database), &[spans(vec![group], at)]).await;
    watch.round(&database, now + TimeDelta::minutes(2)).await.unwrap();
    assert_eq!(since().await, [(minute(125), minute(125))]);
}

#[tokio::test]
async fn reports_that_cease_are_written_down_until_they_come_again() {
    let database = database().await;
    let now = Utc::now();
    let writer = writer(&database);
    for (id, hours) in [(1, 4), (2, 0)] {
        let at = crate::from_utc(now - TimeDelta::hours(hours));
        store(
            &writer,
            &[spans(
                vec![of(resource("fares"), vec![span(trace(id), id, None, at)])],
                at,
            )],
        )
        .await;
    }
    sqlx::query("DELETE FROM served_minute WHERE minute > $1")
        .bind(now - TimeDelta::hours(1))
        .execute(&database.pool)
        .await
        .unwrap();
    // A hundred requests a minute, up to half an hour ago.
    let report = "INSERT INTO served_minute SELECT service_id, minute, environment_id, version_id, 100, 0 \
         FROM (SELECT * FROM served_minute LIMIT 1) one, \
             generate_series(date_trunc('minute', $1::timestamptz), $2::timestamptz, '1 minute') \
             minute_of(minute) ON CONFLICT DO NOTHING"
        .replace("service_id, minute,", "service_id, minute_of.minute,");
    let fill = async |from: TimeDelta, until: TimeDelta| {
        sqlx::query(sqlx::AssertSqlSafe(report.clone()))
            .bind(now - from)
            .bind(now - until)
            .execute(&database.pool)
            .await
            .unwrap();
    };
    fill(TimeDelta::hours(4), TimeDelta::minutes(30)).await;
    Watch::default().round(&database, now).await.unwrap();
    let told = disturbed::of_services(&database, now).await.unwrap();
    let [(None, of)] = told.values().next().unwrap().as_slice() else {
        panic!("{told:?}")
    };
    assert!(of.measured == Measured::Missing && of.until.is_none(), "{of:?}");
    assert!((now.timestamp() / 60 - of.from - 29).abs() <= 1, "{of:?}");

    fill(TimeDelta::minutes(9), TimeDelta::zero()).await;
    Watch::default().round(&database, now).await.unwrap();
    let told = disturbed::of_services(&database, now).await.unwrap();
    let [(None, of)] = told.values().next().unwrap().as_slice() else {
        panic!("{told:?}")
    };
    assert!(
        of.until.is_some_and(|until| (until - of.from - 20).abs() <= 1),
        "{of:?}"
    );
    assert!(
        disturbed::of_services(&database, now + TimeDelta::hours(25))
            .await
            .unwrap()
            .is_empty(),
        "told for a day"
    );
}
