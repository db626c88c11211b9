//! What a service's causes look like, and which came with which version.

use std::collections::{BTreeMap, HashMap, HashSet};

use chrono::{DateTime, Utc};
use outcrop_core::failure::Report;
use outcrop_core::grouping::moved::{Finding, MAX_EARLIER, MAX_NEW, Shape, Sighted};
use outcrop_core::grouping::{Described, moved};
use outcrop_core::telemetry::names::{EXCEPTION_TYPE, NO_VERSION};
use sqlx::{FromRow, PgConnection};

use crate::boxed;
use crate::ids::OTHER_VERSIONS;
use crate::{Database, StoreError, stacks};

/// Who makes these changes, in the history.
pub(super) const BY: &str = "outcrop";

/// Causes without a shape that are read per round: an upgrade's errors are done within minutes.
const READ_AT_ONCE: i64 = 500;

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
pub(super) struct Row {
    pub(super) cause: i64,
    pub(super) error: i32,
    #[sqlx(json)]
    pub(super) shape: Shape,
    pub(super) versions: Vec<i32>,
    pub(super) first_at: DateTime<Utc>,
}

#[derive(FromRow)]
pub(super) struct Earlier {
    pub(super) change: i64,
    pub(super) cause: i64,
    pub(super) from: i32,
    pub(super) to: i32,
    pub(super) is_undone: bool,
}

/// The causes of a service, and what was found of them before.
pub(super) struct Known {
    pub(super) rows: Vec<Row>,
    /// Labels of versions, in their order.
    pub(super) versions: Vec<(i32, String)>,
    pub(super) made: Vec<Earlier>,
}

impl Known {
    pub(super) async fn read(connection: &mut PgConnection, service: i32) -> Result<Self, sqlx::Error> {
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
    pub(super) fn find(&self, coming: &[(i64, i32, &Shape, i32)]) -> BTreeMap<i64, Finding> {
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

    pub(super) fn label(&self, version: Option<i32>) -> &str {
        self.versions
            .iter()
            .find(|(number, _)| Some(*number) == version)
            .map_or("", |(_, label)| label)
    }

    /// The version that brought a cause.
    pub(super) fn first_version(&self, row: &Row) -> Option<i32> {
        self.versions
            .iter()
            .map(|(version, _)| *version)
            .find(|version| row.versions.contains(version))
    }
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
#[boxed]
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
            let stack = stacks::unpack_stack(row.frames.as_deref()?)?;
            let described = Described::again(&row.type_name, row.sent_type.as_deref(), &row.message, Some(stack));
            Some((row.cause, Shape::of(&described.subject())?))
        })
        .collect();
    let mut connection = database.pool.acquire().await?;
    keep(&mut connection, &shapes).await?;
    Ok(shapes.len())
}
