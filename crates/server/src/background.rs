//! Work that nobody waits for: partitions ahead of time, and removal of what is past its time.

use std::sync::Arc;
use std::time::Duration;

use outcrop_store::intake::Writer;
use outcrop_store::{Database, upkeep};
use tokio_util::sync::CancellationToken;

use crate::state::now;

/// How often upkeep looks for work.
const EVERY: Duration = Duration::from_mins(1);

/// Runs until cancelled. A failing round is logged and tried again with the next.
pub(crate) async fn upkeep(database: Database, writer: Arc<Writer>, stop: CancellationToken) {
    loop {
        let at = now();
        if let Err(error) = writer.prepare(at).await {
            tracing::warn!(%error, "partitions could not be made ahead of time");
        }
        match upkeep::remove_expired(&database, at).await {
            Ok(0) => {}
            Ok(removed) => tracing::info!(removed, "removed what was past its time"),
            Err(error) => tracing::warn!(%error, "upkeep failed; tried again in a minute"),
        }
        writer.forget_days_before(at.plus_millis(-upkeep::RETENTION_DAYS * 86_400_000));
        tokio::select! {
            () = stop.cancelled() => return,
            () = tokio::time::sleep(EVERY) => {}
        }
    }
}
