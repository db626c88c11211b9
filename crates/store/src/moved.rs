//! Causes that a version brought and that are errors known before, whose code was edited: found
//! when they come, and looked at again while the version is young, since what comes later may show
//! otherwise.

use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};

use chrono::{DateTime, TimeDelta, Utc};
use outcrop_core::Reference;
use outcrop_core::failure::Report;
use outcrop_core::grouping::Described;
use outcrop_core::grouping::moved::{self, Finding, MAX_EARLIER, MAX_NEW, Shape, Sighted};
use outcrop_core::grouping::regrouping::Move;
use outcrop_core::telemetry::names::{EXCEPTION_TYPE, NO_VERSION};
use sqlx::{FromRow, PgConnection};

use crate::ids::{number, reference};
use crate::names::OTHER_VERSIONS;
use crate::regrouping::{self, Change, ChangeError, Made};
use crate::{Database, StoreError, occurrences};

/// Who makes these changes, in the history.
const BY: &str = "outcrop";
/// For how long after a cause came it is looked at again. Within two days all that a version has in
/// common with the one before has mostly occurred; later, people have seen it under its reference.
const LOOKED_AGAIN: TimeDelta = TimeDelta::days(2);
/// Causes without a shape that are read per round: an upgrade's errors are done within minutes.
const READ_AT_ONCE: i64 = 500;

/// Changes of an error that are looked at for what has moved.
const CHANGES: i64 = 50;

/// The shape of what a report says; `None` where nothing says where in the code it failed.
pub(crate) fn shape(report: &Report) -> Option<Shape> {
    let stack = report.stack.as_deref()?.clone();
    let sent = report.attributes.get(EXCEPTION_TYPE).and_then(|sent| sent.as_str());
    Shape::of(&Described::again(&report.type_name, sent, &report.message, Some(stack)).subject())
}

/// Keeps the shapes of causes.
pub(crate) async fn keep(connection: &mut PgConnection, shapes: &[(i64, Shape)]) -> Result<(), sqlx::Error> {
    sqlx::query(
        "INSERT INTO cause_shape (cause_id, shape) SELECT * FROM UNNEST($1::bigint[], $2::jsonb[]) ON \
        CONFLICT DO NOTHING",
    )
    .bind(shapes.iter().map(|(cause, _)| *cause).collect::<Vec<_>>())
    .bind(
        shapes
            .iter()
            .map(|(_, shape)| serde_json::to_value(shape).unwrap_or_default())
            .collect::<Vec<_>>(),
    )
    .execute(connection)
    .await?;
    Ok(())
}

#[derive(FromRow)]
struct Row {
    cause: i64,
    error: i32,
    #[sqlx(json)]
    shape: Shape,
    versions: Vec<i32>,
    first_at: DateTime<Utc>,
}

#[derive(FromRow)]
struct Earlier {
    change: i64,
    cause: i64,
    from: i32,
    to: i32,
    is_undone: bool,
}

/// The causes of a service, and what was found of them before.
struct Known {
    rows: Vec<Row>,
    /// Labels of versions, in their order.
    versions: Vec<(i32, String)>,
    made: Vec<Earlier>,
}

impl Known {
    async fn read(connection: &mut PgConnection, service: i32) -> Result<Self, sqlx::Error> {
        let rows = sqlx::query_as(
            "SELECT cause.id AS cause, cause.error_id AS error, s.shape, array_agg(DISTINCT sighted.version_id) AS \
             versions, \
             min(sighted.first_at) AS first_at \
             FROM cause_shape s JOIN cause ON cause.id = s.cause_id JOIN sighted ON sighted.cause_id = cause.id AND \
             sighted.n > 0 \
             WHERE cause.service_id = $1 GROUP BY cause.id, s.shape ORDER BY max(sighted.last_at) DESC LIMIT $2",
        )
        .bind(service)
        .bind(i64::try_from(MAX_EARLIER + MAX_NEW).unwrap_or(i64::MAX))
        .fetch_all(&mut *connection)
        .await?;
        let versions = sqlx::query_as(
            "SELECT version.id, version.label FROM version \
             LEFT JOIN (SELECT version_id, min(first_received_at) AS at FROM deployed WHERE service_id = $1 GROUP BY \
             1) seen ON seen.version_id = version.id \
             LEFT JOIN (SELECT version_id, min(at) AS at FROM deploy WHERE service_id = $1 GROUP BY 1) said ON \
             said.version_id = version.id \
             WHERE version.service_id = $1 AND version.label <> ALL($2) \
             ORDER BY least(seen.at, said.at) NULLS LAST, version.id",
        )
        .bind(service)
        .bind([NO_VERSION, OTHER_VERSIONS].as_slice())
        .fetch_all(&mut *connection)
        .await?;
        let made = sqlx::query_as(
            "SELECT c.id AS change, (m ->> 'cause')::bigint AS cause, (m ->> 'from')::int AS \"from\", (m ->> \
             'to')::int AS \"to\", \
             c.undone_at IS NOT NULL AND c.undone_by <> $2 AS is_undone \
             FROM grouping_change c, jsonb_array_elements(c.moves) m \
             WHERE c.service_id = $1 AND c.change ->> 'kind' = 'moved' AND (c.undone_at IS NULL OR c.undone_by <> $2)",
        )
        .bind(service)
        .bind(BY)
        .fetch_all(connection)
        .await?;
        Ok(Self { rows, versions, made })
    }

    /// What is to be found of these causes as if nothing had been found before; a cause that no
    /// telemetry was written of yet is given with its shape and version.
    fn find(&self, coming: &[(i64, i32, &Shape, i32)]) -> BTreeMap<i64, Finding> {
        let places: HashMap<i32, usize> = self
            .versions
            .iter()
            .enumerate()
            .map(|(at, (version, _))| (*version, at))
            .collect();
        let before: HashMap<i64, i32> = self
            .made
            .iter()
            .filter(|made| !made.is_undone)
            .map(|made| (made.cause, made.from))
            .collect();
        let known = self.rows.iter().map(|row| {
            let error = before.get(&row.cause).copied().unwrap_or(row.error);
            let versions = row
                .versions
                .iter()
                .filter_map(|version| places.get(version).copied())
                .collect();
            Sighted {
                cause: row.cause,
                error: i64::from(error),
                shape: &row.shape,
                versions,
            }
        });
        let coming = coming.iter().map(|(cause, error, shape, version)| Sighted {
            cause: *cause,
            error: i64::from(*error),
            shape,
            versions: places.get(version).copied().into_iter().collect(),
        });
        let sighted: Vec<Sighted<'_>> = known.chain(coming).collect();
        let mut found = moved::find(&sighted);
        // What people have undone is not done again.
        let undone: HashSet<(i64, i64)> = self
            .made
            .iter()
            .filter(|made| made.is_undone)
            .map(|made| (made.cause, i64::from(made.to)))
            .collect();
        found.retain(
            |cause, finding| !matches!(finding, Finding::Moved { error, .. } if undone.contains(&(*cause, *error))),
        );
        found
    }

    fn label(&self, version: Option<i32>) -> &str {
        self.versions
            .iter()
            .find(|(number, _)| Some(*number) == version)
            .map_or("", |(_, label)| label)
    }

    /// The version that brought a cause.
    fn first_version(&self, row: &Row) -> Option<i32> {
        self.versions
            .iter()
            .map(|(version, _)| *version)
            .find(|version| row.versions.contains(version))
    }
}

/// A cause that was just made.
pub(crate) struct Coming {
    pub cause: i64,
    pub error: i32,
    pub shape: Shape,
    pub version: i32,
}

/// Looks whether causes that were just made are errors of versions before, and puts those there.
/// The caller holds the lock under which causes are made.
pub(crate) async fn place(connection: &mut PgConnection, service: i32, coming: &[Coming]) -> Result<(), StoreError> {
    let known = Known::read(connection, service).await?;
    let new: Vec<_> = coming
        .iter()
        .take(MAX_NEW)
        .map(|one| (one.cause, one.error, &one.shape, one.version))
        .collect();
    let found = known.find(&new);
    for one in coming {
        if let Some(Finding::Moved { error, changes }) = found.get(&one.cause) {
            record(
                connection,
                service,
                (one.cause, one.error),
                *error,
                changes,
                known.label(Some(one.version)),
            )
            .await?;
        }
    }
    Ok(())
}

async fn record(
    connection: &mut PgConnection,
    service: i32,
    (cause, from): (i64, i32),
    to: i64,
    changes: &[moved::Change],
    version: &str,
) -> Result<(), StoreError> {
    let to = i32::try_from(to).unwrap_or_default();
    let sentence = format!(
        "moved in {version}: {}",
        changes.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ")
    );
    let change = Change::Moved {
        error: to,
        cause,
        version: version.to_owned(),
    };
    let moves = [Move { cause, from, to }];
    match regrouping::carry_out(connection, &moves).await {
        Ok(()) => {}
        // Somebody has moved it meanwhile: it stays there.
        Err(ChangeError::Conflict(_) | ChangeError::Unfit(_)) => return Ok(()),
        Err(ChangeError::Store(error)) => return Err(error),
    }
    sqlx::query("INSERT INTO grouping_change (by, service_id, change, sentence, moves) VALUES ($1, $2, $3, $4, $5)")
        .bind(BY)
        .bind(service)
        .bind(serde_json::to_value(change).unwrap_or_default())
        .bind(sentence)
        .bind(serde_json::to_value(moves).unwrap_or_default())
        .execute(connection)
        .await?;
    Ok(())
}

/// Looks again at the causes that came in the last two days: what occurs in a version both as it
/// did and as it was taken to be now is told apart again, and what has become clear is put where it
/// belongs. Returns how many causes went elsewhere.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
pub async fn review(database: &Database, now: DateTime<Utc>) -> Result<usize, StoreError> {
    let services: Vec<(i32,)> = sqlx::query_as(
        "SELECT DISTINCT cause.service_id FROM sighted JOIN cause ON cause.id = sighted.cause_id WHERE \
         sighted.first_at >= $1 AND sighted.n > 0",
    )
    .bind(now - LOOKED_AGAIN)
    .fetch_all(&database.pool)
    .await?;
    let mut went = 0;
    for (service,) in services {
        went += review_service(database, service, now).await?;
    }
    Ok(went)
}

async fn review_service(database: &Database, service: i32, now: DateTime<Utc>) -> Result<usize, StoreError> {
    let mut transaction = database.pool.begin().await?;
    lock(&mut transaction).await?;
    let known = Known::read(&mut transaction, service).await?;
    let found = known.find(&[]);
    let young: Vec<&Row> = known
        .rows
        .iter()
        .filter(|row| row.first_at >= now - LOOKED_AGAIN)
        .collect();
    let mut went = 0;
    for row in young {
        let before = known
            .made
            .iter()
            .find(|made| !made.is_undone && made.cause == row.cause);
        let to = match found.get(&row.cause) {
            Some(Finding::Moved { error, changes }) => Some((*error, changes)),
            _ => None,
        };
        match (before, to) {
            (Some(before), Some((to, _))) if i64::from(before.to) == to => {}
            (None, None) => {}
            // Where people have moved it on, it stays.
            (Some(before), _) if row.error != before.to => {}
            (before, to) => {
                let mut from = row.error;
                if let Some(before) = before {
                    take_back(&mut transaction, before).await?;
                    from = before.from;
                }
                if let Some((to, changes)) = to {
                    let version = known.label(known.first_version(row)).to_owned();
                    record(&mut transaction, service, (row.cause, from), to, changes, &version).await?;
                }
                went += 1;
            }
        }
    }
    transaction.commit().await?;
    Ok(went)
}

async fn take_back(connection: &mut PgConnection, made: &Earlier) -> Result<(), StoreError> {
    match regrouping::carry_out(
        connection,
        &[Move {
            cause: made.cause,
            from: made.to,
            to: made.from,
        }],
    )
    .await
    {
        Err(ChangeError::Store(error)) => return Err(error),
        Err(_) => return Ok(()),
        Ok(()) => {}
    }
    sqlx::query("UPDATE grouping_change SET undone_at = now(), undone_by = $2 WHERE id = $1")
        .bind(made.change)
        .bind(BY)
        .execute(connection)
        .await?;
    Ok(())
}

/// The innermost own frames of those of the errors whose code has moved, as they are in the newest version it moved in.
pub(crate) async fn own_frames(database: &Database, errors: &[i32]) -> Result<HashMap<i32, String>, StoreError> {
    let rows: Vec<(i32, String)> = sqlx::query_as(
        "SELECT DISTINCT ON (1) (made.change ->> 'error')::integer, came.own_frame FROM grouping_change made \
         JOIN error_group came ON came.id = (made.moves -> 0 ->> 'from')::integer \
         WHERE made.change ->> 'kind' = 'moved' AND made.undone_at IS NULL AND came.own_frame IS NOT NULL \
         AND (made.change ->> 'error')::integer = ANY($1) ORDER BY 1, made.id DESC",
    )
    .bind(errors)
    .fetch_all(&database.pool)
    .await?;
    Ok(rows.into_iter().collect())
}

/// The lock under which causes are made and moved.
pub(crate) async fn lock(connection: &mut PgConnection) -> Result<(), sqlx::Error> {
    sqlx::query("SELECT pg_advisory_xact_lock(hashtext('outcrop causes'))")
        .execute(connection)
        .await?;
    Ok(())
}

/// The errors of versions before that a new one may be, the likeliest first; none where it is told
/// apart, or known for longer.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
pub async fn may_be(
    database: &Database,
    error: Reference,
    now: DateTime<Utc>,
) -> Result<Vec<(Reference, String)>, StoreError> {
    let mut connection = database.pool.acquire().await?;
    let young: Option<(i32,)> = sqlx::query_as(
        "SELECT e.service_id FROM error_group e WHERE e.id = $1 AND \
         (SELECT min(s.first_at) FROM cause JOIN sighted s ON s.cause_id = cause.id WHERE cause.error_id = e.id AND \
         s.n > 0) >= $2",
    )
    .bind(number(error))
    .bind(now - LOOKED_AGAIN)
    .fetch_optional(&mut *connection)
    .await?;
    let Some((service,)) = young else { return Ok(vec![]) };
    let known = Known::read(&mut connection, service).await?;
    let found = known.find(&[]);
    let of_error: BTreeSet<i64> = known
        .rows
        .iter()
        .filter(|row| row.error == number(error))
        .map(|row| row.cause)
        .collect();
    let mut named: Vec<i32> = vec![];
    for cause in of_error {
        if let Some(Finding::MayBe { errors }) = found.get(&cause) {
            named.extend(errors.iter().filter_map(|error| i32::try_from(*error).ok()));
        }
    }
    let mut titles: HashMap<i32, String> =
        sqlx::query_as::<_, (i32, String)>("SELECT id, title FROM error_group WHERE id = ANY($1)")
            .bind(&named)
            .fetch_all(&mut *connection)
            .await?
            .into_iter()
            .collect();
    Ok(named
        .into_iter()
        .filter_map(|error| Some((reference(error), titles.remove(&error)?)))
        .collect())
}

/// How an error's code has moved between versions, the newest first, as far as that stands.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
pub async fn of_error(database: &Database, error: Reference) -> Result<Vec<Made>, StoreError> {
    let mut changes = regrouping::changes(database, Some(error), CHANGES).await?;
    changes.retain(|made| {
        made.undone_at.is_none() && matches!(made.change, Change::Moved { error: to, .. } if to == number(error))
    });
    Ok(changes)
}

#[derive(FromRow)]
struct Latest {
    cause: i64,
    type_name: String,
    sent_type: Option<String>,
    message: String,
    frames: Option<Vec<u8>>,
}

/// Makes shapes of causes that a release without them has made, of their latest occurrence. Returns
/// how many were looked at.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
pub async fn read_shapes(database: &Database) -> Result<usize, StoreError> {
    let rows: Vec<Latest> = sqlx::query_as(
        "SELECT cause.id AS cause, o.type AS type_name, o.attributes ->> 'exception.type' AS sent_type, o.message, \
         stack.frames \
         FROM (SELECT id FROM cause WHERE algorithm > 0 AND NOT EXISTS (SELECT FROM cause_shape s WHERE s.cause_id = \
         cause.id) \
               AND EXISTS (SELECT FROM sighted WHERE cause_id = cause.id AND n > 0) ORDER BY id DESC LIMIT $1) cause \
         CROSS JOIN LATERAL (SELECT * FROM occurrence WHERE cause_id = cause.id AND stack IS NOT NULL ORDER BY id \
         DESC LIMIT 1) o \
         LEFT JOIN stack ON stack.hash = o.stack",
    )
    .bind(READ_AT_ONCE)
    .fetch_all(&database.pool)
    .await?;
    let shapes: Vec<(i64, Shape)> = rows
        .iter()
        .filter_map(|row| {
            let stack = occurrences::unpack_stack(row.frames.as_deref()?)?;
            let described = Described::again(&row.type_name, row.sent_type.as_deref(), &row.message, Some(stack));
            Some((row.cause, Shape::of(&described.subject())?))
        })
        .collect();
    let mut connection = database.pool.acquire().await?;
    keep(&mut connection, &shapes).await?;
    Ok(shapes.len())
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use outcrop_core::telemetry::{LogRecord, Resource};

    use super::*;
    use crate::Scope;
    use crate::errors::list;
    use crate::intake::Writer;
    use crate::testing::{attributes, database, logs, now, of, resource_of, store, writer};

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
        let changes = regrouping::changes(database, None, 10).await.unwrap();
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
            let listed = list(&database, &scope).await.unwrap();
            listed.into_iter().map(|error| (error.count, error.own_frame)).collect()
        };
        let now_in = |module: &str, count: i64| (count, Some(format!("{module}.per_metre fares/{module}.py:9")));
        assert_eq!(places().await, [now_in("seasons", 2)]);
        let made = regrouping::changes(&database, None, 10).await.unwrap();
        regrouping::undo(&database, made[0].id, "purser").await.unwrap();
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
        let made = regrouping::changes(&database, None, 1).await.unwrap();
        regrouping::undo(&database, made[0].id, "purser@skerry.example")
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
}
