//! The queue between requests and writers, and the writers: while one waits for the disk, the other gathers.

use std::sync::{Arc, Mutex, MutexGuard, PoisonError, RwLock};
use std::time::{Duration, Instant};

use outcrop_core::Digest;
use outcrop_core::grouping::rules::Rules;
use outcrop_store::database::live::Committed;
use outcrop_store::writing::{Outcome, Submission, Writer};
use outcrop_store::{Database, StoreError};
use tokio::sync::{Notify, mpsc, oneshot};

use super::turns::{Gate, Turns};
use super::{Budget, Held, Keys, Notes, render};
use crate::meters::Meters;
use crate::settings::Settings;
use crate::supervision::{Health, Kind, Supervisor};

/// Writers side by side; measured: two fill one disk.
const WRITERS: [&str; 2] = ["writer 1", "writer 2"];
/// Requests of one key that wait at most. What they may weigh is the budget's business; this bounds only their number.
const QUEUED: usize = 4_096;
/// Requests per batch. One request is some hundred rows; past a few thousand rows a batch gains nothing.
const BATCH: usize = 64;
/// Rows per batch, about: what commits within some hundred milliseconds, so that nobody waits long for their turn.
const BATCH_ROWS: usize = 4_000;
/// A request of more bytes than this takes long to read: such ones leave one core to the others.
const LARGE_BYTES: usize = 4 << 20;

/// What a waiting request is told.
pub(crate) type Answer = Result<Outcome, Arc<StoreError>>;

struct Queued {
    submission: Submission,
    rows: usize,
    /// Given back once the request is answered.
    held: Held,
    answer: oneshot::Sender<Answer>,
}

/// Requests that wait for a writer, in turns by sender key.
#[derive(Default)]
pub(crate) struct Line {
    state: Mutex<State>,
    arrived: Notify,
}

#[derive(Default)]
struct State {
    turns: Turns<i32, Queued>,
    /// Whether a writer is at a request too large for a batch: the other then takes none such, so
    /// that small ones find it free.
    is_large_taken: bool,
    is_closed: bool,
}

impl Line {
    fn state(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn push(&self, queued: Queued) -> bool {
        let mut state = self.state();
        let key = queued.submission.key;
        if state.is_closed || state.turns.waiting(&key) >= QUEUED {
            return false;
        }
        state.turns.push(key, queued);
        drop(state);
        self.arrived.notify_one();
        true
    }

    /// How many requests wait.
    pub(crate) fn waiting(&self) -> usize {
        self.state().turns.len()
    }

    /// Takes a batch; empty once the line is closed and drained.
    async fn take(&self) -> Vec<Queued> {
        loop {
            let arrived = self.arrived.notified();
            tokio::pin!(arrived);
            arrived.as_mut().enable();
            {
                let mut state = self.state();
                let batch = state.batch();
                if !batch.is_empty() || state.is_closed && state.turns.is_empty() {
                    return batch;
                }
            }
            arrived.await;
        }
    }

    /// Says that a batch is done.
    fn done(&self, was_large: bool) {
        if was_large {
            self.state().is_large_taken = false;
        }
        // The other writer may wait for what only now may be taken, or for the end.
        self.arrived.notify_waiters();
        self.arrived.notify_one();
    }

    /// Takes no more requests; the writers end once all that wait are stored.
    pub(crate) fn close(&self) {
        self.state().is_closed = true;
        self.arrived.notify_waiters();
        self.arrived.notify_one();
    }
}

/// Closes the line when it is dropped: the writers' threads end then, and with them the process,
/// however it came to stop.
pub(crate) struct Closing(pub Arc<Line>);

impl Drop for Closing {
    fn drop(&mut self) {
        self.0.close();
    }
}

impl State {
    /// The next requests in turn, of few rows together; a large one alone.
    fn batch(&mut self) -> Vec<Queued> {
        let is_large_taken = self.is_large_taken;
        let Some(first) = self.turns.pop(|queued| !is_large_taken || queued.rows <= BATCH_ROWS) else {
            return vec![];
        };
        if first.rows > BATCH_ROWS {
            self.is_large_taken = true;
            return vec![first];
        }
        let mut rows = first.rows;
        let mut batch = vec![first];
        while batch.len() < BATCH
            && let Some(next) = self.turns.pop(|queued| rows + queued.rows <= BATCH_ROWS)
        {
            rows += next.rows;
            batch.push(next);
        }
        batch
    }
}

/// About how many rows a request becomes.
fn rows(submission: &Submission) -> usize {
    let found = &submission.found;
    found.reports.len()
        + found.spans.len()
        + found.lines.len()
        + found.points.len()
        + found.counted_only.len()
        + found.instances.len()
        + found.calls.len()
        + 1
}

/// The way in: everything a handler of OTLP needs.
#[derive(Clone)]
pub struct Intake {
    pub(crate) budget: Budget,
    pub(crate) keys: Keys,
    /// What came by which key, and what was refused.
    pub(crate) notes: Notes,
    /// One decode per core at a time: it is all computation.
    cores: Gate,
    /// The large ones among them, on all cores but one.
    large: Gate,
    /// People's grouping rules, read anew every few seconds and after each change made here.
    rules: Arc<RwLock<Arc<Rules>>>,
    pub(crate) line: Arc<Line>,
    /// What it counts of itself.
    pub(crate) meters: Meters,
    /// Why nothing is taken, while there is no room.
    closed: Arc<RwLock<Option<String>>>,
}

/// Whose turn it is to compute.
pub(crate) struct Turn {
    _large: Option<super::turns::Pass>,
    _core: super::turns::Pass,
}

impl Intake {
    /// Why nothing is taken, while there is no room.
    pub(crate) fn closed(&self) -> Option<String> {
        self.closed.read().unwrap_or_else(PoisonError::into_inner).clone()
    }

    /// Takes nothing any more, for a reason, or takes it again.
    pub(crate) fn close(&self, why: Option<String>) {
        *self.closed.write().unwrap_or_else(PoisonError::into_inner) = why;
    }

    /// Starts the writers. They end when the line is closed and drained.
    pub(crate) fn start(
        database: &Database,
        settings: &Settings,
        told: &mpsc::Sender<Committed>,
        supervisor: &Supervisor,
    ) -> (Self, Arc<Writer>) {
        let (line, meters) = (Arc::new(Line::default()), Meters::default());
        let writer = Arc::new(
            Writer::new(database.clone(), render)
                .keeping_logs(settings.policy.log_days)
                .keeping_bodies(settings.bodies_per_minute),
        );
        for name in WRITERS {
            let (writer, line, told) = (writer.clone(), line.clone(), told.clone());
            let watched = (supervisor.health().clone(), meters.clone());
            supervisor.keep(name, Kind::Writer, move || {
                apart(write(name, writer.clone(), line.clone(), told.clone(), watched.clone()))
            });
        }
        let cores = std::thread::available_parallelism().map_or(1, usize::from);
        let intake = Self {
            budget: Budget::new(settings.budget_bytes),
            keys: Keys::default(),
            notes: Notes::default(),
            closed: Arc::default(),
            cores: Gate::new(cores),
            large: Gate::new(cores - 1),
            rules: Arc::default(),
            line,
            meters,
        };
        (intake, writer)
    }

    /// Waits for a core to read a body of about so many bytes.
    pub(crate) async fn turn(&self, key: Digest, bytes: usize) -> Turn {
        let large = if bytes > LARGE_BYTES {
            Some(self.large.enter(key).await)
        } else {
            None
        };
        Turn {
            _large: large,
            _core: self.cores.enter(key).await,
        }
    }

    /// The grouping rules in force.
    pub(crate) fn rules(&self) -> Arc<Rules> {
        self.rules.read().unwrap_or_else(PoisonError::into_inner).clone()
    }

    /// Reads the grouping rules anew.
    pub(crate) async fn read_rules(&self, database: &Database) -> Result<(), StoreError> {
        let read = Arc::new(outcrop_store::grouping::rules(database).await?);
        *self.rules.write().unwrap_or_else(PoisonError::into_inner) = read;
        Ok(())
    }

    /// Hands a request to the writers and waits until it is committed. `None` when too many of its
    /// key wait, it took too long or the service is stopping: whether it was stored is not known
    /// then, and the sender has to ask again.
    pub(crate) async fn store(&self, submission: Submission, held: Held) -> Option<Answer> {
        let (answer, answered) = oneshot::channel();
        let rows = rows(&submission);
        if !self.line.push(Queued {
            submission,
            rows,
            held,
            answer,
        }) {
            return None;
        }
        tokio::time::timeout(MAX_COMMIT, answered).await.ok()?.ok()
    }
}

/// How long a commit may take before the sender is told to come back; receipts make that harmless.
const MAX_COMMIT: Duration = Duration::from_secs(25);

/// Runs a writer on a thread of its own: between two statements it sums and encodes all rows of a
/// batch, and whatever the runtime has queued behind that would wait for it.
async fn apart(writer: impl Future<Output = ()> + Send + 'static) {
    let runtime = tokio::runtime::Handle::current();
    if let Err(error) = tokio::task::spawn_blocking(move || runtime.block_on(writer)).await
        && let Ok(panic) = error.try_into_panic()
    {
        std::panic::resume_unwind(panic);
    }
}

async fn write(
    name: &'static str,
    writer: Arc<Writer>,
    line: Arc<Line>,
    told: mpsc::Sender<Committed>,
    (health, meters): (Health, Meters),
) {
    loop {
        let taken = line.take().await;
        if taken.is_empty() {
            return;
        }
        let guard = Done {
            line: &line,
            was_large: taken.iter().any(|queued| queued.rows > BATCH_ROWS),
        };
        let (batch, waiters): (Vec<Submission>, Vec<_>) = taken
            .into_iter()
            .map(|queued| (queued.submission, (queued.answer, queued.held)))
            .unzip();
        let begun = Instant::now();
        let written = writer.write(&batch).await;
        meters.batch(batch.len(), begun.elapsed(), written.is_ok());
        let answers: Vec<Answer> = match written {
            Ok(outcomes) => {
                health.done(name);
                // Where nobody keeps up with telling, the next message says as much.
                drop(told.try_send(committed(&batch)));
                outcomes.into_iter().map(Ok).collect()
            }
            Err(error) => {
                tracing::warn!(%error, requests = batch.len(), "a batch was not stored; its senders are asked to come \
                    back");
                // While the database is away, asking it tells.
                if !error.is_temporary() {
                    health.failed(name, crate::supervision::cause(&error));
                }
                let error = Arc::new(error);
                batch.iter().map(|_| Err(error.clone())).collect()
            }
        };
        for ((waiter, held), answer) in waiters.into_iter().zip(answers) {
            drop(held);
            // A sender that went away will come again and find its receipt.
            drop(waiter.send(answer));
        }
        drop(guard);
    }
}

/// Says that a batch is done, however it ended.
struct Done<'a> {
    line: &'a Line,
    was_large: bool,
}

impl Drop for Done<'_> {
    fn drop(&mut self) {
        self.line.done(self.was_large);
    }
}

fn committed(batch: &[Submission]) -> Committed {
    let found = || batch.iter().map(|submission| &submission.found);
    let names = found().flat_map(|found| {
        let of_reports = found.reports.iter().map(|report| &report.identity);
        found.spans.iter().map(|span| &span.identity).chain(of_reports)
    });
    let services: std::collections::BTreeSet<&str> = names.map(|identity| identity.service.as_str()).collect();
    Committed {
        batches: batch.len() as u64,
        reports: found().map(|found| found.reports.len() as u64).sum(),
        services: services.into_iter().map(str::to_owned).collect(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn queued(key: i32, rows: usize, budget: &Budget) -> (Queued, oneshot::Receiver<Answer>) {
        let (answer, answered) = oneshot::channel();
        let submission = Submission {
            receipt: Digest::of([format!("{key}/{rows}").as_str()]),
            key,
            received: outcrop_core::Timestamp(0),
            found: Arc::default(),
        };
        let held = futures_util::FutureExt::now_or_never(budget.take(Digest([7; 16]), 1))
            .unwrap()
            .unwrap();
        (
            Queued {
                submission,
                rows,
                held,
                answer,
            },
            answered,
        )
    }

    fn keys(batch: &[Queued]) -> Vec<(i32, usize)> {
        batch
            .iter()
            .map(|queued| (queued.submission.key, queued.rows))
            .collect()
    }

    #[tokio::test]
    async fn a_batch_takes_turns_and_stays_small_and_a_large_request_goes_alone() {
        let (line, budget) = (Line::default(), Budget::new(1 << 20));
        for (key, rows) in [(1, 50_000), (1, 60_000), (1, 10), (2, 3_000), (2, 3_000), (3, 5)] {
            assert!(line.push(queued(key, rows, &budget).0));
        }
        assert_eq!(keys(&line.take().await), [(1, 50_000)]);
        // While a writer is at a large one, the other finds small ones of other keys, in turn.
        assert_eq!(keys(&line.take().await), [(2, 3_000), (3, 5)]);
        assert_eq!(keys(&line.take().await), [(2, 3_000)]);
        line.done(true);
        assert_eq!(keys(&line.take().await), [(1, 60_000)]);
        line.done(true);
        assert_eq!(keys(&line.take().await), [(1, 10)]);
    }

    #[tokio::test]
    async fn a_closed_line_takes_nothing_more_and_is_drained_to_the_last_request() {
        let (line, budget) = (Arc::new(Line::default()), Budget::new(1 << 20));
        assert!(line.push(queued(1, 10, &budget).0));
        let waiting = tokio::spawn({
            let line = line.clone();
            async move {
                let mut taken = 0;
                loop {
                    let batch = line.take().await;
                    if batch.is_empty() {
                        return taken;
                    }
                    taken += batch.len();
                    line.done(false);
                }
            }
        });
        assert!(line.push(queued(2, 10, &budget).0));
        line.close();
        assert!(!line.push(queued(3, 10, &budget).0), "its sender is asked to come back");
        assert_eq!(waiting.await.unwrap(), 2);
    }

    #[tokio::test]
    async fn requests_of_one_key_wait_up_to_a_number() {
        let (line, budget) = (Line::default(), Budget::new(64 << 20));
        let pushed = (0..QUEUED + 5).filter(|_| line.push(queued(1, 1, &budget).0)).count();
        assert_eq!(pushed, QUEUED);
        assert!(line.push(queued(2, 1, &budget).0), "another key still finds room");
        assert_eq!(line.take().await.len(), BATCH);
    }
}
