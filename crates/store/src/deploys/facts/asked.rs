//! The deploys that are asked about, as a table that statements join.

use chrono::{DateTime, Utc};

use crate::deploys::Deploy;
use crate::deploys::comparison::BEFORE;

/// A deploy and the times that are compared.
#[derive(Clone, Copy, Debug)]
pub struct Asked<'a> {
    /// The deploy.
    pub deploy: &'a Deploy,
    /// Where the time before it begins.
    pub before_from: DateTime<Utc>,
    /// The end of the time after it, excluded.
    pub until: DateTime<Utc>,
    /// The end of the time over which its endpoints are compared, excluded.
    pub compared_until: DateTime<Utc>,
}

/// The deploys asked for as columns `n`, `service`, `environment`, `version`, `at`, `before_from`,
/// `until`, `compared_until`.
pub(super) const ASKED: &str = "WITH asked AS (SELECT * FROM UNNEST($1::int[], $2::int[], $3::text[], $4::timestamptz[], \
    $5::timestamptz[], $6::timestamptz[], $7::timestamptz[]) \
     WITH ORDINALITY AS asked (service, environment, version, at, before_from, until, compared_until, n)) ";

pub(super) fn bound<'q, O>(
    query: sqlx::query::QueryAs<'q, sqlx::Postgres, O, sqlx::postgres::PgArguments>,
    asked: &[Asked<'_>],
) -> sqlx::query::QueryAs<'q, sqlx::Postgres, O, sqlx::postgres::PgArguments> {
    query
        .bind(asked.iter().map(|one| one.deploy.service_id).collect::<Vec<_>>())
        .bind(asked.iter().map(|one| one.deploy.environment_id).collect::<Vec<_>>())
        .bind(asked.iter().map(|one| one.deploy.version.clone()).collect::<Vec<_>>())
        .bind(asked.iter().map(|one| one.deploy.at).collect::<Vec<_>>())
        .bind(asked.iter().map(|one| one.before_from).collect::<Vec<_>>())
        .bind(asked.iter().map(|one| one.until).collect::<Vec<_>>())
        .bind(asked.iter().map(|one| one.compared_until).collect::<Vec<_>>())
}

/// The window that holds what is read of all deploys asked for.
pub(super) fn around(asked: &[Asked<'_>]) -> (DateTime<Utc>, DateTime<Utc>) {
    let from = asked.iter().map(|one| one.deploy.at - BEFORE).min().unwrap_or_default();
    (
        from,
        asked
            .iter()
            .map(|one| one.until.max(one.compared_until))
            .max()
            .unwrap_or_default(),
    )
}
