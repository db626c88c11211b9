//! Runs writers and jobs, and starts them again when they fail.

use std::future::Future;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use futures_util::future::BoxFuture;
use outcrop_store::StoreError;
use tokio_util::sync::CancellationToken;
use tokio_util::task::TaskTracker;

use super::health::{Health, Kind, cause};

/// How long is waited before what failed is tried again; doubled with each failure in a row.
const FIRST_WAIT: Duration = Duration::from_secs(1);
const LONGEST_WAIT: Duration = Duration::from_mins(1);
/// A job is late once it has not finished for so many times as long as it rests, and at least this long.
const LATE_AFTER: u32 = 10;
const SHORTEST_PATIENCE: Duration = Duration::from_mins(5);
/// How often in a row a writer may be started again before the process gives up: whoever runs it starts it anew then.
const MOST_RESTARTS: u32 = 20;

/// How long a job rests before its next round.
pub(crate) type Waiting = Duration;

/// Starts something, again and again.
type Start<T> = Box<dyn Fn() -> BoxFuture<'static, T> + Send>;

/// Runs writers and jobs until it is told to stop.
#[derive(Clone)]
pub(crate) struct Supervisor {
    health: Health,
    stop: CancellationToken,
    tasks: TaskTracker,
    given_up: Arc<Mutex<Option<String>>>,
}

impl Supervisor {
    pub(crate) fn new(stop: CancellationToken) -> Self {
        Self {
            health: Health::default(),
            stop,
            tasks: TaskTracker::new(),
            given_up: Arc::default(),
        }
    }

    /// How all that runs here is.
    pub(crate) const fn health(&self) -> &Health {
        &self.health
    }

    /// Keeps something running that ends only when it has nothing more to do. A panic starts it again.
    pub(crate) fn keep<F>(&self, name: &'static str, kind: Kind, start: impl Fn() -> F + Send + 'static)
    where
        F: Future<Output = ()> + Send + 'static,
    {
        self.keep_boxed(name, kind, Box::new(move || Box::pin(start())));
    }

    // Boxed, so that what follows is compiled once and not for each job.
    fn keep_boxed(&self, name: &'static str, kind: Kind, start: Start<()>) {
        self.health.watch(name, kind, None);
        let this = self.clone();
        self.tasks.spawn(async move {
            loop {
                match tokio::spawn(start()).await {
                    Ok(()) => return,
                    Err(error) => {
                        let failures = this.health.failed(name, "it panicked; Outcrop's log has the cause");
                        tracing::error!(%error, failures, "{name} ended; it is started again");
                        if kind == Kind::Writer && failures >= MOST_RESTARTS {
                            this.give_up(format!("{name} failed {failures} times in a row"));
                            return;
                        }
                        tokio::time::sleep(wait(failures)).await;
                        this.health.restarted(name);
                    }
                }
            }
        });
    }

    /// Runs rounds of a job until told to stop. A round says how long to rest before the next; one
    /// that fails or panics is tried again after a wait that grows with each failure in a row.
    pub(crate) fn run<F>(&self, name: &'static str, rests: Waiting, round: impl Fn() -> F + Send + 'static)
    where
        F: Future<Output = Result<Waiting, StoreError>> + Send + 'static,
    {
        self.run_boxed(name, rests, Box::new(move || Box::pin(round())));
    }

    fn run_boxed(&self, name: &'static str, rests: Waiting, round: Start<Result<Waiting, StoreError>>) {
        self.health
            .watch(name, Kind::Job, Some(SHORTEST_PATIENCE.max(rests * LATE_AFTER)));
        let this = self.clone();
        self.tasks.spawn(async move {
            while !this.stop.is_cancelled() {
                let rest = match tokio::spawn(round()).await {
                    Ok(Ok(rest)) => {
                        this.health.done(name);
                        rest
                    }
                    Ok(Err(error)) => {
                        let failures = this.health.failed(name, cause(&error));
                        tracing::warn!(%error, failures, "the job `{name}` failed; it is tried again");
                        wait(failures)
                    }
                    Err(error) => {
                        let failures = this.health.failed(name, "it panicked; Outcrop's log has the cause");
                        tracing::error!(%error, failures, "the job `{name}` panicked; it is started again");
                        this.health.restarted(name);
                        wait(failures)
                    }
                };
                tokio::select! {
                    () = this.stop.cancelled() => {}
                    () = tokio::time::sleep(rest) => {}
                }
            }
        });
    }

    /// Stops the service: it cannot do its work, and whoever runs it must know.
    pub(crate) fn give_up(&self, why: String) {
        tracing::error!(%why, "the service gives up");
        self.given_up
            .lock()
            .unwrap_or_else(PoisonError::into_inner)
            .get_or_insert(why);
        self.stop.cancel();
    }

    /// Whether the service is stopping.
    pub(crate) fn is_stopping(&self) -> bool {
        self.stop.is_cancelled()
    }

    /// Why the service gave up, if it did.
    pub(crate) fn gave_up(&self) -> Option<String> {
        self.given_up.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }

    /// Waits until all that ran has ended.
    pub(crate) async fn ended(&self) {
        self.tasks.close();
        self.tasks.wait().await;
    }
}

fn wait(failures: u32) -> Duration {
    FIRST_WAIT
        .saturating_mul(1 << failures.saturating_sub(1).min(10))
        .min(LONGEST_WAIT)
}

#[cfg(test)]
mod tests {
    use std::sync::atomic::{AtomicU32, Ordering};

    use super::*;
    use crate::clock::now;

    #[test]
    fn the_wait_doubles_up_to_a_minute() {
        let waits: Vec<u64> = (1..=9).map(|failures| wait(failures).as_secs()).collect();
        assert_eq!(waits, [1, 2, 4, 8, 16, 32, 60, 60, 60]);
        assert_eq!(wait(u32::MAX), LONGEST_WAIT);
    }

    #[tokio::test(start_paused = true)]
    async fn what_panics_is_started_again_and_counted() {
        let supervisor = Supervisor::new(CancellationToken::new());
        let starts = Arc::new(AtomicU32::new(0));
        let count = starts.clone();
        supervisor.keep("writer 1", Kind::Writer, move || {
            let count = count.clone();
            async move { assert!(count.fetch_add(1, Ordering::Relaxed) >= 3, "not yet") }
        });
        tokio::time::sleep(Duration::from_secs(2)).await;
        let troubles = supervisor.health().troubles(now());
        assert_eq!((troubles[0].name, troubles[0].failures), ("writer 1", 2));
        supervisor.ended().await;
        assert_eq!(starts.load(Ordering::Relaxed), 4);
        assert_eq!(supervisor.gave_up(), None);
    }

    #[tokio::test(start_paused = true)]
    async fn a_writer_that_never_recovers_ends_the_service() {
        let stop = CancellationToken::new();
        let supervisor = Supervisor::new(stop.clone());
        supervisor.keep("writer 1", Kind::Writer, || async { panic!("broken") });
        stop.cancelled().await;
        assert_eq!(
            supervisor.gave_up().as_deref(),
            Some("writer 1 failed 20 times in a row")
        );
    }

    #[tokio::test(start_paused = true)]
    async fn a_job_that_fails_is_tried_again_ever_more_slowly_and_stops_when_told() {
        let stop = CancellationToken::new();
        let supervisor = Supervisor::new(stop.clone());
        let rounds = Arc::new(AtomicU32::new(0));
        let count = rounds.clone();
        supervisor.run("flags", Duration::from_secs(5), move || {
            let round = count.fetch_add(1, Ordering::Relaxed);
            async move {
                assert!(round != 1, "a panic is one failure among others");
                if round < 4 {
                    Err(StoreError::Unusable("not yet".to_owned()))
                } else {
                    Ok(Duration::from_secs(5))
                }
            }
        });
        // After 1, 2, 4 and 8 s it succeeds, and rests for 5 s then.
        tokio::time::sleep(Duration::from_secs(14)).await;
        assert_eq!(rounds.load(Ordering::Relaxed), 4);
        assert_eq!(supervisor.health().troubles(now())[0].failures, 4);
        tokio::time::sleep(Duration::from_secs(2)).await;
        assert_eq!(
            (rounds.load(Ordering::Relaxed), supervisor.health().troubles(now())),
            (5, vec![])
        );
        stop.cancel();
        supervisor.ended().await;
    }
}
