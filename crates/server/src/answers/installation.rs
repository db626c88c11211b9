//! How the installation is: what the database knows of itself, and what this process knows of it.

use std::collections::BTreeMap;

use chrono::{TimeDelta, Utc};
use outcrop_core::installation;
use outcrop_core::installation::{Facts, Finding};
use outcrop_store::StoreError;
use outcrop_store::people::keys;
use outcrop_store::upkeep::{checkup, space};

use crate::clock::now;
use crate::state::State;

/// How far back refused requests are looked at.
const REFUSED: TimeDelta = TimeDelta::minutes(15);
/// Refusals looked at: the most frequent reason is among the latest.
const MAX_REFUSED: i64 = 1_000;

/// What is so of the installation, the worst first.
pub(crate) async fn findings(state: &State) -> Result<Vec<Finding>, StoreError> {
    let (database, policy) = (state.database.whole(), state.settings.policy.clone());
    let (known, room, refused) = state
        .on_main(async move {
            let at = Utc::now();
            let known = checkup::facts(&database, &policy, at).await?;
            let room = space::room(&database).await?;
            let refused = keys::refused_since(&database, at - REFUSED, MAX_REFUSED).await?;
            Ok((known, room, refused))
        })
        .await?;
    let troubles = state.health.troubles(now());
    let mut reasons: BTreeMap<String, i64> = BTreeMap::new();
    for count in refused {
        *reasons.entry(count.request.reason).or_default() += count.n;
    }
    let all = reasons.values().sum();
    let most = reasons.into_iter().max_by_key(|(_, count)| *count);
    Ok(installation::findings(&Facts {
        free: (room.free, state.settings.policy.min_free_bytes),
        closed: state.intake.closed(),
        troubles: (troubles.into_iter())
            .map(|trouble| (trouble.name.to_owned(), trouble.says))
            .collect(),
        refused: most.map(|(reason, _)| (all, reason)),
        has_address: state.settings.public_url.is_some(),
        ..known
    }))
}
