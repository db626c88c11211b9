//! What instances tell each other: what was committed.

use std::sync::Arc;
use std::time::Duration;

use outcrop_store::Database;
use outcrop_store::database::live;
use outcrop_store::database::live::{Committed, Listener};
use tokio::sync::{Mutex, broadcast, mpsc};
use tokio_util::sync::CancellationToken;

/// The shortest time between two messages to the other instances: NOTIFY takes a lock that commits wait for.
const TELL_EVERY: Duration = Duration::from_millis(250);

/// Tells all instances what was committed here, many commits in one message. Ends with the writers.
pub(crate) async fn tell(database: Database, committed: Arc<Mutex<mpsc::Receiver<Committed>>>) {
    let mut committed = committed.lock().await;
    while let Some(mut sum) = committed.recv().await {
        while let Ok(more) = committed.try_recv() {
            sum.batches += more.batches;
            sum.reports += more.reports;
            sum.services.extend(more.services);
        }
        sum.services.sort();
        sum.services.dedup();
        if let Err(error) = live::tell(&database, sum).await {
            tracing::debug!(%error, "what was committed could not be told; pages catch up with the next message");
        }
        tokio::time::sleep(TELL_EVERY).await;
    }
}

/// Listens to all instances and passes on to the pages open here. After a lost connection pages are told to read again.
pub(crate) async fn listen(database: Database, live: broadcast::Sender<Committed>, stop: CancellationToken) {
    let unknown = || Committed {
        batches: 1,
        ..Committed::default()
    };
    let listening = async {
        loop {
            let Ok(mut listener) = Listener::start(&database).await else {
                tokio::time::sleep(Duration::from_secs(1)).await;
                continue;
            };
            // Sending fails only while no page is open.
            drop(live.send(unknown()));
            while let Ok(message) = listener.next().await {
                drop(live.send(message.unwrap_or_else(unknown)));
            }
        }
    };
    tokio::select! {
        () = stop.cancelled() => {}
        () = listening => {}
    }
}
