//! What occurrences fall into: the values of one field over a window, and the users of one error.

use std::collections::{BTreeMap, BTreeSet, HashMap};

use chrono::{DateTime, Utc};
use outcrop_core::Reference;
use outcrop_core::query::Field;
use outcrop_core::stack::{Frame, Stack, short_path};
use outcrop_core::telemetry::names;
use sqlx::{FromRow, Postgres, QueryBuilder};

use crate::asking::{resolve, within};
use crate::boxed;
use crate::ids::number;
use crate::people::settings;
use crate::{Database, Scope, StoreError, asking, stacks};

/// One value of a field, with what falls to it.
#[derive(Clone, Debug, PartialEq, Eq, FromRow)]
pub struct FieldValue {
    /// The value.
    pub value: String,
    /// Errors.
    pub errors: i64,
    /// Occurrences.
    pub occurrences: i64,
    /// Users.
    pub users: i64,
}

/// The most frequent values of a field over the occurrences of a scope, `limit` at most. A field of whole errors other
/// than the kind, and states, have none.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
#[boxed]
pub async fn values(
    database: &Database,
    scope: &Scope,
    field: &Field,
    limit: usize,
) -> Result<Vec<FieldValue>, StoreError> {
    match field {
        Field::Kind => return kinds(database, scope, limit).await,
        Field::File | Field::Function => return of_frames(database, scope, field, limit).await,
        _ => {}
    }
    let mut sql = QueryBuilder::new(
        "SELECT value, count(DISTINCT cause.error_id) AS errors, count(*) AS occurrences, count(DISTINCT user_hash) \
         AS users FROM (SELECT ",
    );
    if !expression(database, &mut sql, field).await? {
        return Ok(vec![]);
    }
    sql.push(" AS value, o.cause_id, o.user_hash FROM occurrence o WHERE ");
    within(&mut sql, scope);
    if let Some(asked) = &scope.predicate {
        let condition = resolve(database, asked, scope).await?;
        sql.push(" AND ");
        condition.write(&mut sql);
    }
    sql.push(
        ") found JOIN cause ON cause.id = cause_id WHERE value <> '' GROUP BY value ORDER BY occurrences DESC, \
        value LIMIT ",
    );
    sql.push_bind(i64::try_from(limit).unwrap_or(i64::MAX));
    Ok(sql.build_query_as().fetch_all(&database.pool).await?)
}

async fn kinds(database: &Database, scope: &Scope, limit: usize) -> Result<Vec<FieldValue>, StoreError> {
    let mut parts: Vec<FieldValue> = vec![];
    for summary in asking::list_errors(database, scope)
        .await?
        .iter()
        .filter(|summary| summary.count > 0)
    {
        let Some(kind) = summary.kind() else { continue };
        let at = parts.iter().position(|part| part.value == kind).unwrap_or_else(|| {
            parts.push(FieldValue {
                value: kind.to_owned(),
                errors: 0,
                occurrences: 0,
                users: 0,
            });
            parts.len() - 1
        });
        parts[at].errors += 1;
        parts[at].occurrences += summary.count;
        parts[at].users += summary.users;
    }
    parts.sort_by(|a, b| b.occurrences.cmp(&a.occurrences).then_with(|| a.value.cmp(&b.value)));
    parts.truncate(limit);
    Ok(parts)
}

#[derive(FromRow)]
struct ByStack {
    stack: uuid::Uuid,
    error_id: i32,
    user_hash: Option<i64>,
    occurrences: i64,
}

/// Stacks of users that are looked at: past these the rarest are left out.
const MAX_STACKS: i64 = 100_000;

/// Files or functions of own frames: an occurrence falls to each that its stack has.
async fn of_frames(
    database: &Database,
    scope: &Scope,
    field: &Field,
    limit: usize,
) -> Result<Vec<FieldValue>, StoreError> {
    let mut sql = QueryBuilder::new(
        "SELECT o.stack, cause.error_id, o.user_hash, count(*) AS occurrences FROM occurrence o JOIN cause ON \
         cause.id = o.cause_id WHERE ",
    );
    within(&mut sql, scope);
    if let Some(asked) = &scope.predicate {
        let condition = resolve(database, asked, scope).await?;
        sql.push(" AND ");
        condition.write(&mut sql);
    }
    sql.push(" AND o.stack IS NOT NULL GROUP BY 1, 2, 3 ORDER BY 4 DESC LIMIT ")
        .push_bind(MAX_STACKS);
    let rows: Vec<ByStack> = sql.build_query_as().fetch_all(&database.pool).await?;
    let hashes: BTreeSet<uuid::Uuid> = rows.iter().map(|row| row.stack).collect();
    let stored: Vec<(uuid::Uuid, Vec<u8>)> = sqlx::query_as("SELECT hash, frames FROM stack WHERE hash = ANY($1)")
        .bind(hashes.into_iter().collect::<Vec<_>>())
        .fetch_all(&database.pool)
        .await?;
    let values: HashMap<uuid::Uuid, BTreeSet<String>> = stored
        .into_iter()
        .filter_map(|(hash, frames)| Some((hash, own(&stacks::unpack_stack(&frames)?, field))))
        .collect();
    let mut sums: BTreeMap<&str, (BTreeSet<i32>, BTreeSet<i64>, i64)> = BTreeMap::new();
    for row in &rows {
        for value in values.get(&row.stack).into_iter().flatten() {
            let sum = sums.entry(value).or_default();
            sum.0.insert(row.error_id);
            sum.1.extend(row.user_hash.filter(|user| *user != 0));
            sum.2 += row.occurrences;
        }
    }
    let count = |length: usize| i64::try_from(length).unwrap_or(i64::MAX);
    let mut parts: Vec<FieldValue> = sums
        .into_iter()
        .map(|(value, (errors, users, occurrences))| FieldValue {
            value: value.to_owned(),
            errors: count(errors.len()),
            occurrences,
            users: count(users.len()),
        })
        .collect();
    parts.sort_by(|a, b| b.occurrences.cmp(&a.occurrences).then_with(|| a.value.cmp(&b.value)));
    parts.truncate(limit);
    Ok(parts)
}

/// The files or functions of a stack's own frames: files by their last two parts, since each deploy has its own folder.
fn own(stack: &Stack<'_>, field: &Field) -> BTreeSet<String> {
    let frames = stack
        .exceptions
        .iter()
        .flat_map(|exception| &exception.frames)
        .filter(|frame| frame.own);
    let value = |frame: &Frame<'_>| match field {
        Field::File => short_path(&frame.file).to_owned(),
        _ => frame.function.to_string(),
    };
    frames.map(value).filter(|value| !value.is_empty()).collect()
}

/// Writes the value of a field of an occurrence, as text; whether it has one.
pub(crate) async fn expression(
    database: &Database,
    sql: &mut QueryBuilder<Postgres>,
    field: &Field,
) -> Result<bool, StoreError> {
    let attribute = |sql: &mut QueryBuilder<Postgres>, name: &str| asking::sent(sql, name, "->>");
    let of_table = match field {
        Field::Service => "(SELECT name FROM service WHERE id = o.service_id)",
        Field::Namespace => "(SELECT namespace FROM service WHERE id = o.service_id)",
        Field::Environment => "(SELECT name FROM environment WHERE id = o.environment_id)",
        Field::Version => "(SELECT label FROM version WHERE id = o.version_id)",
        Field::Endpoint => "(SELECT name FROM endpoint WHERE id = o.endpoint_id)",
        Field::Type => "o.type",
        Field::Message => "o.message",
        Field::User => asking::USER,
        Field::Trace => "replace(o.trace_id::text, '-', '')",
        // OTLP's six, each of four numbers.
        Field::Severity => "('{trace,debug,info,warn,error,fatal}'::text[])[(o.severity + 3) / 4]",
        Field::Touches => {
            attribute(sql, names::TOUCHES);
            return Ok(true);
        }
        Field::Attribute(name) => {
            attribute(sql, name);
            return Ok(true);
        }
        Field::Group | Field::Customer => return chosen(database, sql, field).await,
        _ => return Ok(false),
    };
    sql.push(of_table);
    Ok(true)
}

/// The value of the attribute chosen for each service.
async fn chosen(database: &Database, sql: &mut QueryBuilder<Postgres>, field: &Field) -> Result<bool, StoreError> {
    let by_attribute = asking::chosen_attributes(&settings::all(database).await?, field);
    if by_attribute.is_empty() {
        return Ok(false);
    }
    sql.push("CASE");
    for (name, of) in by_attribute {
        sql.push(" WHEN ");
        of.write(sql);
        sql.push(" THEN ");
        asking::sent(sql, &name, "->>");
    }
    sql.push(" END");
    Ok(true)
}

/// A user of an error.
#[derive(Clone, Debug, FromRow)]
pub struct User {
    /// What they are called in the attributes.
    pub user: String,
    /// Occurrences of the error that hit them.
    pub occurrences: i64,
    /// The first of them.
    pub first_seen: DateTime<Utc>,
    /// The last of them.
    pub last_seen: DateTime<Utc>,
    /// Errors of any kind and service that hit them in the window.
    pub errors: i64,
}

/// The users an error hit in a scope: the most often hit first, after those with more occurrences
/// or, at as many, a smaller name than `after`.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
#[boxed]
pub async fn users(
    database: &Database,
    error: Reference,
    scope: &Scope,
    after: Option<(i64, String)>,
    limit: i64,
) -> Result<Vec<User>, StoreError> {
    let mut sql = QueryBuilder::new(format!(
        "WITH hit AS (SELECT {} AS user, min(o.user_hash) AS hash, count(*) AS occurrences, min(id_time(o.id)) AS \
         first_seen, max(id_time(o.id)) AS last_seen \
         FROM occurrence o WHERE ",
        asking::USER
    ));
    within(&mut sql, scope);
    sql.push(" AND o.cause_id = ANY(ARRAY(SELECT id FROM cause WHERE error_id = ")
        .push_bind(number(error))
        .push("))");
    if let Some(asked) = &scope.predicate {
        let condition = resolve(database, asked, scope).await?;
        sql.push(" AND ");
        condition.write(&mut sql);
    }
    sql.push(" GROUP BY 1), page AS (SELECT * FROM hit WHERE \"user\" IS NOT NULL");
    if let Some((occurrences, user)) = after {
        sql.push(" AND (occurrences < ")
            .push_bind(occurrences)
            .push(" OR occurrences = ")
            .push_bind(occurrences);
        sql.push(" AND \"user\" COLLATE \"C\" > ").push_bind(user).push(")");
    }
    sql.push(" ORDER BY occurrences DESC, \"user\" COLLATE \"C\" LIMIT ")
        .push_bind(limit);
    sql.push(
        ") SELECT page.\"user\", page.occurrences, page.first_seen, page.last_seen, others.errors FROM page \
              LEFT JOIN (SELECT o.user_hash, count(DISTINCT cause.error_id) AS errors FROM occurrence o JOIN cause ON \
              cause.id = o.cause_id \
              WHERE o.user_hash IN (SELECT hash FROM page) AND o.id >= first_id_at(",
    );
    sql.push_bind(scope.from)
        .push(") AND o.id < first_id_at(")
        .push_bind(scope.to);
    sql.push(
        ") GROUP BY o.user_hash) others ON others.user_hash = page.hash ORDER BY page.occurrences DESC, \
        page.\"user\" COLLATE \"C\"",
    );
    Ok(sql.build_query_as().fetch_all(&database.pool).await?)
}
