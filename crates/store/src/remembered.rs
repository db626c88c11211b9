//! What one process remembers: a bounded map that forgets what was not asked for longest.

use std::hash::Hash;
use std::sync::{Mutex, MutexGuard, PoisonError};

use lru::LruCache;

/// A map of at most `LIMIT` entries behind a lock. Past the limit it forgets the entry that was used longest ago,
/// so that one sender of ever new keys costs the others little.
///
/// Locks are held for single calls. A thread that panicked in one leaves a map that is still whole.
#[derive(Debug)]
pub struct Remembered<K: Hash + Eq, V, const LIMIT: usize> {
    entries: Mutex<LruCache<K, V>>,
}

impl<K: Hash + Eq, V, const LIMIT: usize> Default for Remembered<K, V, LIMIT> {
    /// An empty map. It takes no memory before it is filled.
    fn default() -> Self {
        Self {
            entries: Mutex::new(LruCache::unbounded()),
        }
    }
}

impl<K: Hash + Eq, V, const LIMIT: usize> Remembered<K, V, LIMIT> {
    /// Returns what is remembered under a key.
    pub fn get(&self, key: &K) -> Option<V>
    where
        V: Clone,
    {
        self.entries().get(key).cloned()
    }

    /// Whether something is remembered under a key.
    pub fn holds(&self, key: &K) -> bool {
        self.entries().get(key).is_some()
    }

    /// Remembers entries; of those of one key the last.
    pub fn extend(&self, new: impl IntoIterator<Item = (K, V)>) {
        let mut entries = self.entries();
        for (key, value) in new {
            entries.push(key, value);
            while entries.len() > LIMIT {
                entries.pop_lru();
            }
        }
    }

    /// Changes what is remembered under a key, beginning with `first` where nothing is, and returns what `change` does.
    pub fn change<R>(&self, key: K, first: impl FnOnce() -> V, change: impl FnOnce(&mut V) -> R) -> R {
        let mut entries = self.entries();
        let changed = change(entries.get_or_insert_mut(key, first));
        while entries.len() > LIMIT {
            entries.pop_lru();
        }
        changed
    }

    /// Forgets everything.
    pub fn forget(&self) {
        self.entries().clear();
    }

    fn entries(&self) -> MutexGuard<'_, LruCache<K, V>> {
        self.entries.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

#[cfg(test)]
mod tests {
    use super::Remembered;

    #[test]
    fn past_its_limit_it_forgets_what_was_used_longest_ago() {
        let map = Remembered::<_, _, 3>::default();
        map.extend([(1, 'a'), (2, 'b'), (3, 'c')]);
        assert_eq!(map.get(&1), Some('a'), "used again");
        map.extend([(4, 'd')]);
        assert_eq!((map.get(&1), map.get(&2), map.get(&4)), (Some('a'), None, Some('d')));
        map.forget();
        assert!(!map.holds(&1));
    }

    #[test]
    fn counts_begin_at_the_first_and_stay_within_the_limit() {
        let map = Remembered::<_, _, 2>::default();
        let count = |key| {
            map.change(
                key,
                || 0,
                |count| {
                    *count += 1;
                    *count
                },
            )
        };
        assert_eq!((count("a"), count("a"), count("b"), count("c")), (1, 2, 1, 1));
        assert_eq!(count("a"), 1, "the least used one was forgotten");
    }

    #[test]
    fn a_stranger_of_ever_new_keys_never_makes_it_forget_what_is_used_between() {
        let map = Remembered::<_, _, 100>::default();
        map.extend([(0, ())]);
        for key in 1..10_000 {
            map.extend([(key, ())]);
            assert!(map.holds(&0), "after {key}");
        }
    }
}
