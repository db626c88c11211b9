//! Plans notices by the rules that are on, and by what recipients wish.

use chrono::{DateTime, Utc};
use outcrop_core::notice::Rule;
use outcrop_store::notices::plan::{self, Kept};
use outcrop_store::notices::rules::list;
use outcrop_store::{Database, StoreError};

use super::{rules, wishes};
use crate::settings::Settings;

/// Plans what happened, where something did or is due. Returns how many notices went into the outbox.
///
/// # Errors
/// [`StoreError`] when the database does not answer; the next round goes on.
pub(super) async fn round(
    database: &Database,
    settings: &Settings,
    kept: &mut Kept,
    now: DateTime<Utc>,
) -> Result<usize, StoreError> {
    if !plan::is_due(database, kept, now).await? {
        return Ok(0);
    }
    let rules = usable(rules::in_force(&list(database).await?), settings.mail.is_some());
    let directory = wishes::directory(database).await?;
    plan::round(database, kept, &rules, &directory, now).await
}

/// Rules with the ways that there are: without a mail server nothing is planned for mail.
fn usable(mut rules: Vec<Rule>, has_mail: bool) -> Vec<Rule> {
    for rule in &mut rules {
        rule.by.retain(|way| has_mail || way != "mail");
    }
    rules
}
