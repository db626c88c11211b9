//! Work that nobody waits for: partitions ahead of time, and removal of what is past its time.

use std::sync::Arc;
use std::time::Duration;

use outcrop_store::intake::Writer;
use outcrop_store::live::{self, Committed, Listener};
use outcrop_store::{Database, deploys, groups, handling, reach, traces, traffic, upkeep, uses};
use tokio::sync::{broadcast, mpsc};
use tokio_util::sync::CancellationToken;

use crate::intake::Intake;
use crate::state::now;

/// How often upkeep looks for work.
const EVERY: Duration = Duration::from_mins(1);

/// Runs until cancelled. A failing round is logged and tried again with the next.
pub(crate) async fn upkeep(database: Database, writer: Arc<Writer>, hot_bytes: i64, log_days: i64, stop: CancellationToken) {
    loop {
        let at = now();
        if let Err(error) = writer.prepare(at).await {
            tracing::warn!(%error, "partitions could not be made ahead of time");
        }
        match upkeep::remove_expired(&database, at, log_days).await {
            Ok(0) => {}
            Ok(removed) => tracing::info!(removed, "removed what was past its time"),
            Err(error) => tracing::warn!(%error, "upkeep failed; tried again in a minute"),
        }
        traces(&database, hot_bytes).await;
        writer.forget_days_before(at.plus_millis(-upkeep::RETENTION_DAYS * 86_400_000));
        tokio::select! {
            () = stop.cancelled() => return,
            () = tokio::time::sleep(EVERY) => {}
        }
    }
}

/// Lets go of spans that are not kept.
async fn traces(database: &Database, hot_bytes: i64) {
    let now = chrono::Utc::now();
    match traces::drain(database, now).await {
        Ok(0) => {}
        Ok(tables) => tracing::info!(tables, "kept what matters of the spans of so many quarters of an hour"),
        Err(error) => tracing::warn!(%error, "spans could not be sorted out; tried again in a minute"),
    }
    match traces::drop_past_cap(database, hot_bytes).await {
        Ok(gone) if gone.is_empty() => {}
        Ok(gone) => {
            tracing::warn!(?gone, hot_bytes, "more spans came than there is room for: the oldest quarters of an hour were dropped whole");
        }
        Err(error) => tracing::warn!(%error, "the room that spans take could not be checked"),
    }
}

/// How often it is asked whether a minute is whole.
const FLAG_EVERY: Duration = Duration::from_secs(5);

/// Says what is new, surging or back, until cancelled.
pub(crate) async fn flags(database: Database, stop: CancellationToken) {
    let mut watch = deploys::Watch::default();
    let mut risen = std::collections::HashMap::new();
    loop {
        match watch.round(&database, chrono::Utc::now()).await {
            Ok(0) => {}
            Ok(flags) => tracing::info!(flags, "errors were flagged"),
            Err(error) => {
                watch = deploys::Watch::default();
                tracing::warn!(%error, "flags could not be worked out; begun anew in a moment");
            }
        }
        if let Err(error) = crate::routes::why::explain_flags(&database, chrono::Utc::now(), &mut risen).await {
            tracing::warn!(%error, "it could not be worked out why errors were flagged; tried again in a moment");
        }
        tokio::select! {
            () = stop.cancelled() => return,
            () = tokio::time::sleep(FLAG_EVERY) => {}
        }
    }
}

/// How often it is said anew from when on requests are slow.
const SLOW_EVERY: Duration = Duration::from_secs(15);

/// Says from when on requests are slow, and puts instance groups' counts together, until cancelled.
pub(crate) async fn slow(database: Database, writer: Arc<Writer>, stop: CancellationToken) {
    loop {
        let said = async {
            groups::compact(&database, chrono::Utc::now()).await?;
            traffic::set_thresholds(&database, chrono::Utc::now()).await?;
            writer.read_thresholds().await
        };
        if let Err(error) = said.await {
            tracing::warn!(%error, "it could not be said from when on requests are slow");
        }
        tokio::select! {
            () = stop.cancelled() => return,
            () = tokio::time::sleep(SLOW_EVERY) => {}
        }
    }
}

/// How long folding waits where nothing is left to fold, and how many times as long as it took at least: a busy minute is read
/// again each time that something is added to it, and what is not folded yet is read from the occurrences.
const FOLD_EVERY: Duration = Duration::from_secs(1);
const REST: u32 = 5;

/// Folds users and endpoints by the hour, until cancelled. What is not folded yet is read from the occurrences meanwhile.
pub(crate) async fn fold(database: Database, stop: CancellationToken) {
    loop {
        let began = std::time::Instant::now();
        let mut is_more = false;
        for (what, folded) in [
            ("users", reach::fold(&database).await),
            ("latencies", traffic::fold(&database).await),
            ("origins", traces::find_origins(&database).await),
        ] {
            is_more |= folded.unwrap_or_else(|error| {
                tracing::warn!(%error, "{what} could not be folded; tried again in a second");
                false
            });
        }
        let wait = if is_more { Duration::ZERO } else { FOLD_EVERY.max(began.elapsed() * REST) };
        tokio::select! {
            () = stop.cancelled() => return,
            () = tokio::time::sleep(wait) => {}
        }
    }
}

/// How often it is looked for which services stand behind the names that others call.
const LEARN_EVERY: Duration = Duration::from_secs(10);

/// Learns which services stand behind the names that others call, until cancelled.
pub(crate) async fn learn(database: Database, stop: CancellationToken) {
    loop {
        if let Err(error) = uses::learn_services(&database, chrono::Utc::now()).await {
            tracing::debug!(%error, "it could not be learnt who is called");
        }
        tokio::select! {
            () = stop.cancelled() => return,
            () = tokio::time::sleep(LEARN_EVERY) => {}
        }
    }
}

/// How often it is looked whether errors stop being quiet.
const QUIET_EVERY: Duration = Duration::from_secs(20);

/// Ends the quiet of errors whose condition has come, until cancelled.
pub(crate) async fn quiet(database: Database, stop: CancellationToken) {
    loop {
        if let Err(error) = handling::end_quiet(&database, chrono::Utc::now()).await {
            tracing::warn!(%error, "it could not be looked whether errors stop being quiet; tried again in a moment");
        }
        tokio::select! {
            () = stop.cancelled() => return,
            () = tokio::time::sleep(QUIET_EVERY) => {}
        }
    }
}

/// How often grouping rules that another instance may have changed are read.
const RULES_EVERY: Duration = Duration::from_secs(2);

/// Keeps the grouping rules current until cancelled. While they cannot be read, those read last hold.
pub(crate) async fn rules(intake: Intake, database: Database, stop: CancellationToken) {
    loop {
        tokio::select! {
            () = stop.cancelled() => return,
            () = tokio::time::sleep(RULES_EVERY) => {}
        }
        if let Err(error) = intake.read_rules(&database).await {
            tracing::debug!(%error, "grouping rules could not be read");
        }
    }
}

/// How often it is written down what came by which key and what was refused.
const NOTE_EVERY: Duration = Duration::from_secs(2);

/// Writes down what came by which key and what was refused, until cancelled and once more then.
pub(crate) async fn notes(intake: Intake, database: Database, stop: CancellationToken) {
    loop {
        let is_last = tokio::select! {
            () = stop.cancelled() => true,
            () = tokio::time::sleep(NOTE_EVERY) => false,
        };
        if let Err(error) = intake.notes.write(&database).await {
            tracing::debug!(%error, "what came by which key could not be written down");
        }
        if is_last {
            return;
        }
    }
}

/// The shortest time between two messages to the other instances: NOTIFY takes a lock that commits wait for.
const TELL_EVERY: Duration = Duration::from_millis(250);

/// Tells all instances what was committed here, many commits in one message. Ends with the writers.
pub(crate) async fn tell(database: Database, mut committed: mpsc::Receiver<Committed>) {
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
    let unknown = || Committed { batches: 1, ..Committed::default() };
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
