//! The answers for deploys as they are kept: what lists show, and what notices tell.

use std::collections::BTreeSet;

use chrono::{DateTime, Utc};
use outcrop_api::DeployCheck;
use outcrop_store::deploys::Deploy;
use outcrop_store::deploys::answers::{self, Answer, Round};
use outcrop_store::{Database, StoreError};

use super::deploy_check::check;

/// How answers are written down: one more with each release that writes them otherwise.
const FORM: i16 = 1;

/// Answers for deploys, in their order: as kept, else made now.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
pub(crate) async fn of(
    database: &Database,
    deploys: &[Deploy],
    now: DateTime<Utc>,
) -> Result<Vec<DeployCheck>, StoreError> {
    let held = known(database, deploys, now).await?;
    let missing: Vec<Deploy> = (deploys.iter().zip(&held))
        .filter(|(_, held)| held.is_none())
        .map(|(deploy, _)| deploy.clone())
        .collect();
    let mut made = check(database, &missing, &[], now).await?.into_iter();
    Ok(held
        .into_iter()
        .filter_map(|held| held.or_else(|| made.next().map(|judged| judged.check)))
        .collect())
}

/// Answers for deploys as they are kept, in their order; `None` where the job has made none yet.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
pub(crate) async fn known(
    database: &Database,
    deploys: &[Deploy],
    now: DateTime<Utc>,
) -> Result<Vec<Option<DeployCheck>>, StoreError> {
    let held = answers::held(database, deploys, FORM, now).await?;
    Ok(held
        .into_iter()
        .map(|answer| serde_json::from_value(answer?).ok())
        .collect())
}

/// Begins to answer anew for deploys of which something changed; `None` while another instance is at it.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
pub(crate) async fn begin(
    database: &Database,
    now: DateTime<Utc>,
) -> Result<Option<(Round, Vec<DeployCheck>)>, StoreError> {
    let Some(round) = answers::begin(database, FORM, now).await? else {
        return Ok(None);
    };
    let judged = check(database, &round.deploys, &[], now).await?;
    let checks = judged.into_iter().map(|judged| judged.check).collect();
    Ok(Some((round, checks)))
}

/// Keeps what was answered in a round. Returns whether more deploys wait.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
pub(crate) async fn keep(round: Round, checks: &[DeployCheck]) -> Result<bool, StoreError> {
    let is_more = round.is_more;
    let answers: Vec<Answer> = checks
        .iter()
        .map(|check| {
            let flags = check.flags.iter().chain(&check.withdrawn);
            let services: BTreeSet<&String> = flags.map(|flag| &flag.service).collect();
            Answer {
                answer: serde_json::to_value(check).expect("an answer of plain values always encodes"),
                services: services.into_iter().cloned().collect(),
            }
        })
        .collect();
    round.keep(&answers).await?;
    Ok(is_more)
}
