//! What a change would do, by the occurrences and causes that are stored.

use std::collections::{BTreeMap, BTreeSet, HashMap};

use outcrop_core::grouping::Described;
use outcrop_core::grouping::regrouping::{Portion, plan};
use outcrop_core::grouping::rules::{ServiceRules, split_key, split_title};
use outcrop_core::query::Predicate;
use outcrop_core::{Digest, query};
use sqlx::{FromRow, QueryBuilder};
use uuid::Uuid;

use super::by_hand::{by_hand, split_off};
use super::change::{Change, ChangeError, MAX_SPLIT_VALUES, Name, Outlook, Over};
use super::rules::add_places;
use super::titles::titles;
use crate::ids::reference;
use crate::{Database, Scope, asking, stacks};

pub(super) async fn outlook(
    database: &Database,
    service: i32,
    change: &Change,
    over: Over,
    join: Digest,
) -> Result<Outlook, ChangeError> {
    let mut names = HashMap::new();
    let portions = match change {
        Change::OwnCode { own, library } => of_places(database, service, (own, library), over, &mut names).await?,
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
    (own, library): (&[String], &[String]),
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
    let rows: Vec<ByStack> = sqlx::query_as(include_str!("../../queries/regrouping/by_stack.sql"))
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
        let stack = row.stack.and_then(|hash| stacks::unpack_stack(stacks.get(&hash)?));
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
    let condition = asking::resolve(database, &parsed, &scope).await?;
    let mut sql = QueryBuilder::new("SELECT o.cause_id, cause.error_id, cause.key, (");
    condition.write(&mut sql);
    sql.push(") AS matched, count(*) FROM occurrence o JOIN cause ON cause.id = o.cause_id WHERE ");
    asking::within(&mut sql, &scope);
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
        sqlx::query_as(include_str!("../../queries/regrouping/by_value.sql"))
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
