//! Errors joined, and causes split off, one by one.

use std::collections::{BTreeMap, HashMap};

use outcrop_core::Digest;
use outcrop_core::grouping::Described;
use outcrop_core::grouping::regrouping::{Move, Plan, Portion, Target};

use super::change::{ChangeError, Name, Outlook};
use super::made::{Cause, causes};
use super::titles::titles;
use crate::ids::reference;
use crate::{Database, stacks};

pub(super) async fn by_hand(
    database: &Database,
    service: i32,
    into: i32,
    errors: &[i32],
) -> Result<Outlook, ChangeError> {
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

pub(super) async fn split_off(database: &Database, error: i32, causes: &[i64]) -> Result<Outlook, ChangeError> {
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
            let stack = frames.as_deref().and_then(stacks::unpack_stack);
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
