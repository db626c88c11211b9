//! How long each table keeps its rows, or why they stay. A test holds this list against the schema
//! and against docs/guides/operate.md.

use std::time::Duration;

use crate::retention::Policy;

/// How long something is kept.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Kept {
    /// So many hours, whatever is set.
    Hours(u64),
    /// As long as occurrences.
    Occurrences,
    /// As long as log lines.
    Logs,
    /// As long as kept traces.
    Traces,
    /// As long as counts by hour and day.
    Counts,
    /// As long as metrics.
    Metrics,
}

/// What becomes of a table's rows.
#[derive(Clone, Copy, Debug)]
pub enum Lifetime {
    /// Partitions by day of event time, each dropped whole.
    Days(Kept),
    /// Rows go by a time in a column.
    Time(&'static str, Kept),
    /// Rows go by an id that begins with their time.
    Id(&'static str, Kept),
    /// Contents that nothing used since a day, by the column `used_day`, with two days of slack: a
    /// writer remembers one as stored for the day it was used.
    Contents,
    /// Names that nobody used since a day and that nothing refers to which is kept: the condition
    /// on `$1`, a day's number.
    Names(&'static str),
    /// Rows that end by a condition without a time of this list.
    When(&'static str),
    /// Rows go with their work, or with another table's rows: which.
    With(&'static str),
    /// Rows stay: why.
    Stays(&'static str),
}

impl Kept {
    /// The time itself, under a policy.
    #[must_use]
    pub fn span(self, policy: &Policy) -> Duration {
        let days = |days: i64| Duration::from_hours(24 * days.unsigned_abs());
        match self {
            Self::Hours(hours) => Duration::from_hours(hours),
            Self::Occurrences => days(policy.occurrence_days),
            Self::Logs => days(policy.log_days),
            Self::Traces => days(policy.trace_days),
            Self::Counts => days(policy.count_days),
            Self::Metrics => days(policy.metric_days),
        }
    }
}

use Kept::{Counts, Hours, Logs, Metrics, Occurrences, Traces};
use Lifetime::{Contents, Days, Id, Names, Stays, Time, When, With};

/// An SDK or a collector retries for hours, not for days.
const RECEIPTS: Kept = Hours(26);
/// State of what is still coming in, after its last news.
const STATES: Kept = Hours(2);
/// A yearly review finds all that people did.
const YEAR_AND_MORE: Kept = Hours(400 * 24);

/// Lists of deploys go back for a month.
const ANSWERS: Kept = Hours(32 * 24);
/// Links of invitations are good for 30 days at most.
const INVITATIONS: Kept = Hours(31 * 24);

/// Every table with its lifetime, by name.
pub const TABLES: &[(&str, Lifetime)] = &[
    ("also_reported", Time("received_at", RECEIPTS)),
    ("audit_entry", Time("at", YEAR_AND_MORE)),
    (
        "board_round",
        Stays("when the job that keeps the board looked last: one row"),
    ),
    ("called", Names("used_day < $1")),
    ("called_day", Time("day", Occurrences)),
    ("called_hour", Time("hour", Occurrences)),
    (
        "cause",
        Stays("a cause that was forgotten would come back falsely new; 10,000 errors a service at most"),
    ),
    (
        "cause_shape",
        Stays("one a cause that has a place in the code: what a later version of it is known by"),
    ),
    ("cleaning", Time("asked_at", YEAR_AND_MORE)),
    ("clock_ahead", Time("at", RECEIPTS)),
    ("close_up", Time("asked_at", YEAR_AND_MORE)),
    ("close_up_taken", With("close_up: 100 occurrences each at most")),
    ("counted", Stays("made by hand")),
    ("counted_hour", Time("hour", Metrics)),
    ("deploy", Time("at", YEAR_AND_MORE)),
    ("deploy_answer", Time("at", ANSWERS)),
    ("deploy_change", Time("sent_at", YEAR_AND_MORE)),
    (
        "deploy_stale",
        With("deploy_answer: what is to be answered anew, one row a service and environment at most"),
    ),
    (
        "deployed",
        Names(
            "version_id IN (SELECT id FROM version WHERE used_day < $1) AND NOT EXISTS (SELECT FROM sighted s WHERE \
             s.version_id = deployed.version_id) \
             AND NOT EXISTS (SELECT FROM deploy d WHERE d.version_id = deployed.version_id)",
        ),
    ),
    (
        "disturbed",
        Stays("rewritten by the detector of flags with the last day: 64 a service and environment at most"),
    ),
    (
        "drop_rule",
        Stays("what people discard, and what they discarded: 1,000 in force at most, each made by hand"),
    ),
    ("dropped", Time("hour", Occurrences)),
    (
        "endpoint",
        Names(
            "used_day < $1 AND NOT EXISTS (SELECT FROM endpoint_slow s WHERE s.endpoint_id = endpoint.id AND s.is_set)",
        ),
    ),
    (
        "endpoint_slow",
        Names("NOT is_set AND endpoint_id IN (SELECT id FROM endpoint WHERE used_day < $1)"),
    ),
    (
        "environment",
        Names(
            "used_day < $1 AND NOT EXISTS (SELECT FROM sighted s WHERE s.environment_id = environment.id) \
             AND NOT EXISTS (SELECT FROM deployed d WHERE d.environment_id = environment.id) \
             AND NOT EXISTS (SELECT FROM deploy d WHERE d.environment_id = environment.id) \
             AND NOT EXISTS (SELECT FROM marker m WHERE m.environment_id = environment.id)",
        ),
    ),
    (
        "error_group",
        Stays("an error that was forgotten would come back falsely new; 10,000 a service at most"),
    ),
    ("error_now", With("error_numbers: where an error stands by its numbers")),
    (
        "error_numbers",
        Stays(
            "what lists show of errors: a row an error, window and environment it occurs in, and gone with the window",
        ),
    ),
    (
        "error_stale",
        With("error_numbers: what is to be counted anew, one row an error at most"),
    ),
    ("failing", Time("touched_at", STATES)),
    ("flag", Time("said_at", YEAR_AND_MORE)),
    ("group_part", Days(Occurrences)),
    (
        "grouping_change",
        Stays("what people joined and split can be undone at any time; each made by hand"),
    ),
    (
        "handling",
        Stays("who has an error and whether it is settled: one row an error"),
    ),
    (
        "handling_change",
        Stays("the history of an error, made by hand, is read with it"),
    ),
    (
        "hot_chunk",
        With("hot_table: it is the mould of the tables of a quarter of an hour, and holds nothing itself"),
    ),
    (
        "hot_table",
        With(
            "the spans of a quarter of an hour, sorted 30 minutes later: what matters is moved to kept_chunk, the \
             table is dropped",
        ),
    ),
    ("installation", Stays("one row")),
    ("instance", Time("last_at", Occurrences)),
    ("instance_hour", Time("hour", Occurrences)),
    ("invitation", Time("made_at", INVITATIONS)),
    ("kept_body", Id("occurrence_id", Occurrences)),
    ("kept_chunk", Days(Traces)),
    ("kept_trace", Time("kept_at", Traces)),
    ("key_use", Time("hour", Occurrences)),
    ("known_address", Time("last_at", Hours(90 * 24))),
    ("latency_day", Time("hour", Occurrences)),
    ("latency_hour", Time("hour", Occurrences)),
    ("latency_part", With("folded into latency_hour within seconds")),
    (
        "limited_service",
        Stays("which services only their teams may read: one a service at most"),
    ),
    ("limit_reached", Time("hour", Occurrences)),
    ("log_hour", Time("hour", Occurrences)),
    ("log_record", Days(Logs)),
    ("log_template", Contents),
    ("marker", Time("at", YEAR_AND_MORE)),
    ("metric_hour", Time("hour", Metrics)),
    (
        "metric_point",
        With("metric_hour: folded into it two minutes after its time"),
    ),
    (
        "metric_series",
        Names("used_day < $1 AND NOT EXISTS (SELECT FROM metric_hour h WHERE h.series_id = metric_series.id)"),
    ),
    ("member", Stays("people, added and removed by hand")),
    ("notice", Time("made_at", YEAR_AND_MORE)),
    (
        "notice_episode",
        With("what lasts: a row goes when what it says is over"),
    ),
    ("notice_event", Time("at", Occurrences)),
    (
        "notice_plan",
        Stays("what waits to be sent, and what was sent lately: one row"),
    ),
    ("notice_rule", Stays("made by hand, 2,000 at most")),
    ("notice_way", Stays("made by hand, 100 at most")),
    ("notice_wishes", Stays("how members want to be told: one row a member")),
    (
        "oauth_client",
        When(
            "made_at < now() - interval '1 day' AND NOT EXISTS (SELECT FROM oauth_grant g WHERE g.client = \
             oauth_client.id)",
        ),
    ),
    ("oauth_grant", Time("expires_at", Hours(24))),
    ("oauth_secret", Time("expires_at", Hours(24))),
    ("occurrence", Days(Occurrences)),
    ("occurrence_origin", Time("at", Occurrences)),
    (
        "origin_due",
        With("found within seconds: where a trace's failure began"),
    ),
    ("owner_rule", Stays("who owns what: made by hand, 500 at most")),
    ("pairing", Time("touched_at", STATES)),
    ("payload", Days(Occurrences)),
    ("platform_event", Id("id", Occurrences)),
    ("reach_day", Time("day", Occurrences)),
    ("reach_hour", Time("hour", Occurrences)),
    ("receipt", Time("received_at", RECEIPTS)),
    ("refused_request", Time("minute", Hours(24))),
    ("request", Days(Occurrences)),
    ("request_sample", Id("id", Occurrences)),
    ("resource", Contents),
    ("sampling_hour", Time("hour", Occurrences)),
    ("saved_view", Stays("saved by hand: 500 at most")),
    ("sheet", Stays("saved by hand: 500 at most")),
    ("saved_question", Stays("saved by hand: 1,000 at most")),
    (
        "saved_question_before",
        With("saved_question: what each was before, 50 versions at most"),
    ),
    (
        "scrub_rule",
        Stays("what people have removed, and had removed: 100 in force at most, each made by hand"),
    ),
    (
        "sender_key",
        Stays("made by hand; a revoked key says who sent what came by it"),
    ),
    (
        "service",
        Names(
            "used_day < $1 AND NOT EXISTS (SELECT FROM error_group e WHERE e.service_id = service.id) \
             AND NOT EXISTS (SELECT FROM version v WHERE v.service_id = service.id) AND NOT EXISTS (SELECT FROM \
             endpoint e WHERE e.service_id = service.id) \
             AND NOT EXISTS (SELECT FROM instance i WHERE i.service_id = service.id) AND NOT EXISTS (SELECT FROM \
             clock_ahead c WHERE c.service_id = service.id) \
             AND NOT EXISTS (SELECT FROM called c WHERE c.service_id = service.id OR c.to_service_id = service.id) \
             AND NOT EXISTS (SELECT FROM deploy d WHERE d.service_id = service.id) AND NOT EXISTS (SELECT FROM marker \
             m WHERE m.service_id = service.id) \
             AND NOT EXISTS (SELECT FROM service_setting s WHERE s.service_id = service.id) \
             AND NOT EXISTS (SELECT FROM deploy_change d WHERE d.service_id = service.id)",
        ),
    ),
    ("service_setting", Stays("set by hand: one row a service")),
    (
        "service_slow",
        With("made anew from latency_day every 15 seconds: one row a service"),
    ),
    ("served_day", Time("day", Counts)),
    ("served_hour", Time("hour", Counts)),
    ("served_minute", Days(Occurrences)),
    ("session", Time("last_used_at", Hours(14 * 24))),
    (
        "sighted",
        Stays("when a cause was first and last seen in a version, without which it would come back falsely new"),
    ),
    ("sign_in_failure", Time("last_at", Hours(1))),
    ("slice", Stays("saved by hand")),
    ("stack", Contents),
    ("status_day", Time("day", Occurrences)),
    ("status_hour", Time("hour", Occurrences)),
    ("status_minute", Days(Occurrences)),
    ("tally_day", Time("day", Counts)),
    ("tally_hour", Time("hour", Counts)),
    ("tally_minute", Days(Occurrences)),
    ("team", Stays("made by hand")),
    ("team_member", Stays("who is in which team: made by hand")),
    ("team_service", Stays("which services a team owns: made by hand")),
    ("test_report", Time("last_at", Hours(72))),
    (
        "ticket",
        Stays("one an error at most, made or linked by hand or by a rule"),
    ),
    (
        "token",
        When("coalesce(revoked_at, expires_at) < now() - interval '400 days'"),
    ),
    ("touched", With("folded into reach_hour within seconds")),
    ("tracker", Stays("how tickets are made: one row")),
    ("traffic_day", Time("day", Counts)),
    ("traffic_hour", Time("hour", Counts)),
    ("traffic_minute", Days(Occurrences)),
    (
        "version",
        Names(
            "used_day < $1 AND NOT EXISTS (SELECT FROM sighted s WHERE s.version_id = version.id) \
             AND NOT EXISTS (SELECT FROM deployed d WHERE d.version_id = version.id) AND NOT EXISTS (SELECT FROM \
             deploy d WHERE d.version_id = version.id)",
        ),
    ),
    ("weight", Stays("set by hand")),
];

/// The order in which names go, those that refer to others first; all other steps come before.
pub(super) const NAMES_IN_ORDER: [&str; 8] = [
    "metric_series",
    "endpoint_slow",
    "deployed",
    "called",
    "endpoint",
    "version",
    "environment",
    "service",
];

/// The lifetime of a table.
///
/// # Panics
/// For a table that is not in the list.
#[must_use]
pub fn of(table: &str) -> Lifetime {
    TABLES
        .iter()
        .find(|(name, _)| *name == table)
        .map(|(_, lifetime)| *lifetime)
        .expect("every table is in the list, as a test holds")
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeSet;

    use sqlx::AssertSqlSafe;

    use super::*;
    use crate::testing::database;

    #[tokio::test]
    async fn every_table_of_the_schema_has_a_lifetime_or_a_reason_to_stay_and_stands_in_the_docs() {
        let database = database().await;
        let tables: Vec<(String,)> = sqlx::query_as(
            "SELECT relname::text FROM pg_class WHERE relkind IN ('r', 'p') AND NOT relispartition AND relnamespace = \
             'public'::regnamespace \
             AND relname <> '_sqlx_migrations' AND relname !~ '^hot_[0-9]'",
        )
        .fetch_all(&database.pool)
        .await
        .unwrap();
        let there: BTreeSet<&str> = tables.iter().map(|(name,)| name.as_str()).collect();
        let listed: BTreeSet<&str> = TABLES.iter().map(|(name, _)| *name).collect();
        assert_eq!(there, listed);
        assert_eq!(listed.len(), TABLES.len(), "each once");
        let docs = include_str!("../../../../docs/guides/operate.md");
        let missing: Vec<_> = listed
            .iter()
            .filter(|name| !docs.contains(&format!("`{name}`")))
            .collect();
        assert!(missing.is_empty(), "docs/guides/operate.md says nothing of {missing:?}");
    }

    #[tokio::test]
    async fn every_delete_goes_by_an_index() {
        let database = database().await;
        let mut connection = database.pool.acquire().await.unwrap();
        // A table as small as a test's is read whole unless that is forbidden: then a plan without
        // an index shows itself.
        sqlx::query("SET enable_seqscan = off")
            .execute(&mut *connection)
            .await
            .unwrap();
        let mut without = vec![];
        for (table, lifetime) in TABLES {
            let condition = match lifetime {
                Time(column, _) => format!("{column} < now()"),
                Id(column, _) => format!("{column} < first_id_at(now())"),
                Contents => "used_day < 1".to_owned(),
                _ => continue,
            };
            let plan: Vec<(String,)> = sqlx::query_as(AssertSqlSafe(format!(
                "EXPLAIN SELECT ctid FROM {table} WHERE {condition} LIMIT 5000"
            )))
            .fetch_all(&mut *connection)
            .await
            .unwrap();
            if !plan.iter().any(|(line,)| line.contains("Index Cond")) {
                without.push((*table, condition));
            }
        }
        assert!(without.is_empty(), "searched without an index: {without:#?}");
    }
}
