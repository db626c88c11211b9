//! Keeps flags as they are now.

use chrono::{DateTime, TimeDelta, Utc};
use outcrop_core::deploy::{FlagKind, FlagLine, Said};
use sqlx::FromRow;

use super::events::time;
use crate::StoreError;

/// A flag that was said before.
#[derive(FromRow)]
pub(super) struct SaidRow {
    pub(super) id: i64,
    pub(super) error_id: i32,
    pub(super) environment_id: i32,
    #[sqlx(try_from = "String")]
    pub(super) kind: FlagKind,
    pub(super) version: String,
    pub(super) since: DateTime<Utc>,
    pub(super) said_at: DateTime<Utc>,
}

impl SaidRow {
    pub(super) fn said(self) -> Said {
        Said {
            id: self.id,
            flag: self.kind,
            environment: self.environment_id.to_string(),
            group: self.error_id.to_string(),
            version: self.version,
            since: self.since.timestamp().div_euclid(60),
            at: self.said_at.timestamp().div_euclid(60),
        }
    }
}

pub(super) async fn write(connection: &mut sqlx::PgConnection, flags: &[FlagLine]) -> Result<u64, StoreError> {
    if flags.is_empty() {
        return Ok(0);
    }
    let number = |text: &str| text.parse::<i32>().unwrap_or_default();
    begin_earlier(connection, flags).await?;
    let said: Vec<(i32, String, String, DateTime<Utc>)> = sqlx::query_as(
        "INSERT INTO flag (error_id, service_id, environment_id, kind, version, by_deploy, since, said_at, count, \
         expected, evidence, requests) \
         SELECT new.* FROM UNNEST($1::int[], $2::int[], $3::int[], $4::text[], $5::text[], $6::bool[], \
         $7::timestamptz[], $8::timestamptz[], $9::bigint[], \
             $10::float8[], $11::float8[], $12::bigint[]) AS new (error, service, environment, kind, version, \
             by_deploy, since, said_at, count, expected, evidence, requests) \
         JOIN error_group ON error_group.id = error WHERE new.kind = 'surging' OR NOT EXISTS (SELECT FROM flag said \
         WHERE said.error_id = error \
             AND said.environment_id = environment AND said.kind = new.kind AND said.version = new.version AND \
             said.withdrawn_at IS NULL \
             AND said.said_at BETWEEN new.said_at - interval '1 hour' AND new.said_at + interval '1 hour') \
         ON CONFLICT (error_id, environment_id, kind, said_at) DO NOTHING RETURNING error_id, kind, version, said_at",
    )
    .bind(flags.iter().map(|flag| number(&flag.group)).collect::<Vec<_>>())
    .bind(flags.iter().map(|flag| number(&flag.service)).collect::<Vec<_>>())
    .bind(flags.iter().map(|flag| number(&flag.environment)).collect::<Vec<_>>())
    .bind(flags.iter().map(|flag| flag.flag.word()).collect::<Vec<_>>())
    .bind(flags.iter().map(|flag| flag.version.clone()).collect::<Vec<_>>())
    .bind(flags.iter().map(|flag| flag.by_deploy).collect::<Vec<_>>())
    .bind(flags.iter().map(|flag| time(flag.since)).collect::<Vec<_>>())
    .bind(flags.iter().map(|flag| time(flag.at)).collect::<Vec<_>>())
    .bind(
        flags
            .iter()
            .map(|flag| i64::try_from(flag.count).unwrap_or(i64::MAX))
            .collect::<Vec<_>>(),
    )
    .bind(flags.iter().map(|flag| flag.expected).collect::<Vec<_>>())
    .bind(flags.iter().map(|flag| flag.evidence).collect::<Vec<_>>())
    .bind(
        flags
            .iter()
            .map(|flag| flag.requests.and_then(|n| i64::try_from(n).ok()))
            .collect::<Vec<_>>(),
    )
    .fetch_all(&mut *connection)
    .await?;
    let count = said.len() as u64;
    let back: Vec<(i32, String, DateTime<Utc>)> = said
        .into_iter()
        .filter(|(_, kind, _, _)| kind == FlagKind::Returned.word())
        .map(|(error, _, version, at)| (error, version, at + TimeDelta::minutes(1)))
        .collect();
    crate::errors::handling::returned(connection, &back).await?;
    Ok(count)
}

/// Moves standing `new` flags to an earlier first occurrence. Minutes are judged as they arrive: where
/// an older minute arrives after a younger one, the error is new since the older one.
///
/// A withdrawn flag of that very minute stays the only one of it.
async fn begin_earlier(connection: &mut sqlx::PgConnection, flags: &[FlagLine]) -> Result<(), StoreError> {
    let new: Vec<&FlagLine> = flags.iter().filter(|flag| flag.flag == FlagKind::New).collect();
    let number = |text: &str| text.parse::<i32>().unwrap_or_default();
    sqlx::query(
        "UPDATE flag SET since = earlier.since, said_at = earlier.said_at, by_deploy = earlier.by_deploy \
         FROM UNNEST($1::int[], $2::int[], $3::text[], $4::bool[], $5::timestamptz[], $6::timestamptz[]) \
             AS earlier (error, environment, version, by_deploy, since, said_at) \
         WHERE flag.kind = 'new' AND flag.withdrawn_at IS NULL AND flag.error_id = earlier.error \
             AND flag.environment_id = earlier.environment AND flag.version = earlier.version \
             AND earlier.said_at < flag.said_at \
             AND NOT EXISTS (SELECT FROM flag other WHERE other.error_id = earlier.error \
                 AND other.environment_id = earlier.environment AND other.kind = 'new' \
                 AND other.said_at = earlier.said_at)",
    )
    .bind(new.iter().map(|flag| number(&flag.group)).collect::<Vec<_>>())
    .bind(new.iter().map(|flag| number(&flag.environment)).collect::<Vec<_>>())
    .bind(new.iter().map(|flag| flag.version.clone()).collect::<Vec<_>>())
    .bind(new.iter().map(|flag| flag.by_deploy).collect::<Vec<_>>())
    .bind(new.iter().map(|flag| time(flag.since)).collect::<Vec<_>>())
    .bind(new.iter().map(|flag| time(flag.at)).collect::<Vec<_>>())
    .execute(connection)
    .await?;
    Ok(())
}
