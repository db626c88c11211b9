//! The rounds of all jobs. Each says how long to rest before the next one.

use std::collections::HashMap;
use std::sync::Arc;
use std::time::{Duration, Instant};

use outcrop_store::database::readers::Readers;
use outcrop_store::errors::reach;
use outcrop_store::grouping::moved;
use outcrop_store::retention::Policy;
use outcrop_store::traffic::{groups, uses};
use outcrop_store::upkeep::space;
use outcrop_store::writing::Writer;
use outcrop_store::{
    Database, StoreError, asking, board, close_ups, flags, metrics, retention, traces, traffic, upkeep,
};
use tokio::sync::Mutex;
use tokio_util::sync::CancellationToken;

use outcrop_store::upkeep::cleaning::{self, Cleaned};
use outcrop_store::upkeep::reported;

use crate::answers::{deploy_answers, tickets};
use crate::clock::now;
use crate::intake::Intake;
use crate::notices;
use crate::settings::Settings;
use crate::supervision::{Kind, Supervisor, Waiting};

/// How often upkeep looks for work.
const UPKEEP_EVERY: Duration = Duration::from_mins(1);
/// How often it is looked how much room there is: at 100 MB a second, the fastest a disk is filled,
/// a tenth of what must stay free.
const ROOM_EVERY: Duration = Duration::from_secs(1);
/// How often it is asked whether a minute is whole.
const FLAGS_EVERY: Duration = Duration::from_secs(5);
/// How often it is said anew from when on requests are slow.
const SLOW_EVERY: Duration = Duration::from_secs(15);
/// How long folding waits where nothing is left to fold, and how many times as long as it took at
/// least: a busy minute is read again each time that something is added to it, and what is not
/// folded yet is read from the occurrences.
const FOLD_EVERY: Duration = Duration::from_secs(1);
const REST: u32 = 5;
/// How often it is looked whether what lists of errors show is to be counted anew, and how many times as long as that took
/// it rests at least.
const BOARD_EVERY: Duration = Duration::from_secs(2);
const BOARD_REST: u32 = 9;
/// How often it is looked whether deploys are to be answered for anew: a notice leaves within 10 s of its flag.
const DEPLOYS_EVERY: Duration = Duration::from_secs(2);
/// How often points of metrics are folded: exporters send once a minute or so, and what is not folded is read as it came.
const METRICS_EVERY: Duration = Duration::from_secs(15);
/// How often it is looked whether something is stored that counted questions do not know of.
const COUNTED_EVERY: Duration = Duration::from_secs(20);
/// How often it is looked for which services stand behind the names that others call.
const LEARN_EVERY: Duration = Duration::from_secs(10);
/// How often it is looked whether new errors go to their owners.
const OWNERS_EVERY: Duration = Duration::from_secs(10);
/// How often it is looked whether somebody had something deleted.
const CLEANED_EVERY: Duration = Duration::from_secs(15);
/// How often it is looked whether errors stop being quiet.
const QUIET_EVERY: Duration = Duration::from_secs(20);
/// How often it is looked for what close-ups take, and whether there are new ones: until a writer knows of one it samples.
const CLOSE_UPS_EVERY: Duration = Duration::from_secs(2);
/// How often it is looked whether what a version brought is an error that was known.
const MOVED_EVERY: Duration = Duration::from_secs(30);
/// How often it is looked whether the standby follows.
const STANDBY_EVERY: Duration = Duration::from_secs(5);
/// How often grouping rules that another instance may have changed are read.
const RULES_EVERY: Duration = Duration::from_secs(2);
/// How often it is written down what came by which key and what was refused.
const NOTE_EVERY: Duration = Duration::from_secs(2);

/// What jobs work on.
#[derive(Clone, Copy)]
pub(crate) struct Service<'s> {
    pub database: &'s Database,
    pub readers: &'s Readers,
    pub settings: &'s Settings,
    pub intake: &'s Intake,
    pub writer: &'s Arc<Writer>,
    /// Cancelled when the service stops.
    pub stop: &'s CancellationToken,
}

/// Starts all jobs.
pub(crate) fn start(supervisor: &Supervisor, service: &Service<'_>) {
    let Service {
        database,
        readers,
        settings,
        intake,
        writer,
        stop,
    } = *service;
    if readers.has_standby() {
        let readers = readers.clone();
        supervisor.run("standby", STANDBY_EVERY, move || look_at_standby(readers.clone()));
    }
    let policy = Arc::new(settings.policy.clone());
    let made = writer.clone();
    supervisor.run("partitions", UPKEEP_EVERY, move || prepare(made.clone()));
    let (db, kept, by) = (database.clone(), writer.clone(), policy.clone());
    supervisor.run("retention", UPKEEP_EVERY, move || {
        remove_expired(db.clone(), kept.clone(), by.clone())
    });
    let (db, kept, by) = (database.clone(), writer.clone(), policy.clone());
    supervisor.run("traces", UPKEEP_EVERY, move || {
        sort_traces(db.clone(), kept.clone(), by.clone())
    });
    let (db, kept, by, opened) = (database.clone(), writer.clone(), policy.clone(), intake.clone());
    supervisor.run("room", ROOM_EVERY, move || {
        look_for_room(db.clone(), kept.clone(), opened.clone(), by.clone())
    });
    let (db, slow) = (database.clone(), writer.clone());
    supervisor.run("slow requests", SLOW_EVERY, move || {
        set_thresholds(db.clone(), slow.clone())
    });
    let (db, watch) = (database.clone(), Arc::new(Mutex::new(Watching::default())));
    supervisor.run("flags", FLAGS_EVERY, move || flag(db.clone(), watch.clone()));
    let db = database.clone();
    supervisor.run("users", FOLD_EVERY, move || fold(db.clone(), reach_of));
    let db = database.clone();
    supervisor.run("board", BOARD_EVERY, move || keep_board(db.clone()));
    let db = database.clone();
    supervisor.run("latencies", FOLD_EVERY, move || fold(db.clone(), latencies_of));
    let db = database.clone();
    supervisor.run("metrics", FOLD_EVERY, move || fold_metrics(db.clone()));
    let (db, by) = (database.clone(), policy);
    supervisor.run("counted", COUNTED_EVERY, move || count_hours(db.clone(), by.clone()));
    let db = database.clone();
    supervisor.run("origins", FOLD_EVERY, move || fold(db.clone(), origins_of));
    let db = database.clone();
    supervisor.run("quiet", QUIET_EVERY, move || end_quiet(db.clone()));
    let (db, set) = (database.clone(), Arc::new(settings.clone()));
    let (looked, by) = (db.clone(), set.clone());
    supervisor.run("owners", OWNERS_EVERY, move || hand_over(db.clone(), set.clone()));
    supervisor.run("tickets", tickets::EVERY, move || {
        look_at_tickets(looked.clone(), by.clone())
    });
    let (db, set, desk) = (database.clone(), Arc::new(settings.clone()), notices::Desk::default());
    let (outgoing, mailed, sender) = (db.clone(), set.clone(), desk.clone());
    supervisor.run("notices", notices::EVERY, move || {
        plan_notices(db.clone(), set.clone(), desk.clone())
    });
    supervisor.run("outbox", notices::EVERY, move || {
        send_notices(outgoing.clone(), mailed.clone(), sender.clone())
    });
    let (db, began) = (database.clone(), chrono::Utc::now());
    supervisor.run("watch", notices::WATCH_EVERY, move || watch_notices(db.clone(), began));
    let (db, set) = (database.clone(), Arc::new(settings.clone()));
    supervisor.run("digests", notices::WATCH_EVERY, move || {
        make_digests(db.clone(), set.clone())
    });
    let db = database.clone();
    supervisor.run("deploys", DEPLOYS_EVERY, move || look_at_deploys(db.clone()));
    let db = database.clone();
    supervisor.run("clean-up", CLEANED_EVERY, move || clean_up(db.clone()));
    let (db, kept, set) = (database.clone(), writer.clone(), Arc::new(settings.clone()));
    supervisor.run("close-ups", CLOSE_UPS_EVERY, move || {
        look_closer(db.clone(), kept.clone(), set.clone())
    });
    let db = database.clone();
    supervisor.run("callees", LEARN_EVERY, move || learn(db.clone()));
    let db = database.clone();
    supervisor.run("moved errors", MOVED_EVERY, move || look_at_moved(db.clone()));
    let (db, ruled) = (database.clone(), intake.clone());
    supervisor.run("rules", RULES_EVERY, move || read_rules(db.clone(), ruled.clone()));
    let (db, noted, stopped) = (database.clone(), intake.clone(), stop.clone());
    supervisor.keep("notes", Kind::Job, move || {
        notes(noted.clone(), db.clone(), stopped.clone())
    });
}

/// Counts anew what lists of errors show, so that it takes a tenth of one core at most; what is counted for the first time
/// is not held back.
async fn keep_board(database: Database) -> Result<Waiting, StoreError> {
    let began = Instant::now();
    let is_more = board::refresh(&database, chrono::Utc::now()).await?;
    Ok(if is_more {
        began.elapsed()
    } else {
        BOARD_EVERY.max(began.elapsed() * BOARD_REST)
    })
}

/// Makes partitions ahead of the first row that needs them.
async fn look_at_standby(readers: Readers) -> Result<Waiting, StoreError> {
    readers.check().await?;
    Ok(STANDBY_EVERY)
}

async fn prepare(writer: Arc<Writer>) -> Result<Waiting, StoreError> {
    writer.prepare(now()).await?;
    Ok(UPKEEP_EVERY)
}

/// Holds each kind of data to the room it may take, and closes the intake where there is none left at all.
async fn look_for_room(
    database: Database,
    writer: Arc<Writer>,
    intake: Intake,
    policy: Arc<Policy>,
) -> Result<Waiting, StoreError> {
    let room = space::room(&database).await?;
    let before = intake.closed();
    let closed = space::closed(room, &policy, before.is_some());
    if before.is_some() != closed.is_some() {
        if let Some(why) = &closed {
            tracing::error!("the intake is closed: {why}");
        } else {
            tracing::info!("the intake is open again: there is room");
        }
    }
    intake.close(closed.clone());
    let (full, emptied) = space::hold_to(&database, &policy, now().day()).await?;
    if full != writer.full() {
        tracing::warn!(?full, "what more data there is room for has changed");
    }
    writer.set_full(full);
    if !emptied.is_empty() {
        tracing::warn!(
            ?emptied,
            "the oldest days were emptied: their kind takes more room than it may"
        );
    }
    closed.map_or(Ok(ROOM_EVERY), |why| Err(StoreError::NoRoom(why)))
}

async fn remove_expired(database: Database, writer: Arc<Writer>, policy: Arc<Policy>) -> Result<Waiting, StoreError> {
    let at = now();
    let round = upkeep::remove_expired(&database, at, &policy).await?;
    writer.forget_days_before(at.plus_millis(-retention::RETENTION_DAYS * 86_400_000));
    if round.removed > 0 {
        tracing::info!(removed = round.removed, "removed what was past its time");
    }
    let mut failed = round.failed.into_iter();
    let Some((step, error)) = failed.next() else {
        return Ok(UPKEEP_EVERY);
    };
    tracing::warn!(step, %error, "a step of upkeep failed; the others were done");
    for (step, error) in failed {
        tracing::warn!(step, %error, "a step of upkeep failed; the others were done");
    }
    Err(error)
}

/// Lets go of spans that are not kept.
async fn sort_traces(database: Database, writer: Arc<Writer>, policy: Arc<Policy>) -> Result<Waiting, StoreError> {
    // The cap holds whatever the sorting comes to: a flood must not fill the disk.
    let sorted = traces::drain(&database, chrono::Utc::now(), !writer.full().traces).await;
    let gone = traces::drop_past_cap(&database, policy.hot_bytes).await?;
    if !gone.is_empty() {
        tracing::warn!(
            ?gone,
            policy.hot_bytes,
            "more spans came than there is room for: the oldest quarters of an hour were dropped whole"
        );
    }
    let tables = sorted?;
    if tables > 0 {
        tracing::info!(tables, "kept what matters of the spans of so many quarters of an hour");
    }
    Ok(UPKEEP_EVERY)
}

/// Says from when on requests are slow, and puts instance groups' counts together.
async fn set_thresholds(database: Database, writer: Arc<Writer>) -> Result<Waiting, StoreError> {
    groups::compact(&database, chrono::Utc::now()).await?;
    traffic::set_thresholds(&database, chrono::Utc::now()).await?;
    writer.read_thresholds().await?;
    Ok(SLOW_EVERY)
}

/// What the flags' job keeps from one round to the next.
#[derive(Default)]
struct Watching {
    watch: flags::Watch,
    risen: HashMap<i64, chrono::DateTime<chrono::Utc>>,
}

/// Says what is new, surging or back.
async fn flag(database: Database, watching: Arc<Mutex<Watching>>) -> Result<Waiting, StoreError> {
    let mut kept = watching.lock().await;
    // Where the round fails or panics it is begun anew, from what is stored.
    let Watching { mut watch, mut risen } = std::mem::take(&mut *kept);
    // Eight days are told at a stretch: on a thread of its own, so that no request waits for it.
    let (runtime, db) = (tokio::runtime::Handle::current(), database.clone());
    let telling = tokio::task::spawn_blocking(move || {
        let told = runtime.block_on(watch.round(&db, chrono::Utc::now()));
        (watch, told)
    });
    let (watch, told) = telling.await.map_err(|error| StoreError::Unusable(error.to_string()))?;
    let flags = told?;
    if flags > 0 {
        tracing::info!(flags, "errors were flagged");
    }
    let explained = crate::answers::why::explain_flags(&database, chrono::Utc::now(), &mut risen).await;
    *kept = Watching { watch, risen };
    explained?;
    Ok(FLAGS_EVERY)
}

type Folding = std::pin::Pin<Box<dyn Future<Output = Result<bool, StoreError>> + Send>>;

fn reach_of(database: Database) -> Folding {
    Box::pin(async move { reach::fold(&database).await })
}

fn latencies_of(database: Database) -> Folding {
    Box::pin(async move { traffic::fold(&database).await })
}

fn origins_of(database: Database) -> Folding {
    Box::pin(async move { traces::find_origins(&database).await })
}

/// Folds what was stored. What is not folded yet is read as it was stored meanwhile.
async fn fold(database: Database, step: fn(Database) -> Folding) -> Result<Waiting, StoreError> {
    let began = Instant::now();
    let is_more = step(database).await?;
    Ok(if is_more {
        Duration::ZERO
    } else {
        FOLD_EVERY.max(began.elapsed() * REST)
    })
}

/// Folds the points of metrics whose minute is over.
async fn fold_metrics(database: Database) -> Result<Waiting, StoreError> {
    let is_more = metrics::fold(&database, chrono::Utc::now()).await?;
    Ok(if is_more { Duration::ZERO } else { METRICS_EVERY })
}

/// Counts hours of questions that are counted for good.
async fn count_hours(database: Database, policy: Arc<Policy>) -> Result<Waiting, StoreError> {
    let is_more = metrics::count_hours(&database, &policy, chrono::Utc::now()).await?;
    Ok(if is_more { Duration::from_secs(1) } else { COUNTED_EVERY })
}

/// Learns which services stand behind the names that others call.
async fn learn(database: Database) -> Result<Waiting, StoreError> {
    uses::learn_services(&database, chrono::Utc::now()).await?;
    Ok(LEARN_EVERY)
}

/// Ends the quiet of errors whose condition has come.
async fn end_quiet(database: Database) -> Result<Waiting, StoreError> {
    asking::end_quiet(&database, chrono::Utc::now()).await?;
    Ok(QUIET_EVERY)
}

/// Looks again at what new versions brought: errors whose code has moved.
/// Hands new errors to their owners, where a rule says so.
async fn hand_over(database: Database, settings: Arc<Settings>) -> Result<Waiting, StoreError> {
    let handed = crate::answers::owners::hand_over(&database, &settings, chrono::Utc::now()).await?;
    if handed > 0 {
        tracing::info!(handed, "new errors were handed to their owners");
    }
    Ok(OWNERS_EVERY)
}

/// Deletes what people had deleted, and errors of old test reports.
async fn clean_up(database: Database) -> Result<Waiting, StoreError> {
    let now = chrono::Utc::now();
    for error in reported::old_tests(&database, now).await? {
        let name = outcrop_store::ids::reference(error).to_string();
        cleaning::ask(&database, &Cleaned::Error(error), &name, ("outcrop", now)).await?;
    }
    while let Some((asked, removed)) = cleaning::clean(&database, now).await? {
        tracing::info!(kind = asked.kind, by = asked.asked_by, removed, "data was deleted");
    }
    Ok(CLEANED_EVERY)
}

/// Takes what close-ups look for, has the writers sample nothing of it, and tells who asked once one ends.
async fn look_closer(database: Database, writer: Arc<Writer>, settings: Arc<Settings>) -> Result<Waiting, StoreError> {
    writer.read_close_ups().await?;
    let taken = close_ups::look(&database, chrono::Utc::now()).await?;
    let told = notices::tell_of_close_ups(&database, &settings, chrono::Utc::now()).await?;
    if taken + told > 0 {
        tracing::info!(taken, told, "close-ups took occurrences");
    }
    Ok(CLOSE_UPS_EVERY)
}

/// Notes what happened to errors, and plans what is sent of it.
async fn plan_notices(database: Database, settings: Arc<Settings>, desk: notices::Desk) -> Result<Waiting, StoreError> {
    let planned = desk.plan(&database, &settings, chrono::Utc::now()).await?;
    if planned > 0 {
        tracing::info!(planned, "notices are to be sent");
    }
    Ok(notices::EVERY)
}

/// Sends notices that are due.
async fn send_notices(database: Database, settings: Arc<Settings>, desk: notices::Desk) -> Result<Waiting, StoreError> {
    desk.send(&database, &settings, chrono::Utc::now()).await?;
    Ok(notices::EVERY)
}

/// Notes endpoints that are unwell, thresholds that are passed, and what is silent.
async fn watch_notices(database: Database, began: chrono::DateTime<chrono::Utc>) -> Result<Waiting, StoreError> {
    notices::watch(&database, began, chrono::Utc::now()).await?;
    Ok(notices::WATCH_EVERY)
}

/// Makes the digests of members who want to be told once a day.
async fn make_digests(database: Database, settings: Arc<Settings>) -> Result<Waiting, StoreError> {
    notices::make_digests(&database, &settings, chrono::Utc::now()).await?;
    Ok(notices::WATCH_EVERY)
}

/// Answers anew for deploys of which something changed, so that it takes a tenth of one core at most, and notes what these
/// answers say: an answer is kept once it is noted.
async fn look_at_deploys(database: Database) -> Result<Waiting, StoreError> {
    let (began, at) = (Instant::now(), chrono::Utc::now());
    if let Some((round, checks)) = deploy_answers::begin(&database, at).await? {
        notices::look_at_deploys(&database, &round.deploys, &checks, at).await?;
        if deploy_answers::keep(round, &checks).await? {
            return Ok(began.elapsed() * REST);
        }
    }
    Ok(DEPLOYS_EVERY.max(began.elapsed() * BOARD_REST))
}

/// Reads the states of tickets that are due.
async fn look_at_tickets(database: Database, settings: Arc<Settings>) -> Result<Waiting, StoreError> {
    let looked = tickets::look(&database, &settings, chrono::Utc::now()).await?;
    if looked > 0 {
        tracing::debug!(looked, "states of tickets were read");
    }
    Ok(tickets::EVERY)
}

async fn look_at_moved(database: Database) -> Result<Waiting, StoreError> {
    moved::read_shapes(&database).await?;
    let went = moved::review(&database, chrono::Utc::now()).await?;
    if went > 0 {
        tracing::info!(went, "causes went to the errors that they are by comparing versions");
    }
    Ok(MOVED_EVERY)
}

/// Keeps the grouping rules current. While they cannot be read, those read last hold.
async fn read_rules(database: Database, intake: Intake) -> Result<Waiting, StoreError> {
    intake.read_rules(&database).await?;
    Ok(RULES_EVERY)
}

/// Writes down what came by which key and what was refused, until cancelled and once more then.
async fn notes(intake: Intake, database: Database, stop: CancellationToken) {
    loop {
        let is_last = tokio::select! {
            () = stop.cancelled() => true,
            () = tokio::time::sleep(NOTE_EVERY) => false,
        };
        if let Err(error) = intake.notes.write(&database).await {
            tracing::debug!(%error, "what came by which key could not be written down");
        }
        if let Err(error) = intake.keys.share(&database).await {
            tracing::debug!(%error, "what keys may still send could not be shared");
        }
        if is_last {
            return;
        }
    }
}
