//! What log lines share that other lines of their services do not.

use outcrop_core::stands_out::{Finding, Tally, stands_out};
use sqlx::{FromRow, QueryBuilder};

use super::{Asked, narrow};
use crate::{Database, Scope, StoreError, boxed};

/// Lines that are looked at, and lines that these are held against: the newest of each.
const LINES: i64 = 2_000;
const USUAL: i64 = 5_000;
/// Values that are held against each other, the most frequent first.
const VALUES: i64 = 2_000;
/// Longest value, in characters: what distinguishes lines is short.
const LONGEST: i64 = 200;

/// What lines share.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Shared {
    /// Lines that were looked at: the newest 2,000 at most.
    pub lines: u64,
    /// Lines of the same services that they were held against: the newest 5,000 at most.
    pub usual: u64,
    /// What stands out, the strongest first.
    pub findings: Vec<Finding>,
}

#[derive(FromRow)]
struct Counted {
    name: String,
    value: String,
    seen: i64,
    usual: i64,
    all_seen: i64,
    all_usual: i64,
}

/// Finds what the lines asked for share, against all lines of their services in the scope. What is asked for itself, by
/// `but`, is not told.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
#[boxed]
pub async fn shared(database: &Database, scope: &Scope, asked: &Asked, but: &[&str]) -> Result<Shared, StoreError> {
    let columns = "o.id, o.service_id, o.environment_id, o.version_id, o.resource, o.attributes";
    let mut sql = QueryBuilder::new(format!(
        "WITH seen AS MATERIALIZED (SELECT {columns} FROM log_record o WHERE "
    ));
    narrow(&mut sql, database, scope, asked).await?;
    sql.push(" ORDER BY o.id DESC LIMIT ").push_bind(LINES);
    sql.push(format!(
        "), usual AS MATERIALIZED (SELECT {columns} FROM log_record o WHERE "
    ));
    let bare = Scope {
        predicate: None,
        ..scope.clone()
    };
    narrow(&mut sql, database, &bare, &Asked::default()).await?;
    sql.push(" AND o.service_id IN (SELECT service_id FROM seen) ORDER BY o.id DESC LIMIT ")
        .push_bind(USUAL);
    sql.push(
        "), line AS (SELECT true AS is_seen, seen.* FROM seen UNION ALL SELECT false, usual.* FROM usual), pair AS \
         (SELECT is_seen, told.key AS name, left(told.value, ",
    );
    sql.push_bind(LONGEST).push(
        "::int) AS value FROM line LEFT JOIN resource ON resource.hash = line.resource CROSS JOIN LATERAL \
         jsonb_each_text(coalesce(resource.body, '{}') || line.attributes) AS told UNION ALL SELECT is_seen, 'version', \
         version.label FROM line JOIN version ON version.id = line.version_id UNION ALL SELECT is_seen, 'environment', \
         environment.name FROM line JOIN environment ON environment.id = line.environment_id) SELECT name, value, \
         count(*) FILTER (WHERE is_seen) AS seen, count(*) FILTER (WHERE NOT is_seen) AS usual, (SELECT count(*) FROM \
         seen) AS all_seen, (SELECT count(*) FROM usual) AS all_usual FROM pair GROUP BY name, value HAVING count(*) \
         FILTER (WHERE is_seen) > 1 ORDER BY seen DESC, name, value LIMIT ",
    );
    sql.push_bind(VALUES);
    let counted: Vec<Counted> = sql.build_query_as().fetch_all(&database.pool).await?;
    let Some(first) = counted.first() else {
        return Ok(Shared::default());
    };
    let (lines, usual) = (first.all_seen.unsigned_abs(), first.all_usual.unsigned_abs());
    #[expect(clippy::cast_precision_loss, reason = "some thousands")]
    let tallies: Vec<Tally> = counted
        .iter()
        .filter(|row| !SAID_ELSEWHERE.contains(&row.name.as_str()) && !but.contains(&row.name.as_str()))
        .map(|row| Tally {
            name: row.name.clone(),
            value: row.value.clone(),
            occurrences: row.seen.unsigned_abs(),
            usual: row.usual as f64 / first.all_usual.max(1) as f64,
        })
        .collect();
    #[expect(clippy::cast_precision_loss, reason = "some thousands")]
    let findings = stands_out(&tallies, lines, usual as f64);
    Ok(Shared { lines, usual, findings })
}

/// What a line says of its own wording, place in time, and sender: shown beside it already.
const SAID_ELSEWHERE: &[&str] = &[
    "service.name",
    "service.version",
    "deployment.environment.name",
    "deployment.environment",
    "exception.message",
    "exception.stacktrace",
    "log.body",
    "thread.id",
    "thread.name",
];

#[cfg(test)]
mod tests {
    use chrono::TimeDelta;

    use super::*;
    use crate::testing::{attributes, database, logged, logs, now, of, resource_of, store, writer};
    use crate::to_utc;

    /// Lines of fares on three hosts: of one of them, most are of berth 7 and warn.
    async fn lines(database: &Database) -> Scope {
        let at = now();
        let line = |number: i64, message: &str, berth: &str| {
            let mut line = logged(at.plus_millis(number - 60_000), message);
            line.attributes = attributes(&[("berth", berth)]);
            line.body = outcrop_core::telemetry::Value::String(message.to_owned());
            line
        };
        let on = |host: &str| {
            resource_of(&[
                ("service.name", "fares"),
                ("service.version", "2.4.0"),
                ("deployment.environment.name", "production"),
                ("host.name", host),
            ])
        };
        let told = |host: &str, from: i64, message: &'static str, berth: &'static str, count: i64| {
            of(on(host), (0..count).map(|n| line(from + n, message, berth)).collect())
        };
        let groups = vec![
            told("pier-1", 0, "quoted", "3", 200),
            told("pier-2", 300, "quoted", "4", 200),
            told("pier-3", 600, "gate is shut", "7", 40),
            told("pier-3", 700, "quoted", "5", 60),
        ];
        store(&writer(database), &[logs(groups, at)]).await;
        let to = to_utc(at) + TimeDelta::minutes(1);
        Scope {
            service: None,
            environment: None,
            version: None,
            from: to - TimeDelta::hours(1),
            to,
            predicate: None,
        }
    }

    #[tokio::test]
    async fn lines_are_held_against_all_of_their_service() {
        let database = database().await;
        let scope = lines(&database).await;
        let asked = Asked {
            text: Some("shut".to_owned()),
            ..Asked::default()
        };
        let found = shared(&database, &scope, &asked, &[]).await.unwrap();
        assert_eq!((found.lines, found.usual), (40, 500));
        let said: Vec<String> = found
            .findings
            .iter()
            .map(|finding| finding.sentence(found.lines))
            .collect();
        assert_eq!(
            said,
            [
                "all with berth = 7; usually 8.0 %",
                "all with host.name = pier-3; usually 20 %"
            ]
        );
        let but = shared(&database, &scope, &asked, &["berth"]).await.unwrap();
        assert_eq!(but.findings.len(), 1, "what was asked for is not told");
    }

    #[tokio::test]
    async fn all_lines_share_nothing_that_others_do_not() {
        let database = database().await;
        let scope = lines(&database).await;
        let found = shared(&database, &scope, &Asked::default(), &[]).await.unwrap();
        assert_eq!((found.lines, found.findings.len()), (500, 0));
        let none = Asked {
            text: Some("no such words".to_owned()),
            ..Asked::default()
        };
        assert_eq!(shared(&database, &scope, &none, &[]).await.unwrap(), Shared::default());
    }
}
