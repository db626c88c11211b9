//! What members may read to whom some services are closed: each table as a view without the rows of these services.
//!
//! A pool of such a member finds the views in place of the tables (`search_path`), so that no question has to think of
//! it. Where a view is missing, the question fails: it never falls back on the whole table.

use std::collections::BTreeMap;

use sqlx::{AssertSqlSafe, PgConnection};

/// The schema of the views.
pub(super) const SCHEMA: &str = "visible";

/// The setting that holds the numbers of the closed services, as an array's text.
pub(super) const CLOSED: &str = "outcrop.closed";

/// The closed services; asked once a statement, since it stands in a question of its own.
const SERVICES: &str = "(SELECT current_setting('outcrop.closed')::integer[])::integer[]";

/// Columns that say whose a row is, the nearest first: the first that a table has is looked at.
const OWNERS: [(&str, &str); 7] = [
    ("service_id", "{column} = ANY({services})"),
    (
        "cause_id",
        "{column} IN (SELECT id FROM public.cause WHERE service_id = ANY({services}))",
    ),
    (
        "error_id",
        "{column} IN (SELECT id FROM public.error_group WHERE service_id = ANY({services}))",
    ),
    (
        "endpoint_id",
        "{column} IN (SELECT id FROM public.endpoint WHERE service_id = ANY({services}))",
    ),
    ("called_id", "{column} NOT IN (SELECT id FROM visible.called)"),
    (
        "instance_id",
        "{column} IN (SELECT id FROM public.instance WHERE service_id = ANY({services}))",
    ),
    (
        "occurrence_id",
        "NOT EXISTS (SELECT FROM visible.occurrence o WHERE o.id = {column})",
    ),
];

/// Columns that lead elsewhere: a row that leads to a closed service is closed too.
const LEADS: [(&str, &str); 2] = [
    ("to_service_id", "{column} = ANY({services})"),
    (
        "origin_cause_id",
        "{column} IN (SELECT id FROM public.cause WHERE service_id = ANY({services}))",
    ),
];

/// Tables that name services in other ways.
const OTHERS: [(&str, &str); 8] = [
    ("service", "id = ANY({services})"),
    (
        "weight",
        "service IN (SELECT display_name FROM public.service WHERE id = ANY({services}))",
    ),
    (
        "owner_rule",
        "service IN (SELECT display_name FROM public.service WHERE id = ANY({services}))",
    ),
    (
        "scrub_rule",
        "service IN (SELECT display_name FROM public.service WHERE id = ANY({services}))",
    ),
    (
        "sender_key",
        "services && ARRAY(SELECT display_name FROM public.service WHERE id = ANY({services}))",
    ),
    (
        "notice",
        "EXISTS (SELECT FROM public.notice_event e WHERE e.id = ANY(t.event_ids) AND e.service_id = ANY({services}))",
    ),
    // An answer that tells of flags elsewhere is made for whoever may not see these.
    (
        "deploy_answer",
        "service_id = ANY({services}) OR services && ARRAY(SELECT display_name FROM public.service WHERE id = \
         ANY({services}))",
    ),
    // What a platform tells of names its objects by their services as a rule.
    (
        "platform_event",
        "EXISTS (SELECT FROM public.service s WHERE s.id = ANY({services}) AND (strpos(object, s.name) > 0 OR \
         strpos(message, s.name) > 0))",
    ),
];

/// The condition under which a row of a table is closed; none where its rows are nobody's.
pub(super) fn closed(table: &str, columns: &[String]) -> Option<String> {
    let other = OTHERS.iter().find(|(name, _)| *name == table);
    let has = |column: &str| columns.iter().any(|each| each == column);
    let filled = |column: &str, condition: &str| {
        condition
            .replace("{column}", &format!("t.{column}"))
            .replace("{services}", SERVICES)
    };
    let mut conditions: Vec<String> = match other {
        Some((_, condition)) => vec![filled("", condition)],
        None => OWNERS
            .iter()
            .find(|(column, _)| has(column))
            .map(|(column, condition)| filled(column, condition))
            .into_iter()
            .collect(),
    };
    conditions.extend(
        LEADS
            .iter()
            .filter(|(column, _)| has(column))
            .map(|(column, condition)| filled(column, condition)),
    );
    (!conditions.is_empty()).then(|| conditions.join(" OR "))
}

/// Takes the views away: until they are made anew, whoever reads through them is refused.
pub(super) async fn remove(connection: &mut PgConnection) -> Result<(), sqlx::Error> {
    let statement = format!("DROP SCHEMA IF EXISTS {SCHEMA} CASCADE");
    sqlx::raw_sql(AssertSqlSafe(statement)).execute(connection).await?;
    Ok(())
}

/// Makes the views of all tables anew.
pub(super) async fn make(connection: &mut PgConnection) -> Result<(), sqlx::Error> {
    let mut tables = tables(connection).await?;
    // Views that others are made of come first.
    let mut first = vec![];
    for name in ["called", "occurrence"] {
        first.extend(tables.remove_entry(name));
    }
    let mut statements = format!("DROP SCHEMA IF EXISTS {SCHEMA} CASCADE; CREATE SCHEMA {SCHEMA};");
    for (table, columns) in first.into_iter().chain(tables) {
        let condition = closed(&table, &columns)
            .map(|closed| format!(" WHERE ({closed}) IS NOT TRUE"))
            .unwrap_or_default();
        statements.extend([
            format!("CREATE VIEW {SCHEMA}.{table} AS SELECT * FROM public.{table} t"),
            condition,
            ";".to_owned(),
        ]);
    }
    let functions: Vec<String> = sqlx::query_scalar(
        "SELECT pg_get_functiondef(oid) FROM pg_proc WHERE pronamespace = 'public'::regnamespace AND prokind = 'f' \
         AND prorettype <> 'trigger'::regtype ORDER BY proname",
    )
    .fetch_all(&mut *connection)
    .await?;
    for function in functions {
        statements.push_str(&function.replacen("FUNCTION public.", &format!("FUNCTION {SCHEMA}."), 1));
        statements.push(';');
    }
    sqlx::raw_sql(AssertSqlSafe(format!(
        "BEGIN; SELECT pg_advisory_xact_lock(hashtext('outcrop visible')); {statements} COMMIT"
    )))
    .execute(connection)
    .await?;
    Ok(())
}

/// All tables with their columns, but for the hot ones: these are read by their whole name, and their rows closed by whoever
/// reads them.
pub(crate) async fn tables(connection: &mut PgConnection) -> Result<BTreeMap<String, Vec<String>>, sqlx::Error> {
    let rows: Vec<(String, Vec<String>)> = sqlx::query_as(
        "SELECT c.relname::text, array_agg(a.attname::text ORDER BY attnum) FROM pg_class c \
         JOIN pg_attribute a ON a.attrelid = c.oid AND a.attnum > 0 AND NOT a.attisdropped \
         WHERE c.relnamespace = 'public'::regnamespace AND c.relkind IN ('r', 'p') AND NOT c.relispartition \
             AND c.relname !~ '^hot_[0-9]' GROUP BY c.relname",
    )
    .fetch_all(connection)
    .await?;
    Ok(rows.into_iter().collect())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::asking::list_errors;
    use crate::testing::{database, failing, now, number, of, resource, spans, store, trace, writer};
    use crate::traces;

    /// Tables whose rows belong to no service: what stands in them is read by all.
    const NOBODYS: [&str; 40] = [
        "_sqlx_migrations",
        "audit_entry",
        "board_round",
        "cleaning",
        "counted",
        "counted_hour",
        "dropped",
        "environment",
        "hot_table",
        "installation",
        "invitation",
        "kept_trace",
        "key_use",
        "known_address",
        "log_template",
        "member",
        "notice_episode",
        "notice_plan",
        "notice_rule",
        "notice_way",
        "notice_wishes",
        "oauth_client",
        "oauth_grant",
        "oauth_secret",
        "origin_due",
        "receipt",
        "refused_request",
        "resource",
        "saved_question",
        "saved_question_before",
        "saved_view",
        "session",
        "sheet",
        "sign_in_failure",
        "slice",
        "stack",
        "team",
        "team_member",
        "token",
        "tracker",
    ];

    #[tokio::test]
    async fn each_table_is_seen_without_the_rows_of_closed_services_or_is_known_as_nobodys() {
        let database = database().await;
        let mut connection = database.pool.acquire().await.unwrap();
        let tables = tables(&mut connection).await.unwrap();
        let open: Vec<&str> = tables
            .iter()
            .filter(|(table, columns)| closed(table, columns).is_none())
            .map(|(table, _)| table.as_str())
            .collect();
        assert_eq!(open, NOBODYS);
    }

    #[tokio::test]
    async fn of_a_closed_service_nothing_is_there_and_its_spans_are_boxes() {
        let database = database().await;
        let sent = ["fares", "ledger"].map(|name| {
            let id = u64::try_from(name.len()).unwrap();
            let failure = failing(trace(1), id, None, now(), &format!("{name} failed"));
            of(resource(name), vec![failure])
        });
        store(&writer(&database), &[spans(sent.into(), now())]).await;
        let ledger = number(&database, "SELECT id::bigint FROM service WHERE name = 'ledger'").await;
        let seen = database.seen_by(&[i32::try_from(ledger).unwrap()]);
        for count in [
            "SELECT count(*) FROM service",
            "SELECT count(*) FROM error_group",
            "SELECT count(*) FROM cause",
            "SELECT count(*) FROM occurrence",
            "SELECT count(*) FROM tally_minute",
            "SELECT count(*) FROM traffic_minute",
            "SELECT count(*) FROM payload",
        ] {
            let (whole, part) = (number(&database, count).await, number(&seen, count).await);
            assert_eq!((whole, part), (2, 1), "{count}");
        }
        let now = chrono::Utc::now();
        let day = chrono::TimeDelta::days(1);
        let scope = crate::Scope {
            service: None,
            environment: None,
            version: None,
            from: now - day,
            to: now + day,
            predicate: None,
        };
        let errors = list_errors(&seen, &scope).await.unwrap();
        assert_eq!(
            errors.iter().map(|error| error.service.as_str()).collect::<Vec<_>>(),
            ["fares"]
        );

        let id = trace(1).0;
        let whole = traces::read(&database, id).await.unwrap().unwrap();
        let part = traces::read(&seen, id).await.unwrap().unwrap();
        assert_eq!(whole.chunks.len(), part.chunks.len());
        let said = format!("{part:?}");
        assert!(said.contains("fares failed") && !said.contains("ledger"), "{said}");
        // What is done through the views is done to the tables.
        let take = crate::errors::handling::Action::Take("purser".to_owned());
        crate::errors::handling::act(&seen, &[errors[0].reference], &take, ("purser", now), None)
            .await
            .unwrap();
        let taken = number(&database, "SELECT count(*) FROM handling WHERE taken_by = 'purser'").await;
        assert_eq!(taken, 1);
        // Nothing falls back on a table where the views are gone.
        remove(&mut database.pool.acquire().await.unwrap()).await.unwrap();
        sqlx::query("SELECT 1 FROM service")
            .execute(&seen.pool)
            .await
            .unwrap_err();
    }

    #[tokio::test]
    async fn readers_with_the_same_services_closed_share_their_connections_and_few_are_kept() {
        let database = database().await;
        for closed in 1..40 {
            drop(database.seen_by(&[closed]));
            drop(database.seen_by(&[closed]));
        }
        assert_eq!(database.seen.lock().unwrap().len(), super::super::open::SEEN);
    }
}
