//! Change markers: what changed and is no deploy.

use chrono::{DateTime, Utc};
use sqlx::{AssertSqlSafe, FromRow};

use crate::boxed;
use crate::deploys::facts::FlagRow;
use crate::flags::{FLAG_COLUMNS, FLAG_TABLES, Flag};
use crate::{Database, StoreError};

/// A change to mark.
#[derive(Clone, Debug)]
pub struct NewMarker {
    /// When it began.
    pub at: DateTime<Utc>,
    /// When it was over.
    pub ended_at: Option<DateTime<Utc>>,
    /// What it is: `database`, `configuration`, `provisioning`, `other`.
    pub kind: String,
    /// In a few words.
    pub title: String,
    /// The service it may touch; all where none.
    pub service: Option<String>,
    /// The environment it may touch; all where none.
    pub environment: Option<String>,
    /// Where more is said; may be empty.
    pub link: String,
    /// Who marked it.
    pub by: String,
}

/// A change that was marked.
#[derive(Clone, Debug, FromRow)]
pub struct Marker {
    /// Its number.
    pub id: i32,
    /// When it began.
    pub at: DateTime<Utc>,
    /// When it was over.
    pub ended_at: Option<DateTime<Utc>>,
    /// What it is.
    pub kind: String,
    /// In a few words.
    pub title: String,
    /// The service it may touch; all where none.
    pub service: Option<String>,
    /// The environment it may touch; all where none.
    pub environment: Option<String>,
    /// Where more is said; may be empty.
    pub link: String,
    /// Who marked it.
    pub by: String,
}

/// Marks a change. A service or environment that never sent anything is not known: then `None`,
/// else the marker's number.
///
/// # Errors
/// [`StoreError::Ambiguous`] where the service's name stands in several namespaces; others when the
/// database does not answer.
#[boxed]
pub async fn mark(database: &Database, marker: &NewMarker) -> Result<Option<i32>, StoreError> {
    let service = match &marker.service {
        Some(name) => match crate::people::service_names::named(database, name).await? {
            Some(service) => Some(service.id),
            None => return Ok(None),
        },
        None => None,
    };
    let found: Option<(i32,)> = sqlx::query_as(
        "INSERT INTO marker (at, ended_at, kind, title, service_id, environment_id, link, made_by) \
         SELECT $1, $2, $3, $4, $5, (SELECT id FROM environment WHERE name = $6), $7, $8 \
         WHERE ($6::text IS NULL OR EXISTS (SELECT FROM environment WHERE name = $6)) \
         RETURNING id",
    )
    .bind(marker.at)
    .bind(marker.ended_at)
    .bind(&marker.kind)
    .bind(&marker.title)
    .bind(service)
    .bind(&marker.environment)
    .bind(&marker.link)
    .bind(&marker.by)
    .fetch_optional(&database.pool)
    .await?;
    Ok(found.map(|(id,)| id))
}

const SELECT: &str = "SELECT marker.id, marker.at, marker.ended_at, marker.kind, marker.title, service.display_name \
    AS service, environment.name AS environment, \
     marker.link, marker.made_by AS by FROM marker LEFT JOIN service ON service.id = marker.service_id \
     LEFT JOIN environment ON environment.id = marker.environment_id ";

/// Changes of a window that may touch a service and an environment, the newest first.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn list(
    database: &Database,
    (service, environment): (Option<&str>, Option<&str>),
    (from, to): (DateTime<Utc>, DateTime<Utc>),
    limit: i64,
) -> Result<Vec<Marker>, StoreError> {
    let statement = format!(
        "{SELECT} WHERE marker.at >= $1 AND marker.at < $2 AND ($3::text IS NULL OR service.id IS NULL OR service.id \
         IN (SELECT services_named($3))) \
         AND ($4::text IS NULL OR environment.name IS NULL OR environment.name = $4) ORDER BY marker.at DESC, \
         marker.id DESC LIMIT $5"
    );
    Ok(sqlx::query_as(AssertSqlSafe(statement))
        .bind(from)
        .bind(to)
        .bind(service)
        .bind(environment)
        .bind(limit)
        .fetch_all(&database.pool)
        .await?)
}

/// One marked change.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn one(database: &Database, id: i32) -> Result<Option<Marker>, StoreError> {
    Ok(sqlx::query_as(AssertSqlSafe(format!("{SELECT} WHERE marker.id = $1")))
        .bind(id)
        .fetch_optional(&database.pool)
        .await?)
}

/// Takes a marker away. Returns whether it was there.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn remove(database: &Database, id: i32) -> Result<bool, StoreError> {
    Ok(sqlx::query("DELETE FROM marker WHERE id = $1")
        .bind(id)
        .execute(&database.pool)
        .await?
        .rows_affected()
        > 0)
}

/// A marked change and the times that are compared.
#[derive(Clone, Copy, Debug)]
pub struct Asked<'a> {
    /// The change.
    pub marker: &'a Marker,
    /// Where the time before it begins.
    pub before_from: DateTime<Utc>,
    /// The end of the time after it, excluded.
    pub until: DateTime<Utc>,
}

/// What happened around a marked change, where it may have touched it.
#[derive(Clone, Debug, Default)]
pub struct Facts {
    /// Surges that began after it without a deploy, the earliest first; at most 200.
    pub flags: Vec<Flag>,
    /// Requests and failed ones before.
    pub before: (i64, i64),
    /// Requests and failed ones after.
    pub after: (i64, i64),
}

/// Reads the facts of changes, in their order, in a constant number of statements.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
#[boxed]
pub async fn facts(database: &Database, asked: &[Asked<'_>]) -> Result<Vec<Facts>, StoreError> {
    const ASKED: &str = "WITH asked AS (SELECT n, marker.at, marker.service_id AS service, marker.environment_id AS \
        environment, before_from, until \
         FROM UNNEST($1::int[], $2::timestamptz[], $3::timestamptz[]) WITH ORDINALITY AS asked (id, before_from, \
         until, n) JOIN marker USING (id)) ";
    const TOUCHED: &str = "(asked.service IS NULL OR of.service_id = asked.service) AND (asked.environment IS NULL OR \
        of.environment_id = asked.environment)";
    let mut facts = vec![Facts::default(); asked.len()];
    if asked.is_empty() {
        return Ok(facts);
    }
    let flags = format!(
        "{ASKED} SELECT asked.n, NULL::int AS origin, {FLAG_COLUMNS} FROM asked CROSS JOIN LATERAL (\
             SELECT * FROM flag of WHERE {TOUCHED} AND of.withdrawn_at IS NULL AND of.kind = 'surging' AND NOT \
             of.by_deploy AND of.said_at >= asked.at \
             AND of.since >= asked.at - interval '15 minutes' AND of.since < asked.until ORDER BY of.since, \
             of.error_id LIMIT 200) flag {FLAG_TABLES} \
         ORDER BY asked.n, flag.since, flag.error_id"
    );
    let sums = |from: &str, to: &str| {
        format!(
            "CROSS JOIN LATERAL (SELECT coalesce(sum(requests), 0)::bigint AS requests, coalesce(sum(failed), \
             0)::bigint AS failed FROM served_minute of \
             WHERE {TOUCHED} AND of.minute >= date_trunc('minute', {from}) AND of.minute < {to})"
        )
    };
    let counts = format!(
        "{ASKED} SELECT asked.n, before.requests, before.failed, since.requests, since.failed FROM asked {} before {} \
         since",
        sums("asked.before_from", "asked.at"),
        sums("asked.at", "asked.until")
    );
    let ids: Vec<i32> = asked.iter().map(|one| one.marker.id).collect();
    let from: Vec<DateTime<Utc>> = asked.iter().map(|one| one.before_from).collect();
    let until: Vec<DateTime<Utc>> = asked.iter().map(|one| one.until).collect();
    let flags = async {
        let query = sqlx::query_as::<_, FlagRow>(AssertSqlSafe(flags))
            .bind(&ids)
            .bind(&from)
            .bind(&until);
        query.fetch_all(&database.pool).await
    };
    let counts = async {
        let query = sqlx::query_as::<_, (i64, i64, i64, i64, i64)>(AssertSqlSafe(counts))
            .bind(&ids)
            .bind(&from)
            .bind(&until);
        query.fetch_all(&database.pool).await
    };
    let (flags, counts) = futures_util::try_join!(flags, counts)?;
    let place = |n: i64| usize::try_from(n - 1).unwrap_or_default();
    for row in flags {
        facts[place(row.n)].flags.push(row.flag);
    }
    for (n, requests_before, failed_before, requests, failed) in counts {
        let facts = &mut facts[place(n)];
        (facts.before, facts.after) = ((requests_before, failed_before), (requests, failed));
    }
    Ok(facts)
}

#[cfg(test)]
mod tests {
    use chrono::TimeDelta;

    use super::*;
    use crate::testing::{database, failing, now, of, resource, span, spans, store, trace, writer};
    use crate::to_utc;

    fn marked(title: &str, at: DateTime<Utc>, service: Option<&str>, environment: Option<&str>) -> NewMarker {
        NewMarker {
            at,
            ended_at: None,
            kind: "database".to_owned(),
            title: title.to_owned(),
            service: service.map(str::to_owned),
            environment: environment.map(str::to_owned),
            link: String::new(),
            by: "purser@skerry.example".to_owned(),
        }
    }

    #[tokio::test]
    async fn changes_are_found_where_they_may_have_touched_something() {
        let database = database().await;
        let sent = vec![of(resource("fares"), vec![span(trace(1), 1, None, now())])];
        store(&writer(&database), &[spans(sent, now())]).await;
        let at = Utc::now() - TimeDelta::hours(1);
        let later = at + TimeDelta::minutes(1);
        let all = mark(&database, &marked("for all", at, None, None))
            .await
            .unwrap()
            .unwrap();
        let own = mark(&database, &marked("own", later, Some("fares"), Some("production")))
            .await
            .unwrap()
            .unwrap();
        assert_eq!(
            mark(&database, &marked("x", at, Some("nobody"), None)).await.unwrap(),
            None
        );
        assert_eq!(
            mark(&database, &marked("x", at, None, Some("nowhere"))).await.unwrap(),
            None
        );
        let around = (at - TimeDelta::minutes(5), at + TimeDelta::minutes(5));
        let titles = async |of| {
            let found = list(&database, of, around, 9).await.unwrap();
            found.into_iter().map(|marker| marker.title).collect::<Vec<_>>()
        };
        assert_eq!(titles((None, None)).await, ["own", "for all"], "the newest first");
        assert_eq!(titles((Some("fares"), Some("production"))).await, ["own", "for all"]);
        assert_eq!(titles((Some("berths"), None)).await, ["for all"]);
        assert_eq!(titles((None, Some("staging"))).await, ["for all"]);
        assert!(remove(&database, own).await.unwrap());
        assert!(!remove(&database, own).await.unwrap());
        assert!(one(&database, own).await.unwrap().is_none());
        assert_eq!(
            one(&database, all).await.unwrap().map(|marker| marker.title).as_deref(),
            Some("for all")
        );
    }

    #[tokio::test]
    async fn requests_before_and_after_are_those_of_what_it_may_touch() {
        let database = database().await;
        let at = now();
        let before: Vec<_> = (1..=4)
            .map(|number| span(trace(number), number, None, at.plus_millis(-1_200_000)))
            .collect();
        let after: Vec<_> = (5..=7)
            .map(|number| failing(trace(number), number, None, at.plus_millis(-120_000), "taken"))
            .collect();
        let elsewhere = vec![span(trace(8), 8, None, at.plus_millis(-120_000))];
        let sent = vec![
            of(resource("fares"), before),
            of(resource("fares"), after),
            of(resource("berths"), elsewhere),
        ];
        store(&writer(&database), &[spans(sent, at)]).await;
        let begun = to_utc(at) - TimeDelta::minutes(10);
        let all = mark(&database, &marked("all", begun, None, None))
            .await
            .unwrap()
            .unwrap();
        let own = mark(&database, &marked("own", begun, Some("fares"), None))
            .await
            .unwrap()
            .unwrap();
        let found = [
            one(&database, all).await.unwrap().unwrap(),
            one(&database, own).await.unwrap().unwrap(),
        ];
        let asked: Vec<Asked<'_>> = found
            .iter()
            .map(|marker| Asked {
                marker,
                before_from: begun - TimeDelta::minutes(30),
                until: to_utc(at),
            })
            .collect();
        let told: Vec<_> = facts(&database, &asked)
            .await
            .unwrap()
            .into_iter()
            .map(|facts| (facts.before, facts.after))
            .collect();
        assert_eq!(told, [((4, 0), (4, 3)), ((4, 0), (3, 3))]);
        assert!(facts(&database, &[]).await.unwrap().is_empty());
    }
}
