//! How the writers and jobs of this process are.

use std::collections::BTreeMap;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use outcrop_api::TroubleItem;
use outcrop_core::Timestamp;
use outcrop_store::{StoreError, to_utc};

use crate::clock::now;

/// What depends on it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Kind {
    /// Takes what senders send: while it is down the service is not ready.
    Writer,
    /// Does what can wait: the service stays ready while it is late.
    Job,
}

/// How one of them is.
#[derive(Clone, Debug)]
struct Standing {
    kind: Kind,
    /// After how long without success it is late; a writer that has nothing to do is not.
    patience: Option<Duration>,
    last_done: Timestamp,
    /// Failures in a row, and when the first of them was.
    failures: u32,
    failing_since: Option<Timestamp>,
    last_failed: Timestamp,
    cause: String,
    /// How often it was started again.
    restarts: u64,
}

/// Something that is not as it should be.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Trouble {
    /// The writer or job.
    pub name: &'static str,
    /// What depends on it.
    pub kind: Kind,
    /// What is wrong, in a sentence without internals.
    pub says: String,
    /// Since when.
    pub since: Timestamp,
    /// Failures in a row; 0 where it is only late.
    pub failures: u32,
}

impl Trouble {
    /// As the API tells it.
    pub fn to_item(&self) -> TroubleItem {
        TroubleItem {
            name: self.name.to_owned(),
            says: self.says.clone(),
            since: to_utc(self.since),
            failures: self.failures,
        }
    }
}

/// How a writer or job stands, in numbers.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct JobStanding {
    /// The writer or job.
    pub name: &'static str,
    /// Since it last did its work; a writer that has nothing to do does none.
    pub since_done: Duration,
    /// Failures in a row.
    pub failures: u32,
    /// How often it was started again.
    pub restarts: u64,
}

/// How often a writer may fail in a row before the service is not ready: one lost race with the database is none.
const WRITER_FAILURES: u32 = 3;
/// How long after its last failure a writer may be tried again, in milliseconds: taken out of
/// rotation it would get nothing to succeed with.
const TRIED_AGAIN_MS: i64 = 30_000;

/// How all writers and jobs are.
#[derive(Clone, Default)]
pub(crate) struct Health(Arc<Mutex<BTreeMap<&'static str, Standing>>>);

impl Health {
    fn standings(&self) -> MutexGuard<'_, BTreeMap<&'static str, Standing>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Begins to watch one. `patience` is `None` for what has nothing to do at times.
    pub(super) fn watch(&self, name: &'static str, kind: Kind, patience: Option<Duration>) {
        let standing = Standing {
            kind,
            patience,
            last_done: now(),
            failures: 0,
            failing_since: None,
            last_failed: now(),
            cause: String::new(),
            restarts: 0,
        };
        self.standings().insert(name, standing);
    }

    /// It did its work.
    pub(crate) fn done(&self, name: &'static str) {
        if let Some(standing) = self.standings().get_mut(name) {
            (standing.last_done, standing.failures, standing.failing_since) = (now(), 0, None);
        }
    }

    /// It failed; returns how often in a row.
    pub(crate) fn failed(&self, name: &'static str, cause: impl Into<String>) -> u32 {
        let mut standings = self.standings();
        let Some(standing) = standings.get_mut(name) else {
            return 0;
        };
        standing.failures += 1;
        standing.last_failed = now();
        standing.failing_since.get_or_insert(standing.last_failed);
        standing.cause = cause.into();
        standing.failures
    }

    /// It is started again.
    pub(super) fn restarted(&self, name: &'static str) {
        if let Some(standing) = self.standings().get_mut(name) {
            standing.restarts += 1;
        }
    }

    /// How all stand at a time, in numbers.
    pub(crate) fn all(&self, at: Timestamp) -> Vec<JobStanding> {
        let standings = self.standings();
        let all = standings.iter().map(|(name, standing)| JobStanding {
            name,
            since_done: Duration::from_millis(
                (at.millis() - standing.last_done.millis())
                    .try_into()
                    .unwrap_or_default(),
            ),
            failures: standing.failures,
            restarts: standing.restarts,
        });
        all.collect()
    }

    /// What is wrong at a time.
    pub(crate) fn troubles(&self, at: Timestamp) -> Vec<Trouble> {
        self.standings()
            .iter()
            .filter_map(|(name, standing)| standing.trouble(name, at))
            .collect()
    }

    /// Why the service cannot take what senders send, if so.
    pub(crate) fn not_ready(&self, at: Timestamp) -> Option<String> {
        let standings = self.standings();
        let down = standings.iter().find(|(_, standing)| {
            standing.kind == Kind::Writer
                && standing.failures >= WRITER_FAILURES
                && at.millis() - standing.last_failed.millis() < TRIED_AGAIN_MS
        });
        down.and_then(|(name, standing)| standing.trouble(name, at))
            .map(|trouble| format!("{} is down: {}", trouble.name, trouble.says))
    }
}

impl Standing {
    fn trouble(&self, name: &'static str, at: Timestamp) -> Option<Trouble> {
        let trouble = |says: String, since: Timestamp| Trouble {
            name,
            kind: self.kind,
            says,
            since,
            failures: self.failures,
        };
        if let Some(since) = self.failing_since {
            let times = |n: u64| {
                if n == 1 {
                    "once".to_owned()
                } else {
                    format!("{n} times")
                }
            };
            let again = if self.restarts > 0 {
                format!(", started again {}", times(self.restarts))
            } else {
                String::new()
            };
            return Some(trouble(
                format!("failed {} in a row{again}: {}", times(self.failures.into()), self.cause),
                since,
            ));
        }
        let silent_ms = at.millis() - self.last_done.millis();
        let is_late = self
            .patience
            .is_some_and(|patience| silent_ms > i64::try_from(patience.as_millis()).unwrap_or(i64::MAX));
        is_late.then(|| {
            trouble(
                format!("it has not finished for {} s", silent_ms / 1_000),
                self.last_done,
            )
        })
    }
}

/// What went wrong, for people who may not read the log.
pub(crate) fn cause(error: &StoreError) -> String {
    match error {
        StoreError::NoRoom(why) | StoreError::Standby(why) => why.as_str(),
        StoreError::Away(_) => "the database does not answer",
        StoreError::TooLong(_) => "the database takes too long",
        StoreError::Repeat(_) => "other transactions stand in the way",
        StoreError::Data(_) | StoreError::Unusable(_) | StoreError::Ambiguous(_) | StoreError::Other(_) => {
            "Outcrop's log has the cause"
        }
    }
    .to_owned()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_job_that_fails_or_is_late_is_told_and_a_writer_that_fails_makes_the_service_not_ready() {
        let health = Health::default();
        health.watch("flags", Kind::Job, Some(Duration::from_mins(2)));
        health.watch("writer 1", Kind::Writer, None);
        let later = now().plus_millis(180_000);
        let told: Vec<(&str, u32)> = health
            .troubles(later)
            .iter()
            .map(|trouble| (trouble.name, trouble.failures))
            .collect();
        assert_eq!(told, [("flags", 0)], "a writer that has nothing to do is not late");
        assert!(
            health.troubles(later)[0].says.contains("it has not finished for 1"),
            "{:?}",
            health.troubles(later)
        );
        for _ in 0..4 {
            health.failed("flags", "the database takes too long");
        }
        assert_eq!(
            health.not_ready(later),
            None,
            "jobs never take the intake out of a proxy's rotation"
        );
        health.failed("writer 1", "it panicked");
        health.failed("writer 1", "it panicked");
        assert_eq!(health.not_ready(later), None);
        health.failed("writer 1", "it panicked");
        assert_eq!(
            health.not_ready(now()).as_deref(),
            Some("writer 1 is down: failed 3 times in a row: it panicked")
        );
        assert_eq!(
            health.not_ready(later),
            None,
            "what has not failed for a while is tried again"
        );
        health.done("writer 1");
        health.done("flags");
        assert_eq!((health.not_ready(now()), health.troubles(now())), (None, vec![]));
    }
}
