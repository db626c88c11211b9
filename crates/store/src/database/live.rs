//! Telling all instances that something was committed: PostgreSQL's NOTIFY, in small transactions of their own.

use serde::{Deserialize, Serialize};
use sqlx::postgres::PgListener;

use crate::boxed;
use crate::{Database, StoreError};

/// The channel's name.
const CHANNEL: &str = "outcrop_live";

/// What was committed since the last message.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Committed {
    /// Requests to the intake that held anything new.
    pub batches: u64,
    /// Reports of failures.
    pub reports: u64,
    /// Names of the services that sent.
    pub services: Vec<String>,
}

/// Longest list of services in a message: NOTIFY takes 8,000 bytes.
const MAX_SERVICES: usize = 25;

/// Tells all instances.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn tell(database: &Database, mut committed: Committed) -> Result<(), StoreError> {
    committed.services.truncate(MAX_SERVICES);
    let message = serde_json::to_string(&committed).unwrap_or_default();
    sqlx::query("SELECT pg_notify($1, $2)")
        .bind(CHANNEL)
        .bind(message)
        .execute(&database.pool)
        .await?;
    Ok(())
}

/// Listens for what any instance tells. The connection is made anew where it breaks.
pub struct Listener(PgListener);

impl Listener {
    /// Begins to listen.
    ///
    /// # Errors
    /// [`StoreError`] when the database does not answer.
    #[boxed]
    pub async fn start(database: &Database) -> Result<Self, StoreError> {
        let mut listener = PgListener::connect_with(&database.pool).await?;
        listener.listen(CHANNEL).await?;
        Ok(Self(listener))
    }

    /// The next message; `None` after the connection was lost, when messages may have been missed.
    ///
    /// # Errors
    /// [`StoreError`] when the connection cannot be made again.
    #[boxed]
    pub async fn next(&mut self) -> Result<Option<Committed>, StoreError> {
        let message = self.0.try_recv().await?;
        Ok(message.and_then(|message| serde_json::from_str(message.payload()).ok()))
    }
}
