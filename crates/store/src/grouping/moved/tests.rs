//! Tests of moved causes.

use std::sync::Arc;

use chrono::{TimeDelta, Utc};
use outcrop_core::telemetry::{LogRecord, Resource};

use super::known::*;
use super::review::*;
use super::told::*;
use crate::asking::list_errors;
use crate::ids::reference;
use crate::testing::{attributes, database, logs, now, of, resource_of, store, writer};
use crate::writing::Writer;
use crate::{Database, Scope, grouping};

fn fares(version: &str) -> Arc<Resource> {
    resource_of(&[
        ("service.name", "fares"),
        ("service.version", version),
        ("deployment.environment.name", "production"),
    ])
}

/// A failure of a function, reached through others, the outermost first.
async fn fails(writer: &Writer, version: &str, path: &[&str]) {
    fails_in(writer, version, "tariff", path).await;
}

async fn fails_in(writer: &Writer, version: &str, module: &str, path: &[&str]) {
    let frames: Vec<String> = path
        .iter()
        .map(|function| format!("  File \"/srv/fares/{module}.py\", line 9, in {function}\n    x\n"))
        .collect();
    let stack = format!(
        "Traceback (most recent call last):\n{}KeyError: 'season'",
        frames.concat()
    );
    let at = now();
    let record = LogRecord {
        time: Some(at),
        severity: 17,
        attributes: attributes(&[
            ("exception.type", "KeyError"),
            ("exception.message", "'season'"),
            ("exception.stacktrace", &stack),
        ]),
        ..LogRecord::default()
    };
    store(writer, &[logs(vec![of(fares(version), vec![record])], at)]).await;
}

/// How often each error has occurred, by the order in which they were made.
async fn errors(database: &Database) -> Vec<i64> {
    let counts: Vec<(i64,)> = sqlx::query_as(
        "SELECT sum(n)::bigint FROM sighted JOIN cause ON cause.id = cause_id WHERE n > 0 GROUP BY error_id ORDER \
         BY error_id",
    )
    .fetch_all(&database.pool)
    .await
    .unwrap();
    counts.into_iter().map(|(count,)| count).collect()
}

async fn history(database: &Database) -> Vec<(String, bool)> {
    let changes = grouping::changes(database, None, 10).await.unwrap();
    changes
        .into_iter()
        .map(|made| (made.sentence, made.undone_at.is_some()))
        .collect()
}

#[tokio::test]
async fn an_error_whose_code_was_edited_stays_the_error_it_was() {
    let database = database().await;
    let writer = writer(&database);
    fails(&writer, "2.4.0", &["main", "quote", "per_metre"]).await;
    fails(&writer, "2.4.0", &["main", "refund", "share"]).await;
    fails(&writer, "2.5.0", &["main", "quote", "timed", "per_metre"]).await;
    fails(&writer, "2.5.0", &["main", "refund", "share"]).await;
    assert_eq!(errors(&database).await, [2, 2]);
    assert_eq!(
        history(&database).await,
        [("moved in 2.5.0: a frame tariff: timed was added".to_owned(), false)]
    );
    // Nothing that is looked at again changes that.
    assert_eq!(review(&database, Utc::now()).await.unwrap(), 0);
}

#[tokio::test]
async fn a_moved_error_is_told_to_be_where_its_code_is_now() {
    let database = database().await;
    let writer = writer(&database);
    fails_in(&writer, "2.4.0", "tariff", &["main", "quote", "per_metre"]).await;
    fails_in(&writer, "2.5.0", "seasons", &["main", "quote", "per_metre"]).await;
    let to = Utc::now() + TimeDelta::minutes(1);
    let scope = Scope {
        service: None,
        environment: None,
        version: None,
        from: to - TimeDelta::hours(1),
        to,
        predicate: None,
    };
    let places = async || -> Vec<(i64, Option<String>)> {
        let listed = list_errors(&database, &scope).await.unwrap();
        listed.into_iter().map(|error| (error.count, error.own_frame)).collect()
    };
    let now_in = |module: &str, count: i64| (count, Some(format!("{module}.per_metre fares/{module}.py:9")));
    assert_eq!(places().await, [now_in("seasons", 2)]);
    let made = grouping::changes(&database, None, 10).await.unwrap();
    grouping::undo(&database, made[0].id, "purser").await.unwrap();
    assert_eq!(places().await, [now_in("tariff", 1), now_in("seasons", 1)]);
}

#[tokio::test]
async fn what_goes_on_as_it_did_in_the_version_too_is_told_apart_again() {
    let database = database().await;
    let writer = writer(&database);
    fails(&writer, "2.4.0", &["main", "quote", "per_metre"]).await;
    fails(&writer, "2.5.0", &["main", "quote", "timed", "per_metre"]).await;
    assert_eq!(errors(&database).await, [2]);
    fails(&writer, "2.5.0", &["main", "quote", "per_metre"]).await;
    assert_eq!(review(&database, Utc::now()).await.unwrap(), 1);
    assert_eq!(errors(&database).await, [2, 1]);
    assert_eq!(
        history(&database).await,
        [("moved in 2.5.0: a frame tariff: timed was added".to_owned(), true)]
    );
    assert_eq!(review(&database, Utc::now()).await.unwrap(), 0);
}

#[tokio::test]
async fn what_people_undo_stays_undone() {
    let database = database().await;
    let writer = writer(&database);
    fails(&writer, "2.4.0", &["main", "quote", "per_metre"]).await;
    fails(&writer, "2.5.0", &["main", "quote", "timed", "per_metre"]).await;
    let made = grouping::changes(&database, None, 1).await.unwrap();
    grouping::undo(&database, made[0].id, "purser@skerry.example")
        .await
        .unwrap();
    assert_eq!(errors(&database).await, [1, 1]);
    fails(&writer, "2.5.0", &["main", "quote", "timed", "per_metre"]).await;
    assert_eq!(review(&database, Utc::now()).await.unwrap(), 0);
    assert_eq!(errors(&database).await, [1, 2]);
}

#[tokio::test]
async fn where_two_could_be_meant_it_is_new_and_says_which_it_may_be() {
    let database = database().await;
    let writer = writer(&database);
    fails(&writer, "2.4.0", &["main", "quote", "per_metre"]).await;
    fails(&writer, "2.4.0", &["main", "offer", "per_metre"]).await;
    fails(&writer, "2.5.0", &["main", "per_metre"]).await;
    assert_eq!(errors(&database).await, [1, 1, 1]);
    let (new,): (i32,) = sqlx::query_as("SELECT max(id) FROM error_group")
        .fetch_one(&database.pool)
        .await
        .unwrap();
    let named = may_be(&database, reference(new), Utc::now()).await.unwrap();
    assert_eq!(named.len(), 2, "{named:?}");
    // It is as near to the one that then goes on: it stays open.
    fails(&writer, "2.5.0", &["main", "offer", "per_metre"]).await;
    assert_eq!(review(&database, Utc::now()).await.unwrap(), 0);
}

#[tokio::test]
async fn causes_of_a_release_without_shapes_get_theirs_from_what_is_kept() {
    let database = database().await;
    let writer = writer(&database);
    fails(&writer, "2.4.0", &["main", "quote", "per_metre"]).await;
    let delete = "DELETE FROM cause_shape";
    sqlx::query(delete).execute(&database.pool).await.unwrap();
    assert_eq!(read_shapes(&database).await.unwrap(), 1);
    assert_eq!(read_shapes(&database).await.unwrap(), 0);
    fails(&writer, "2.5.0", &["main", "quote", "timed", "per_metre"]).await;
    assert_eq!(errors(&database).await, [2]);
}
