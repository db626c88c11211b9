//! Notices: what happened is noted, planned by people's rules, and sent; each step is a job of its own.

mod close_ups;
mod digest;
mod letter;
pub(crate) mod links;
mod mail;
mod noting;
mod planning;
pub(crate) mod rules;
mod sending;
pub(crate) mod trial;
mod watching;
pub(crate) mod ways;
pub(crate) mod wishes;

use std::sync::Arc;
use std::time::Duration;

use chrono::{DateTime, Utc};
use outcrop_api::{DeployCheck, ShownNotice};
use outcrop_store::deploys::Deploy;
use outcrop_store::notices::outbox;
use outcrop_store::notices::plan::Kept;
use outcrop_store::{Database, StoreError};
use tokio::sync::{Mutex, Semaphore};

use crate::settings::Settings;

/// How often it is looked what happened, and what is to be sent: a notice leaves within 10 s of its flag.
pub(crate) const EVERY: Duration = Duration::from_secs(1);
/// How often it is looked what lasts: endpoints, thresholds, silences.
pub(crate) const WATCH_EVERY: Duration = Duration::from_mins(1);

/// What an instance keeps of notices from one round to the next.
#[derive(Clone)]
pub(crate) struct Desk {
    kept: Arc<Mutex<Kept>>,
    waiting: Arc<Mutex<noting::Waiting>>,
    permits: Arc<Semaphore>,
}

impl Default for Desk {
    fn default() -> Self {
        Self {
            kept: Arc::default(),
            waiting: Arc::default(),
            permits: Arc::new(Semaphore::new(sending::ON_THEIR_WAY)),
        }
    }
}

impl Desk {
    /// Notes what happened to errors, and plans what is sent of it. Returns how many notices went into the outbox.
    ///
    /// # Errors
    /// [`StoreError`] when the database does not answer; the next round goes on.
    pub(crate) async fn plan(
        &self,
        database: &Database,
        settings: &Settings,
        now: DateTime<Utc>,
    ) -> Result<usize, StoreError> {
        noting::errors(database, &mut *self.waiting.lock().await, now).await?;
        planning::round(database, settings, &mut *self.kept.lock().await, now).await
    }

    /// Sends what is in the outbox. Returns how many notices were taken.
    ///
    /// # Errors
    /// [`StoreError`] when the database does not answer; the next round goes on.
    pub(crate) async fn send(
        &self,
        database: &Database,
        settings: &Arc<Settings>,
        now: DateTime<Utc>,
    ) -> Result<usize, StoreError> {
        sending::round(database, settings, &self.permits, now).await
    }
}

/// The notices that a member's page is to show, each to one page only.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
pub(crate) async fn shown(
    database: &Database,
    settings: &Settings,
    email: &str,
    now: DateTime<Utc>,
) -> Result<Vec<ShownNotice>, StoreError> {
    let mut shown = vec![];
    for notice in outbox::shown(database, email, now).await? {
        let letter = sending::Told::read(database, &notice)
            .await?
            .letter(&notice, settings, None);
        shown.push(ShownNotice {
            id: notice.id,
            page: letter.page(),
            text: letter.on_a_page(),
            subject: letter.subject,
        });
    }
    Ok(shown)
}

/// Notes endpoints that are unwell, thresholds that are passed, and what is silent; `began` is when this instance did.
///
/// # Errors
/// [`StoreError`] when the database does not answer; the next round goes on.
pub(crate) async fn watch(database: &Database, began: DateTime<Utc>, now: DateTime<Utc>) -> Result<u64, StoreError> {
    let noted = watching::thresholds(database, now).await? + watching::endpoints(database, now).await?;
    Ok(noted + watching::silences(database, began, now).await?)
}

/// Tells those who asked for close-ups what these came to. Returns how many are told.
///
/// # Errors
/// [`StoreError`] when the database does not answer; the next round goes on.
pub(crate) async fn tell_of_close_ups(
    database: &Database,
    settings: &Settings,
    now: DateTime<Utc>,
) -> Result<usize, StoreError> {
    close_ups::tell(database, settings, now).await
}

/// Makes the digests that are due. Returns how many went into the outbox.
///
/// # Errors
/// [`StoreError`] when the database does not answer; the next round goes on.
pub(crate) async fn make_digests(
    database: &Database,
    settings: &Settings,
    now: DateTime<Utc>,
) -> Result<usize, StoreError> {
    digest::round(database, settings, now).await
}

/// Notes what deploys came to, each with its answer.
///
/// # Errors
/// [`StoreError`] when the database does not answer; the next round goes on.
pub(crate) async fn look_at_deploys(
    database: &Database,
    deploys: &[Deploy],
    checks: &[DeployCheck],
    now: DateTime<Utc>,
) -> Result<u64, StoreError> {
    noting::of_deploys(database, (deploys, checks), now).await
}
