//! The queue between requests and writers, and the writers: while one waits for the disk, the other gathers.

use crate::settings::Settings;
use std::sync::{Arc, PoisonError, RwLock};
use std::time::Duration;

use outcrop_core::grouping::rules::Rules;
use outcrop_store::intake::{Outcome, Submission, Writer};
use outcrop_store::live::Committed;
use outcrop_store::{Database, StoreError};
use tokio::sync::{Mutex, Semaphore, mpsc, oneshot};
use tokio::task::JoinHandle;

use super::body::Held;
use super::{Budget, Keys, Notes, render};

/// Writers side by side; measured: two fill one disk.
const WRITERS: usize = 2;
/// Requests waiting at most. What they may weigh is the budget's business; this bounds only the channel.
const QUEUED: usize = 4_096;
/// Requests per batch. One request is some hundred rows; past a few thousand rows a batch gains nothing.
const BATCH: usize = 64;

/// What a waiting request is told.
pub(crate) type Answer = Result<Outcome, Arc<StoreError>>;

pub(crate) struct Queue {
    submission: Submission,
    /// Given back once the request is answered.
    held: Held,
    answer: oneshot::Sender<Answer>,
}

/// The way in: everything a handler of OTLP needs.
#[derive(Clone)]
pub struct Intake {
    pub(crate) budget: Budget,
    pub(crate) keys: Keys,
    /// What came by which key, and what was refused.
    pub(crate) notes: Notes,
    /// One decode per core at a time: it is all computation.
    pub(crate) cores: Arc<Semaphore>,
    /// People's grouping rules, read anew every few seconds and after each change made here.
    rules: Arc<RwLock<Arc<Rules>>>,
    queue: mpsc::Sender<Queue>,
}

impl Intake {
    /// Starts the writers. They end when every clone of the intake is dropped and the queue is drained.
    pub(crate) fn start(
        database: &Database,
        settings: &Settings,
        told: &mpsc::Sender<Committed>,
    ) -> (Self, Arc<Writer>, Vec<JoinHandle<()>>) {
        let (queue, waiting) = mpsc::channel(QUEUED);
        let waiting = Arc::new(Mutex::new(waiting));
        let writer =
            Arc::new(Writer::new(database.clone(), render).keeping_logs(settings.log_days).keeping_bodies(settings.bodies_per_minute));
        let tasks = (0..WRITERS).map(|_| tokio::spawn(write(writer.clone(), waiting.clone(), told.clone()))).collect();
        let cores = std::thread::available_parallelism().map_or(1, usize::from);
        let intake = Self {
            budget: Budget::new(settings.budget_bytes),
            keys: Keys::default(),
            notes: Notes::default(),
            cores: Arc::new(Semaphore::new(cores)),
            rules: Arc::default(),
            queue,
        };
        (intake, writer, tasks)
    }

    /// The grouping rules in force.
    pub(crate) fn rules(&self) -> Arc<Rules> {
        self.rules.read().unwrap_or_else(PoisonError::into_inner).clone()
    }

    /// Reads the grouping rules anew.
    pub(crate) async fn read_rules(&self, database: &Database) -> Result<(), StoreError> {
        let read = Arc::new(outcrop_store::regrouping::rules(database).await?);
        *self.rules.write().unwrap_or_else(PoisonError::into_inner) = read;
        Ok(())
    }

    /// Hands a request to the writers and waits until it is committed. `None` when it took too long or the service is
    /// stopping: whether it was stored is not known then, and the sender has to ask again.
    pub(crate) async fn store(&self, submission: Submission, held: Held) -> Option<Answer> {
        let (answer, answered) = oneshot::channel();
        self.queue.send(Queue { submission, held, answer }).await.ok()?;
        tokio::time::timeout(MAX_COMMIT, answered).await.ok()?.ok()
    }
}

/// How long a commit may take before the sender is told to come back; receipts make that harmless.
const MAX_COMMIT: Duration = Duration::from_secs(25);

async fn write(writer: Arc<Writer>, waiting: Arc<Mutex<mpsc::Receiver<Queue>>>, told: mpsc::Sender<Committed>) {
    loop {
        let mut taken = Vec::with_capacity(BATCH);
        // The lock is held while waiting for the first request only by the writer whose turn it is.
        let count = waiting.lock().await.recv_many(&mut taken, BATCH).await;
        if count == 0 {
            return;
        }
        let (batch, waiters): (Vec<Submission>, Vec<_>) =
            taken.into_iter().map(|queued| (queued.submission, (queued.answer, queued.held))).unzip();
        let answers: Vec<Answer> = match writer.write(&batch).await {
            Ok(outcomes) => {
                // Where nobody keeps up with telling, the next message says as much.
                drop(told.try_send(committed(&batch)));
                outcomes.into_iter().map(Ok).collect()
            }
            Err(error) => {
                tracing::warn!(%error, requests = batch.len(), "a batch was not stored; its senders are asked to come back");
                let error = Arc::new(error);
                batch.iter().map(|_| Err(error.clone())).collect()
            }
        };
        for ((waiter, held), answer) in waiters.into_iter().zip(answers) {
            drop(held);
            // A sender that went away will come again and find its receipt.
            drop(waiter.send(answer));
        }
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
