//! What the load of a service says of an error.

use chrono::TimeDelta;
use outcrop_core::metric::highest_before;
use outcrop_store::flags::Flag;
use outcrop_store::{Database, StoreError, metrics};

/// Figures of load that stood higher before a flag began than they had in days, as sentences.
pub(crate) async fn stood_high(database: &Database, flag: &Flag) -> Result<Vec<String>, StoreError> {
    let place = (flag.service.as_str(), flag.environment.as_str());
    let figures = metrics::figures(database, place, flag.since + TimeDelta::minutes(1)).await?;
    let highest = highest_before(&figures, flag.since.timestamp().div_euclid(60));
    Ok(highest.iter().map(ToString::to_string).collect())
}
