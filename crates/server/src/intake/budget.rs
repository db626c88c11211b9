//! Memory for what is being taken: of all senders together, and of each key a share.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use outcrop_core::Digest;
use tokio::sync::Notify;

use super::BodyError;

/// How long a request waits for room in the budget before it is told to come back.
const MAX_WAIT: Duration = Duration::from_secs(2);

/// Bytes of memory that requests may take at once, from reading to commit. A key may hold half of
/// it, so that one crash loop does not blind the others; a request that is its key's only one may
/// hold three quarters. A request that waits for much never keeps smaller ones waiting behind it.
#[derive(Clone)]
pub(crate) struct Budget(Arc<Inner>);

struct Inner {
    total: usize,
    used: Mutex<Used>,
    freed: Notify,
}

#[derive(Default)]
struct Used {
    all: usize,
    by_key: HashMap<Digest, usize>,
}

/// Why there is no room.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum NoRoom {
    /// Others hold it; it may be there shortly.
    Now,
    /// One request may never have so much.
    Ever,
}

impl From<NoRoom> for BodyError {
    fn from(no_room: NoRoom) -> Self {
        match no_room {
            NoRoom::Now => Self::OverBudget,
            NoRoom::Ever => Self::TooHeavy,
        }
    }
}

/// A part of the budget, given back when dropped.
pub(crate) struct Held {
    budget: Budget,
    key: Digest,
    bytes: usize,
}

impl Budget {
    pub(crate) fn new(bytes: usize) -> Self {
        Self(Arc::new(Inner {
            total: bytes,
            used: Mutex::default(),
            freed: Notify::new(),
        }))
    }

    /// Takes a part, waiting shortly for room.
    pub(crate) async fn take(&self, key: Digest, bytes: usize) -> Result<Held, BodyError> {
        let mut held = Held {
            budget: self.clone(),
            key,
            bytes: 0,
        };
        held.wait_for(bytes).await?;
        Ok(held)
    }

    /// Bytes that are held, and all that there are.
    pub(crate) fn standing(&self) -> (usize, usize) {
        (self.used().all, self.0.total)
    }

    fn used(&self) -> MutexGuard<'_, Used> {
        self.0.used.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl Held {
    /// Takes more, at once or not at all.
    pub(crate) fn grow(&mut self, more: usize) -> Result<(), NoRoom> {
        let total = self.budget.0.total;
        if self.bytes + more > total - total / 4 {
            return Err(NoRoom::Ever);
        }
        let mut used = self.budget.used();
        let of_key = used.by_key.get(&self.key).copied().unwrap_or_default();
        let is_alone = of_key == self.bytes;
        if used.all + more > total || !is_alone && of_key + more > total / 2 {
            return Err(NoRoom::Now);
        }
        used.all += more;
        *used.by_key.entry(self.key).or_default() += more;
        self.bytes += more;
        Ok(())
    }

    /// Takes more, waiting shortly for room.
    pub(crate) async fn wait_for(&mut self, more: usize) -> Result<(), BodyError> {
        let budget = self.budget.clone();
        let until = tokio::time::Instant::now() + MAX_WAIT;
        loop {
            // Listened for before it is looked, so that nothing is freed in between unheard.
            let freed = budget.0.freed.notified();
            tokio::pin!(freed);
            freed.as_mut().enable();
            match self.grow(more) {
                Ok(()) => return Ok(()),
                Err(NoRoom::Ever) => return Err(BodyError::TooHeavy),
                Err(NoRoom::Now) => {}
            }
            if tokio::time::timeout_at(until, freed).await.is_err() {
                return Err(BodyError::OverBudget);
            }
        }
    }

    /// Takes so much more as it says, at least so much that it holds `bytes`.
    pub(crate) async fn hold_at_least(&mut self, bytes: usize) -> Result<(), BodyError> {
        if bytes > self.bytes {
            self.wait_for(bytes - self.bytes).await
        } else {
            Ok(())
        }
    }
}

impl Drop for Held {
    fn drop(&mut self) {
        let mut used = self.budget.used();
        used.all -= self.bytes;
        if let Some(of_key) = used.by_key.get_mut(&self.key) {
            *of_key -= self.bytes;
            if *of_key == 0 {
                used.by_key.remove(&self.key);
            }
        }
        drop(used);
        self.budget.0.freed.notify_waiters();
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const A: Digest = Digest([1; 16]);
    const B: Digest = Digest([2; 16]);

    #[tokio::test]
    async fn a_key_holds_half_of_it_and_leaves_the_rest_to_others() {
        let budget = Budget::new(1_000);
        let mut first = budget.take(A, 300).await.unwrap();
        let second = budget.take(A, 200).await.unwrap();
        assert_eq!(first.grow(1), Err(NoRoom::Now), "the key holds its half");
        let other = budget.take(B, 500).await.unwrap();
        assert_eq!(first.grow(1), Err(NoRoom::Now));
        drop((second, other));
        assert_eq!(first.grow(400), Ok(()), "alone it may hold more than half");
        assert_eq!(first.grow(100), Err(NoRoom::Ever), "never all");
        drop(first);
        assert!(
            budget.used().by_key.is_empty() && budget.used().all == 0,
            "all is given back"
        );
    }

    #[tokio::test]
    async fn what_waits_for_much_holds_up_nothing_small() {
        let budget = Budget::new(1_000);
        let held = budget.take(A, 400).await.unwrap();
        let large = tokio::spawn({
            let budget = budget.clone();
            async move { budget.take(B, 700).await.map(drop) }
        });
        tokio::task::yield_now().await;
        drop(budget.take(Digest([3; 16]), 100).await.unwrap());
        drop(held);
        assert!(large.await.unwrap().is_ok(), "it has its turn once there is room");
    }

    #[tokio::test(start_paused = true)]
    async fn what_finds_no_room_is_told_to_come_back_and_what_never_will_is_refused() {
        let budget = Budget::new(1_000);
        let _held = budget.take(A, 700).await.unwrap();
        assert!(matches!(budget.take(B, 400).await, Err(BodyError::OverBudget)));
        assert!(matches!(budget.take(B, 800).await, Err(BodyError::TooHeavy)));
    }
}
