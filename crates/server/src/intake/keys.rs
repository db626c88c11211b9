//! Sender keys, looked up once and remembered for a moment, and how much may come by each.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use outcrop_core::Digest;
use outcrop_store::people::keys::SenderKey;
use outcrop_store::people::{allowances, keys};
use outcrop_store::{Database, Remembered, StoreError};

/// How long a looked-up key is trusted: a revoked key is refused everywhere within this time.
const TRUSTED: Duration = Duration::from_secs(2);
/// How long a key that is known is trusted on while the database does not answer: its requests then
/// fail for what they bring, not for who brings it.
const TRUSTED_AWAY: Duration = Duration::from_mins(1);
/// Keys remembered, known and unknown: guessing fills no memory.
const MAX_REMEMBERED: usize = 10_000;

/// When a key was looked up, and the key; `None` where none has this secret.
type LookedUp = (Instant, Option<Arc<SenderKey>>);

#[derive(Clone, Default)]
pub(crate) struct Keys {
    remembered: Arc<Remembered<Digest, LookedUp, MAX_REMEMBERED>>,
    allowances: Arc<Mutex<HashMap<i32, Allowance>>>,
}

impl Keys {
    /// Finds the key whose secret has this digest; `None` where it is unknown or revoked.
    pub(crate) async fn check(
        &self,
        database: &Database,
        digest: Digest,
    ) -> Result<Option<Arc<SenderKey>>, StoreError> {
        let remembered = self.remembered.get(&digest);
        let trusted = |within: Duration| {
            remembered
                .as_ref()
                .filter(|(at, _)| at.elapsed() < within)
                .map(|(_, key)| key.clone())
        };
        if let Some(key) = trusted(TRUSTED) {
            return Ok(key);
        }
        let key = match keys::of_secret(database, digest).await {
            Ok(key) => key.map(Arc::new),
            Err(error) => return trusted(TRUSTED_AWAY).filter(Option::is_some).ok_or(error),
        };
        self.remembered.extend([(digest, (Instant::now(), key.clone()))]);
        Ok(key)
    }

    /// Gives back what was taken for a request that was not stored: an outage's retries must not
    /// use up what may be sent.
    pub(crate) fn give_back(&self, key: i32, bytes: usize) {
        let mut allowances = self.allowances.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(allowance) = allowances.get_mut(&key) {
            allowance.give_back(u64::try_from(bytes).unwrap_or(u64::MAX));
        }
    }

    /// Takes what was sent here from what keys may still send over all instances, and learns what is left of that.
    ///
    /// # Errors
    /// [`StoreError`] when the database does not answer: what was sent is taken the next time.
    pub(crate) async fn share(&self, database: &Database) -> Result<(), StoreError> {
        let mut spent: Vec<(i32, i64)> = {
            let allowances = self.allowances.lock().unwrap_or_else(PoisonError::into_inner);
            let here =
                |(key, allowance): (&i32, &Allowance)| (*key, i64::try_from(allowance.spent).unwrap_or(i64::MAX));
            allowances.iter().map(here).collect()
        };
        if spent.is_empty() {
            return Ok(());
        }
        // Instances take turns in one order.
        spent.sort_unstable();
        let left = allowances::share(database, &spent).await?;
        let mut allowances = self.allowances.lock().unwrap_or_else(PoisonError::into_inner);
        for ((key, told), (_, left)) in spent
            .iter()
            .filter_map(|(key, told)| Some(((*key, *told), left.iter().find(|(of, _)| of == key)?)))
        {
            if let Some(allowance) = allowances.get_mut(&key) {
                allowance.learn(told.unsigned_abs(), left.unsigned_abs());
            }
        }
        Ok(())
    }

    /// Takes bytes from what a key may send a minute. What other instances took is known within two seconds.
    ///
    /// # Errors
    /// The seconds after which there is room again.
    pub(crate) fn spend(&self, key: &SenderKey, bytes: usize) -> Result<(), u64> {
        let Some(per_minute) = key.bounds.bytes_per_minute.and_then(|limit| u64::try_from(limit).ok()) else {
            return Ok(());
        };
        let mut allowances = self.allowances.lock().unwrap_or_else(PoisonError::into_inner);
        let allowance = allowances.entry(key.id).or_insert_with(|| Allowance {
            per_minute,
            left: per_minute,
            spent: 0,
            at: Instant::now(),
        });
        allowance.spend(per_minute, u64::try_from(bytes).unwrap_or(u64::MAX), Instant::now())
    }
}

/// What a key may still send: a minute's worth at most, refilled evenly. A body larger than a whole minute's worth is
/// taken when nothing else was sent for a minute, and then has to be made up for.
struct Allowance {
    per_minute: u64,
    left: u64,
    /// What was taken here and not told to the other instances.
    spent: u64,
    at: Instant,
}

impl Allowance {
    fn give_back(&mut self, bytes: u64) {
        let bytes = bytes.min(self.per_minute);
        self.left = self.left.saturating_add(bytes).min(self.per_minute);
        self.spent = self.spent.saturating_sub(bytes);
    }

    /// Knows what is left over all instances, once so much of what was taken here is told.
    const fn learn(&mut self, told: u64, left: u64) {
        self.spent = self.spent.saturating_sub(told);
        self.left = left.saturating_sub(self.spent);
    }

    fn spend(&mut self, per_minute: u64, bytes: u64, now: Instant) -> Result<(), u64> {
        let per_minute = per_minute.max(1);
        if per_minute != self.per_minute {
            (self.per_minute, self.left) = (per_minute, per_minute);
        }
        let elapsed = u64::try_from(now.duration_since(self.at).as_millis()).unwrap_or(u64::MAX);
        let refilled = u64::try_from(u128::from(per_minute) * u128::from(elapsed) / 60_000).unwrap_or(u64::MAX);
        if refilled > 0 {
            self.left = self.left.saturating_add(refilled).min(per_minute);
            self.at = now;
        }
        let needed = bytes.min(per_minute);
        if self.left >= needed {
            self.left -= needed;
            self.spent = self.spent.saturating_add(needed);
            return Ok(());
        }
        let missing = u128::from(needed - self.left);
        Err(u64::try_from((missing * 60).div_ceil(u128::from(per_minute)))
            .unwrap_or(60)
            .clamp(1, 60))
    }
}

#[cfg(test)]
mod tests {
    use outcrop_store::people::keys::Bounds;

    use super::*;

    #[tokio::test]
    async fn two_instances_give_a_key_one_minutes_worth_together() {
        let (state, _supervisor, _closing) = crate::state::State::for_tests(|_| {}).await;
        let bounds = Bounds {
            bytes_per_minute: Some(60_000),
            ..Bounds::default()
        };
        let secret = state.key("pier-3", bounds).await;
        let digest = crate::access::digest_of(&secret);
        let (one, two) = (Keys::default(), Keys::default());
        let key = one.check(&state.database, digest).await.unwrap().unwrap();
        one.spend(&key, 40_000).unwrap();
        two.spend(&key, 10_000).unwrap();
        one.share(&state.database).await.unwrap();
        two.share(&state.database).await.unwrap();
        // What it sends while they tell each other is taken into account.
        two.spend(&key, 5_000).unwrap();
        two.share(&state.database).await.unwrap();
        assert!(two.spend(&key, 20_000).is_err(), "5,000 are left of 60,000");
        one.share(&state.database).await.unwrap();
        assert!(one.spend(&key, 20_000).is_err());
        one.spend(&key, 4_000).unwrap();
    }

    #[test]
    fn a_key_may_send_a_minutes_worth_and_is_told_when_there_is_room_again() {
        let start = Instant::now();
        let after = |seconds| start + Duration::from_secs(seconds);
        let mut allowance = Allowance {
            per_minute: 6_000,
            left: 6_000,
            spent: 0,
            at: start,
        };
        assert_eq!(allowance.spend(6_000, 5_000, start), Ok(()));
        assert_eq!(allowance.spend(6_000, 2_000, start), Err(10));
        assert_eq!(allowance.spend(6_000, 2_000, after(10)), Ok(()));
        // Larger than a minute's worth: after a whole minute without anything.
        assert_eq!(allowance.spend(6_000, 90_000, after(10)), Err(60));
        assert_eq!(allowance.spend(6_000, 90_000, after(70)), Ok(()));
        allowance.give_back(90_000);
        assert_eq!(
            allowance.spend(6_000, 6_000, after(70)),
            Ok(()),
            "what was not stored may be sent again"
        );
        // A limit that was raised holds at once.
        assert_eq!(allowance.spend(60_000, 20_000, after(70)), Ok(()));
    }
}
