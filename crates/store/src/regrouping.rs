//! What people change about grouping: tried on what is stored, saved, undone. Only causes move between errors.

use std::collections::{BTreeMap, BTreeSet, HashMap};

use chrono::{DateTime, Utc};
use outcrop_core::grouping::Described;
use outcrop_core::grouping::regrouping::{Move, Plan, Portion, Target, plan};
use outcrop_core::grouping::rules::{Join, Place, Rules, ServiceRules, Split, join_key, split_key, split_title};
use outcrop_core::query::{self, Predicate};
use outcrop_core::{Digest, Reference};
use serde::{Deserialize, Serialize};
use sqlx::{FromRow, PgConnection, QueryBuilder};
use uuid::Uuid;

use crate::Scope;
use crate::ids::uuid;
use crate::ids::{number, reference};
use crate::{Database, StoreError, occurrences, predicate};

/// Values of an attribute that an error may be split by, at most: past this each occurrence would
/// soon be its own error.
pub const MAX_SPLIT_VALUES: usize = 50;

/// What somebody wants changed.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "kind", rename_all = "snake_case")]
pub enum Change {
    /// Which code is the service's own: from now on, and for what is known.
    OwnCode {
        /// Beginnings of paths, modules or functions that are own code.
        own: Vec<String>,
        /// Such that are a library's.
        library: Vec<String>,
    },
    /// Whatever a predicate holds for is one error.
    JoinWhere {
        /// The predicate.
        predicate: String,
    },
    /// One error is told apart by an attribute's value.
    SplitBy {
        /// The error's number.
        error: i32,
        /// The attribute.
        attribute: String,
    },
    /// Errors joined by hand.
    JoinErrors {
        /// The error that stays.
        into: i32,
        /// Those that become part of it.
        errors: Vec<i32>,
    },
    /// Causes taken out of an error by hand.
    SplitOff {
        /// The error.
        error: i32,
        /// Its causes that become an error of their own.
        causes: Vec<i64>,
    },
    /// A cause that a version brought is an error that was known, whose code was edited: found by comparing versions.
    Moved {
        /// The error it is.
        error: i32,
        /// The cause.
        cause: i64,
        /// The version that brought it.
        version: String,
    },
}

impl Change {
    /// Whether it goes on holding for what comes in later.
    #[must_use]
    pub const fn is_rule(&self) -> bool {
        matches!(
            self,
            Self::OwnCode { .. } | Self::JoinWhere { .. } | Self::SplitBy { .. }
        )
    }
}

/// Why a change cannot be made.
#[derive(Debug, thiserror::Error)]
pub enum ChangeError {
    /// It asks for something that is not there or makes no sense.
    #[error("{0}")]
    Unfit(String),
    /// Something else was changed meanwhile.
    #[error("{0}")]
    Conflict(String),
    /// The database.
    #[error(transparent)]
    Store(#[from] StoreError),
}

impl From<sqlx::Error> for ChangeError {
    fn from(error: sqlx::Error) -> Self {
        Self::Store(error.into())
    }
}

/// What a change does, or would do, to the errors of a window.
#[derive(Clone, Debug, Default)]
pub struct Trial {
    /// Occurrences looked at.
    pub occurrences: i64,
    /// Errors joined, each list by the one that stays.
    pub joined: BTreeMap<Reference, BTreeSet<Reference>>,
    /// Parts that leave their error for a new one: title and count.
    pub parts: BTreeMap<Reference, Vec<(String, i64)>>,
    /// Occurrences that leave their error for one that is known.
    pub leaving: BTreeMap<Reference, i64>,
    /// Titles of all errors named here.
    pub titles: HashMap<Reference, String>,
}

/// The window a trial looks at.
#[derive(Clone, Copy, Debug)]
pub struct Over {
    /// From here.
    pub from: DateTime<Utc>,
    /// To here.
    pub to: DateTime<Utc>,
}

/// How a new error is called.
#[derive(Clone, Debug, Default)]
struct Name {
    title: String,
    exception: String,
    own_frame: Option<String>,
}

/// A change worked out on what is stored.
struct Outlook {
    plan: Plan,
    portions: Vec<Portion>,
    names: HashMap<Digest, Name>,
    titles: HashMap<i32, String>,
}

/// The number of a service, by name; where several namespaces have one of that name, the namespace decides.
///
/// # Errors
/// [`ChangeError::Unfit`] where there is none, or more than one.
pub async fn service_number(database: &Database, namespace: Option<&str>, service: &str) -> Result<i32, ChangeError> {
    let found: Vec<(i32,)> = sqlx::query_as(
        "SELECT id FROM service WHERE id IN (SELECT services_named($1)) AND ($2::text IS NULL OR namespace = $2)",
    )
    .bind(service)
    .bind(namespace)
    .fetch_all(&database.pool)
    .await?;
    match found.as_slice() {
        [(id,)] => Ok(*id),
        [] => Err(ChangeError::Unfit(format!("there is no service {service}"))),
        _ => Err(ChangeError::Unfit(format!(
            "several namespaces have a service {service}: give the namespace too"
        ))),
    }
}

/// The service an error belongs to, as a number.
///
/// # Errors
/// [`ChangeError::Unfit`] where there is no such error.
pub async fn service_of(database: &Database, error: i32) -> Result<i32, ChangeError> {
    let found: Option<(i32,)> = sqlx::query_as("SELECT service_id FROM error_group WHERE id = $1")
        .bind(error)
        .fetch_optional(&database.pool)
        .await?;
    found
        .map(|(id,)| id)
        .ok_or_else(|| ChangeError::Unfit(format!("there is no error {}", reference(error))))
}

/// The error that a reference leads to: itself, or the one it was joined into.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
pub async fn standing(database: &Database, asked: Reference) -> Result<Reference, StoreError> {
    let found: Option<(i32,)> = sqlx::query_as(
        "WITH RECURSIVE led AS (SELECT id, joined_into, 1 AS step FROM error_group WHERE id = $1 \
         UNION ALL SELECT next.id, next.joined_into, led.step + 1 FROM led JOIN error_group next ON next.id = \
         led.joined_into WHERE led.step < 50) \
         SELECT id FROM led ORDER BY step DESC LIMIT 1",
    )
    .bind(number(asked))
    .fetch_optional(&database.pool)
    .await?;
    Ok(found.map_or(asked, |(id,)| reference(id)))
}

/// The rules in force.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
pub async fn rules(database: &Database) -> Result<Rules, StoreError> {
    let rows: Vec<(i64, String, String, serde_json::Value)> = sqlx::query_as(
        "SELECT grouping_change.id, service.namespace, service.name, change FROM grouping_change JOIN service ON \
         service.id = service_id \
         WHERE undone_at IS NULL AND change ->> 'kind' IN ('own_code', 'join_where', 'split_by') ORDER BY \
         grouping_change.id",
    )
    .fetch_all(&database.pool)
    .await?;
    let mut rules = Rules::default();
    for (id, namespace, service, change) in rows {
        let of_service = rules.of_mut(&namespace, &service);
        match serde_json::from_value(change) {
            Ok(Change::OwnCode { own, library }) => add_places(of_service, own, library),
            // Saved predicates were parsed before; a release that reads them no more leaves the rule out.
            Ok(Change::JoinWhere { predicate }) => {
                of_service
                    .joins
                    .extend(query::parse(&predicate).ok().map(|predicate| Join {
                        key: join_key(id),
                        predicate,
                    }));
            }
            Ok(Change::SplitBy { error, attribute }) => {
                let keys: Vec<(Uuid,)> = sqlx::query_as("SELECT key FROM cause WHERE error_id = $1")
                    .bind(error)
                    .fetch_all(&database.pool)
                    .await?;
                of_service.splits.push(Split {
                    attribute,
                    keys: keys.iter().map(|(key,)| Digest(*key.as_bytes())).collect(),
                });
            }
            Ok(Change::JoinErrors { .. } | Change::SplitOff { .. } | Change::Moved { .. }) | Err(_) => {}
        }
    }
    rules.drops = crate::drops::in_force(database).await?;
    rules.scrubbing = crate::scrub_rules::in_force(database).await?;
    rules.instance_groups = crate::groups::attributes(database).await?;
    Ok(rules)
}

fn add_places(rules: &mut ServiceRules, own: Vec<String>, library: Vec<String>) {
    let places = own
        .into_iter()
        .map(|prefix| (prefix, true))
        .chain(library.into_iter().map(|prefix| (prefix, false)));
    for (prefix, own) in places {
        // What was said last of a place holds.
        rules.places.retain(|place| place.prefix != prefix);
        rules.places.push(Place { prefix, own });
    }
}

/// Tries a change over a window: nothing is written.
///
/// # Errors
/// [`ChangeError`] where it makes no sense, or the database does not answer in time.
pub async fn try_change(database: &Database, service: i32, change: &Change, over: Over) -> Result<Trial, ChangeError> {
    let outlook = outlook(database, service, change, over, Digest([0xff; 16])).await?;
    Ok(outlook.trial())
}

/// Makes a change, for the known errors by what they had in the window. Returns the change's number and what it did.
///
/// # Errors
/// [`ChangeError`] where it makes no sense, something was changed meanwhile, or the database does not answer in time.
pub async fn make(
    database: &Database,
    service: i32,
    change: &Change,
    over: Over,
    by: &str,
    in_words: impl Fn(&Trial) -> String + Send,
) -> Result<(i64, Trial), ChangeError> {
    let mut transaction = database.pool.begin().await?;
    let (id,): (i64,) = sqlx::query_as(
        "INSERT INTO grouping_change (by, service_id, change, sentence, moves) VALUES ($1, $2, $3, '', \
            '[]') RETURNING id",
    )
    .bind(by)
    .bind(service)
    .bind(serde_json::to_value(change).unwrap_or_default())
    .fetch_one(&mut *transaction)
    .await?;
    let outlook = outlook(database, service, change, over, join_key(id)).await?;
    // The lock under which causes are made: none of this service comes or goes meanwhile.
    crate::moved::lock(&mut transaction).await?;
    let mut moves = outlook.plan.moves.clone();
    if let Change::SplitOff { error, causes } = change {
        let new = new_error(
            &mut transaction,
            service,
            outlook.names.values().next().cloned().unwrap_or_default(),
        )
        .await?;
        moves = causes
            .iter()
            .map(|cause| Move {
                cause: *cause,
                from: *error,
                to: new,
            })
            .collect();
    } else {
        moves.extend(place_keys(&mut transaction, service, &outlook).await?);
    }
    carry_out(&mut transaction, &moves).await?;
    let trial = outlook.trial();
    sqlx::query("UPDATE grouping_change SET sentence = $2, moves = $3 WHERE id = $1")
        .bind(id)
        .bind(in_words(&trial))
        .bind(serde_json::to_value(&moves).unwrap_or_default())
        .execute(&mut *transaction)
        .await?;
    transaction.commit().await?;
    Ok((id, trial))
}

/// Makes a cause of every key that is new, in the error the plan says. Returns where each would go back to.
async fn place_keys(connection: &mut PgConnection, service: i32, outlook: &Outlook) -> Result<Vec<Move>, ChangeError> {
    let mut moves = vec![];
    for (key, target) in &outlook.plan.keys {
        let is_known: Option<(i64,)> = sqlx::query_as("SELECT id FROM cause WHERE service_id = $1 AND key = $2")
            .bind(service)
            .bind(uuid(*key))
            .fetch_optional(&mut *connection)
            .await?;
        if is_known.is_some() {
            continue;
        }
        let (error, from) = match target {
            Target::Known(error) => (*error, *error),
            Target::SplitFrom(from) => (
                new_error(connection, service, outlook.names.get(key).cloned().unwrap_or_default()).await?,
                *from,
            ),
        };
        let (cause,): (i64,) = sqlx::query_as(
            "INSERT INTO cause (service_id, key, algorithm, error_id) VALUES ($1, $2, 0, $3) RETURNING id",
        )
        .bind(service)
        .bind(uuid(*key))
        .bind(from)
        .fetch_one(&mut *connection)
        .await?;
        if from != error {
            moves.push(Move { cause, from, to: error });
        }
    }
    Ok(moves)
}

async fn new_error(connection: &mut PgConnection, service: i32, name: Name) -> Result<i32, sqlx::Error> {
    let (error,): (i32,) = sqlx::query_as(
        "INSERT INTO error_group (service_id, title, type, own_frame) VALUES ($1, $2, $3, $4) RETURNING id",
    )
    .bind(service)
    .bind(name.title)
    .bind(name.exception)
    .bind(name.own_frame)
    .fetch_one(connection)
    .await?;
    Ok(error)
}

/// Moves causes, and lets references of errors left without any lead to where they went.
pub(crate) async fn carry_out(connection: &mut PgConnection, moves: &[Move]) -> Result<(), ChangeError> {
    for one in moves {
        let moved = sqlx::query("UPDATE cause SET error_id = $3 WHERE id = $1 AND error_id = $2")
            .bind(one.cause)
            .bind(one.from)
            .bind(one.to)
            .execute(&mut *connection)
            .await?;
        if moved.rows_affected() != 1 {
            let error = reference(one.from);
            return Err(ChangeError::Conflict(format!(
                "{error} was joined or split by a later change: undo that one first (`outcrop grouping changes`)"
            )));
        }
    }
    let left: BTreeMap<i32, i32> = moves.iter().map(|one| (one.from, one.to)).collect();
    let errors: BTreeSet<i32> = moves.iter().flat_map(|one| [one.from, one.to]).collect();
    for error in errors {
        sqlx::query(
            "UPDATE error_group SET row_version = row_version + 1, \
             joined_into = CASE WHEN EXISTS (SELECT 1 FROM cause WHERE error_id = $1) THEN NULL ELSE $2 END WHERE id \
             = $1",
        )
        .bind(error)
        .bind(left.get(&error))
        .execute(&mut *connection)
        .await?;
    }
    Ok(())
}

/// Undoes a change: its causes go back, its rule ends. What came in meanwhile goes with its cause.
///
/// # Errors
/// [`ChangeError`] where there is no such change, it was undone, or a later one stands in the way.
pub async fn undo(database: &Database, id: i64, by: &str) -> Result<String, ChangeError> {
    let mut transaction = database.pool.begin().await?;
    let found: Option<(serde_json::Value, String, Option<DateTime<Utc>>)> =
        sqlx::query_as("SELECT moves, sentence, undone_at FROM grouping_change WHERE id = $1 FOR UPDATE")
            .bind(id)
            .fetch_optional(&mut *transaction)
            .await?;
    let (moves, sentence, undone) = found.ok_or_else(|| ChangeError::Unfit(format!("there is no change {id}")))?;
    if undone.is_some() {
        return Err(ChangeError::Conflict(format!("change {id} was undone already")));
    }
    crate::moved::lock(&mut transaction).await?;
    let moves: Vec<Move> = serde_json::from_value(moves)
        .map_err(|error| ChangeError::Conflict(format!("change {id} was written by another release: {error}")))?;
    let back: Vec<Move> = moves
        .iter()
        .map(|one| Move {
            cause: one.cause,
            from: one.to,
            to: one.from,
        })
        .collect();
    carry_out(&mut transaction, &back).await?;
    sqlx::query("UPDATE grouping_change SET undone_at = now(), undone_by = $2 WHERE id = $1")
        .bind(id)
        .bind(by)
        .execute(&mut *transaction)
        .await?;
    transaction.commit().await?;
    Ok(sentence)
}

/// A change that was made.
#[derive(Clone, Debug, FromRow)]
pub struct Made {
    /// Its number.
    pub id: i64,
    /// When.
    pub at: DateTime<Utc>,
    /// Who.
    pub by: String,
    /// In which service.
    pub service: String,
    /// As it was given.
    #[sqlx(json)]
    pub change: Change,
    /// What it did.
    pub sentence: String,
    /// When it was undone.
    pub undone_at: Option<DateTime<Utc>>,
    /// By whom.
    pub undone_by: Option<String>,
}

/// The changes made, the newest first: all, or those of one error.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
pub async fn changes(database: &Database, error: Option<Reference>, limit: i64) -> Result<Vec<Made>, StoreError> {
    Ok(sqlx::query_as(
        "SELECT c.id, c.at, c.by, service.display_name AS service, c.change, c.sentence, c.undone_at, c.undone_by \
         FROM grouping_change c JOIN service ON service.id = c.service_id \
         WHERE $1::int IS NULL OR EXISTS (SELECT 1 FROM jsonb_array_elements(c.moves) m WHERE (m ->> 'from')::int = \
         $1 OR (m ->> 'to')::int = $1) \
            OR (c.change ->> 'error')::int = $1 \
         ORDER BY c.id DESC LIMIT $2",
    )
    .bind(error.map(number))
    .bind(limit)
    .fetch_all(&database.pool)
    .await?)
}

/// A cause of an error.
#[derive(Clone, Debug, FromRow)]
pub struct Cause {
    /// Its number.
    pub id: i64,
    /// Occurrences of all time.
    pub count: i64,
    /// The first of them.
    pub first_seen: DateTime<Utc>,
    /// The last of them.
    pub last_seen: DateTime<Utc>,
    /// Type and message of the latest one kept.
    pub message: Option<String>,
}

/// The causes of an error that have occurred, the most frequent first.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
pub async fn causes(database: &Database, error: Reference) -> Result<Vec<Cause>, StoreError> {
    Ok(sqlx::query_as(
        "SELECT cause.id, sum(sighted.n)::bigint AS count, min(sighted.first_at) AS first_seen, max(sighted.last_at) \
         AS last_seen, \
         (SELECT concat_ws(': ', NULLIF(o.type, ''), NULLIF(o.message, '')) FROM occurrence o WHERE o.cause_id = \
         cause.id ORDER BY o.id DESC LIMIT 1) AS message \
         FROM cause JOIN sighted ON sighted.cause_id = cause.id WHERE cause.error_id = $1 \
         GROUP BY cause.id HAVING sum(sighted.n) > 0 ORDER BY count DESC, cause.id",
    )
    .bind(number(error))
    .fetch_all(&database.pool)
    .await?)
}

async fn outlook(
    database: &Database,
    service: i32,
    change: &Change,
    over: Over,
    join: Digest,
) -> Result<Outlook, ChangeError> {
    let mut names = HashMap::new();
    let portions = match change {
        Change::OwnCode { own, library } => of_places(database, service, own, library, over, &mut names).await?,
        Change::JoinWhere { predicate } => of_join(database, service, predicate, over, join).await?,
        Change::SplitBy { error, attribute } => of_split(database, *error, attribute, over, &mut names).await?,
        Change::JoinErrors { into, errors } => {
            return by_hand(database, service, *into, errors).await;
        }
        Change::SplitOff { error, causes } => return split_off(database, *error, causes).await,
        Change::Moved { .. } => {
            return Err(ChangeError::Unfit(
                "what has moved between versions is found, not asked for".to_owned(),
            ));
        }
    };
    let plan = plan(&portions);
    let titles = titles(database, portions.iter().map(|portion| portion.error)).await?;
    Ok(Outlook {
        plan,
        portions,
        names,
        titles,
    })
}

async fn titles(database: &Database, errors: impl Iterator<Item = i32>) -> Result<HashMap<i32, String>, StoreError> {
    let errors: BTreeSet<i32> = errors.collect();
    let rows: Vec<(i32, String)> = sqlx::query_as("SELECT id, title FROM error_group WHERE id = ANY($1)")
        .bind(errors.into_iter().collect::<Vec<_>>())
        .fetch_all(&database.pool)
        .await?;
    Ok(rows.into_iter().collect())
}

#[derive(FromRow)]
struct ByStack {
    cause: i64,
    error: i32,
    key: Uuid,
    algorithm: i16,
    stack: Option<Uuid>,
    type_name: String,
    sent_type: Option<String>,
    message: String,
    count: i64,
}

async fn of_places(
    database: &Database,
    service: i32,
    own: &[String],
    library: &[String],
    over: Over,
    names: &mut HashMap<Digest, Name>,
) -> Result<Vec<Portion>, ChangeError> {
    if own.is_empty() && library.is_empty() {
        return Err(ChangeError::Unfit(
            "give at least one beginning of a path, module or function".to_owned(),
        ));
    }
    let mut rules = ServiceRules::default();
    add_places(&mut rules, own.to_vec(), library.to_vec());
    let rows: Vec<ByStack> = sqlx::query_as(include_str!("../queries/regrouping/by_stack.sql"))
        .bind(service)
        .bind(over.from)
        .bind(over.to)
        .fetch_all(&database.pool)
        .await?;
    let hashes: Vec<Uuid> = rows.iter().filter_map(|row| row.stack).collect();
    let stored: Vec<(Uuid, Vec<u8>)> = sqlx::query_as("SELECT hash, frames FROM stack WHERE hash = ANY($1)")
        .bind(hashes)
        .fetch_all(&database.pool)
        .await?;
    let stacks: HashMap<Uuid, Vec<u8>> = stored.into_iter().collect();
    let portions = rows.iter().map(|row| {
        let mut key = Digest(*row.key.as_bytes());
        let stack = row.stack.and_then(|hash| occurrences::unpack_stack(stacks.get(&hash)?));
        // What a join or split has made stays with it: those are looked at before places are.
        if let Some(mut stack) = stack
            && row.algorithm > 0
            && rules.mark(&mut stack)
        {
            let grouping =
                Described::again(&row.type_name, row.sent_type.as_deref(), &row.message, Some(stack)).group();
            key = grouping.key;
            names.insert(
                key,
                Name {
                    title: grouping.title,
                    exception: row.type_name.clone(),
                    own_frame: grouping.own_frame,
                },
            );
        }
        Portion {
            cause: row.cause,
            error: row.error,
            key,
            count: row.count,
        }
    });
    Ok(summed(portions))
}

fn summed(portions: impl Iterator<Item = Portion>) -> Vec<Portion> {
    let mut sums: BTreeMap<(i64, i32, Digest), i64> = BTreeMap::new();
    for portion in portions {
        *sums.entry((portion.cause, portion.error, portion.key)).or_default() += portion.count;
    }
    sums.into_iter()
        .map(|((cause, error, key), count)| Portion {
            cause,
            error,
            key,
            count,
        })
        .collect()
}

async fn of_join(
    database: &Database,
    service: i32,
    text: &str,
    over: Over,
    join: Digest,
) -> Result<Vec<Portion>, ChangeError> {
    let unfit = |mistake: &query::Mistake| ChangeError::Unfit(mistake.marked(text));
    let parsed: Predicate = query::parse(text).map_err(|mistake| unfit(&mistake))?;
    parsed.for_single_occurrences().map_err(|mistake| unfit(&mistake))?;
    let scope = Scope {
        service: None,
        environment: None,
        version: None,
        from: over.from,
        to: over.to,
        predicate: None,
    };
    let condition = predicate::resolve(database, &parsed, &scope).await?;
    let mut sql = QueryBuilder::new("SELECT o.cause_id, cause.error_id, cause.key, (");
    condition.write(&mut sql);
    sql.push(") AS matched, count(*) FROM occurrence o JOIN cause ON cause.id = o.cause_id WHERE ");
    predicate::within(&mut sql, &scope);
    sql.push(" AND o.service_id = ")
        .push_bind(service)
        .push(" GROUP BY 1, 2, 3, 4");
    let rows: Vec<(i64, i32, Uuid, bool, i64)> = sql.build_query_as().fetch_all(&database.pool).await?;
    if !rows.iter().any(|(_, _, _, matched, _)| *matched) {
        return Err(ChangeError::Unfit(
            "it holds for no occurrence of that time: there is nothing to join".to_owned(),
        ));
    }
    let portions = rows.into_iter().map(|(cause, error, key, matched, count)| {
        let key = if matched { join } else { Digest(*key.as_bytes()) };
        Portion {
            cause,
            error,
            key,
            count,
        }
    });
    Ok(summed(portions))
}

async fn of_split(
    database: &Database,
    error: i32,
    attribute: &str,
    over: Over,
    names: &mut HashMap<Digest, Name>,
) -> Result<Vec<Portion>, ChangeError> {
    let named: Option<(String, String, Option<String>)> =
        sqlx::query_as("SELECT title, type, own_frame FROM error_group WHERE id = $1")
            .bind(error)
            .fetch_optional(&database.pool)
            .await?;
    let (title, type_name, own_frame) =
        named.ok_or_else(|| ChangeError::Unfit(format!("there is no error {}", reference(error))))?;
    let rows: Vec<(i64, Uuid, Option<String>, i64)> =
        sqlx::query_as(include_str!("../queries/regrouping/by_value.sql"))
            .bind(error)
            .bind(attribute)
            .bind(over.from)
            .bind(over.to)
            .fetch_all(&database.pool)
            .await?;
    let values: BTreeSet<&String> = rows.iter().filter_map(|(_, _, value, _)| value.as_ref()).collect();
    if values.is_empty() {
        return Err(ChangeError::Unfit(format!(
            "no occurrence of {} in that time has {attribute}",
            reference(error)
        )));
    }
    if values.len() > MAX_SPLIT_VALUES {
        return Err(ChangeError::Unfit(format!(
            "{attribute} has {} values in that time: an error is split by an attribute with at most {MAX_SPLIT_VALUES}",
            values.len()
        )));
    }
    let portions = rows.iter().map(|(cause, key, value, count)| {
        let key = Digest(*key.as_bytes());
        let key = value.as_ref().map_or(key, |value| {
            let part = split_key(key, attribute, value);
            let title = split_title(&title, attribute, value);
            names.insert(
                part,
                Name {
                    title,
                    exception: type_name.clone(),
                    own_frame: own_frame.clone(),
                },
            );
            part
        });
        Portion {
            cause: *cause,
            error,
            key,
            count: *count,
        }
    });
    Ok(summed(portions))
}

async fn by_hand(database: &Database, service: i32, into: i32, errors: &[i32]) -> Result<Outlook, ChangeError> {
    if errors.is_empty() || errors.contains(&into) {
        return Err(ChangeError::Unfit("give at least one other error to join".to_owned()));
    }
    let others: Vec<(i32, String)> = sqlx::query_as(
        "SELECT error_group.id, service.display_name FROM error_group JOIN service ON service.id = service_id WHERE \
         error_group.id = ANY($1) AND service_id <> $2",
    )
    .bind(errors)
    .bind(service)
    .fetch_all(&database.pool)
    .await?;
    if let Some((other, name)) = others.first() {
        return Err(ChangeError::Unfit(format!(
            "{} is an error of {name}: only errors of one service can be joined",
            reference(*other)
        )));
    }
    let rows: Vec<(i64, i32)> = sqlx::query_as("SELECT id, error_id FROM cause WHERE error_id = ANY($1) ORDER BY id")
        .bind(errors)
        .fetch_all(&database.pool)
        .await?;
    let missing = errors.iter().find(|error| !rows.iter().any(|(_, of)| of == *error));
    if let Some(error) = missing {
        return Err(ChangeError::Unfit(format!(
            "there is no error {} to join, or it was joined already",
            reference(*error)
        )));
    }
    let moves: Vec<Move> = rows
        .into_iter()
        .map(|(cause, from)| Move { cause, from, to: into })
        .collect();
    let joined = BTreeMap::from([(into, errors.iter().copied().collect())]);
    let titles = titles(database, errors.iter().copied().chain([into])).await?;
    Ok(Outlook {
        plan: Plan {
            moves,
            joined,
            ..Plan::default()
        },
        portions: vec![],
        names: HashMap::new(),
        titles,
    })
}

async fn split_off(database: &Database, error: i32, causes: &[i64]) -> Result<Outlook, ChangeError> {
    let of_error = self::causes(database, reference(error)).await?;
    let chosen: Vec<&Cause> = of_error.iter().filter(|cause| causes.contains(&cause.id)).collect();
    if chosen.is_empty() || chosen.len() != causes.len() {
        return Err(ChangeError::Unfit(format!(
            "give causes of {}: `outcrop grouping causes {}` lists them",
            reference(error),
            reference(error)
        )));
    }
    if chosen.len() == of_error.len() {
        return Err(ChangeError::Unfit("at least one cause must stay".to_owned()));
    }
    let titles = titles(database, [error].into_iter()).await?;
    let message = chosen
        .iter()
        .find_map(|cause| cause.message.clone())
        .unwrap_or_default();
    let sample: Option<(String, String, Option<Vec<u8>>)> = sqlx::query_as(
        "SELECT o.type, o.message, stack.frames FROM occurrence o LEFT JOIN stack ON stack.hash = o.stack WHERE \
         o.cause_id = $1 ORDER BY o.id DESC LIMIT 1",
    )
    .bind(chosen[0].id)
    .fetch_optional(&database.pool)
    .await?;
    let name = sample.map_or_else(
        || Name {
            title: message,
            ..Name::default()
        },
        |(type_name, message, frames)| {
            let stack = frames.as_deref().and_then(occurrences::unpack_stack);
            let grouping = Described::again(&type_name, None, &message, stack).group();
            Name {
                title: grouping.title,
                own_frame: grouping.own_frame,
                exception: type_name,
            }
        },
    );
    // What leaves is told as the plan of a rule would tell it, by a key of its own.
    let key = Digest([0xfe; 16]);
    let plan = Plan {
        keys: BTreeMap::from([(key, Target::SplitFrom(error))]),
        ..Plan::default()
    };
    let count = chosen.iter().map(|cause| cause.count).sum();
    let portions = vec![Portion {
        cause: chosen[0].id,
        error,
        key,
        count,
    }];
    Ok(Outlook {
        plan,
        portions,
        names: HashMap::from([(key, name)]),
        titles,
    })
}

impl Outlook {
    fn trial(&self) -> Trial {
        let mut trial = Trial {
            occurrences: self.portions.iter().map(|portion| portion.count).sum(),
            ..Trial::default()
        };
        for (into, errors) in &self.plan.joined {
            trial
                .joined
                .insert(reference(*into), errors.iter().map(|error| reference(*error)).collect());
        }
        let mut counts: BTreeMap<Digest, i64> = BTreeMap::new();
        for portion in &self.portions {
            *counts.entry(portion.key).or_default() += portion.count;
        }
        for (key, target) in &self.plan.keys {
            if let Target::SplitFrom(from) = target {
                let title = self.names.get(key).map(|name| name.title.clone()).unwrap_or_default();
                trial
                    .parts
                    .entry(reference(*from))
                    .or_default()
                    .push((title, counts.get(key).copied().unwrap_or_default()));
            }
        }
        for parts in trial.parts.values_mut() {
            parts.sort_by_key(|(_, count)| std::cmp::Reverse(*count));
        }
        for (error, count) in &self.plan.split {
            let to_new: i64 = trial
                .parts
                .get(&reference(*error))
                .into_iter()
                .flatten()
                .map(|(_, count)| count)
                .sum();
            if *count > to_new {
                trial.leaving.insert(reference(*error), count - to_new);
            }
        }
        trial.titles = self
            .titles
            .iter()
            .map(|(error, title)| (reference(*error), title.clone()))
            .collect();
        trial
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Scope;
    use crate::errors::list;
    use crate::testing::{attributes, database, now, of, resource, spans, store, trace, writer};

    /// Which occurrences stand under which error: reference, title and count, and the references that lead elsewhere.
    async fn grouped(database: &Database) -> Vec<String> {
        let to = Utc::now() + chrono::TimeDelta::minutes(1);
        let scope = Scope {
            service: None,
            environment: None,
            version: None,
            from: to - chrono::TimeDelta::hours(1),
            to,
            predicate: None,
        };
        let mut found: Vec<String> = vec![];
        for error in list(database, &scope).await.unwrap() {
            let leads_to = standing(database, error.reference).await.unwrap();
            found.push(format!(
                "{} {} {} {leads_to}",
                error.reference, error.title, error.count
            ));
        }
        let joined: Vec<(i32, Option<i32>)> =
            sqlx::query_as("SELECT id, joined_into FROM error_group WHERE joined_into IS NOT NULL")
                .fetch_all(&database.pool)
                .await
                .unwrap();
        found.extend(joined.iter().map(|(from, to)| format!("{from} leads to {to:?}")));
        found.sort();
        found
    }

    #[tokio::test]
    async fn a_change_that_is_made_and_undone_leaves_everything_as_it_was() {
        let database = database().await;
        let failing = |number: u64, kind: &str, deck: &str| {
            let mut span = crate::testing::failing(trace(number), number, None, now(), "");
            span.events[0].attributes = attributes(&[("exception.type", kind), ("exception.message", "no tariff")]);
            span.attributes = attributes(&[("deck", deck)]);
            span
        };
        let sent = vec![
            failing(1, "TariffMissing", "car"),
            failing(2, "TariffMissing", "car"),
            failing(3, "TariffMissing", "foot"),
            failing(4, "RampUp", "car"),
            failing(5, "GateShut", "foot"),
        ];
        store(&writer(&database), &[spans(vec![of(resource("fares"), sent)], now())]).await;
        let before = grouped(&database).await;
        assert_eq!(before.len(), 3, "{before:?}");
        let error = async |kind: &str| {
            let id: i32 = sqlx::query_scalar(
                "SELECT id FROM error_group WHERE type = $1 AND joined_into IS NULL ORDER BY id LIMIT 1",
            )
            .bind(kind)
            .fetch_one(&database.pool)
            .await
            .unwrap();
            id
        };
        let (tariff, ramp, gate) = (
            error("TariffMissing").await,
            error("RampUp").await,
            error("GateShut").await,
        );
        let service = service_of(&database, tariff).await.unwrap();
        let over = Over {
            from: Utc::now() - chrono::TimeDelta::hours(1),
            to: Utc::now() + chrono::TimeDelta::minutes(1),
        };
        let changes = [
            (
                Change::JoinErrors {
                    into: ramp,
                    errors: vec![gate, tariff],
                },
                1,
            ),
            (
                Change::JoinWhere {
                    predicate: "type in (RampUp, GateShut)".to_owned(),
                },
                2,
            ),
            // What is stored keeps its error: a split tells apart what comes from now on.
            (
                Change::SplitBy {
                    error: tariff,
                    attribute: "deck".to_owned(),
                },
                3,
            ),
        ];
        for (change, expected) in changes {
            let trial = try_change(&database, service, &change, over).await.unwrap();
            assert_eq!(grouped(&database).await, before, "a trial writes nothing: {change:?}");
            let (id, made) = make(&database, service, &change, over, "bosun@skerry.example", |_| {
                "a change".to_owned()
            })
            .await
            .unwrap();
            assert_eq!(
                format!("{:?}", made.leaving),
                format!("{:?}", trial.leaving),
                "a trial says what is done: {change:?}"
            );
            let errors = grouped(&database)
                .await
                .iter()
                .filter(|line| !line.contains("leads to"))
                .count();
            assert_eq!(errors, expected, "{change:?}: {:?}", grouped(&database).await);
            undo(&database, id, "bosun@skerry.example").await.unwrap();
            let after: Vec<String> = grouped(&database)
                .await
                .into_iter()
                .filter(|line| !line.contains("leads to"))
                .collect();
            assert_eq!(after, before, "{change:?}");
            assert!(
                undo(&database, id, "bosun@skerry.example").await.is_err(),
                "undone once"
            );
        }
    }
}
