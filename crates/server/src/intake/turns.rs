//! Turns among sender keys: whoever sends much waits behind its own requests, not before everybody else's.

use std::collections::{HashMap, VecDeque};
use std::hash::Hash;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use outcrop_core::Digest;
use tokio::sync::oneshot;

/// What waits, by whom: each in turn gives one.
pub(super) struct Turns<K, T> {
    order: VecDeque<K>,
    waiting: HashMap<K, VecDeque<T>>,
}

impl<K, T> Default for Turns<K, T> {
    fn default() -> Self {
        Self {
            order: VecDeque::new(),
            waiting: HashMap::new(),
        }
    }
}

impl<K: Copy + Eq + Hash, T> Turns<K, T> {
    pub(super) fn push(&mut self, key: K, item: T) {
        let waiting = self.waiting.entry(key).or_default();
        if waiting.is_empty() {
            self.order.push_back(key);
        }
        waiting.push_back(item);
    }

    pub(super) fn is_empty(&self) -> bool {
        self.order.is_empty()
    }

    /// How many wait of all.
    pub(super) fn len(&self) -> usize {
        self.waiting.values().map(VecDeque::len).sum()
    }

    /// How many wait of one.
    pub(super) fn waiting(&self, key: &K) -> usize {
        self.waiting.get(key).map_or(0, VecDeque::len)
    }

    /// Takes the first item of the next one whose first item is wanted; its turn is over then.
    pub(super) fn pop(&mut self, wants: impl Fn(&T) -> bool) -> Option<T> {
        let is_wanted = |key: &K| self.waiting.get(key).and_then(VecDeque::front).is_some_and(&wants);
        let place = self.order.iter().position(is_wanted)?;
        let key = self.order.remove(place)?;
        let waiting = self.waiting.get_mut(&key)?;
        let item = waiting.pop_front();
        if waiting.is_empty() {
            self.waiting.remove(&key);
        } else {
            self.order.push_back(key);
        }
        item
    }
}

/// A gate through which so many pass at once; those who wait pass in turns by key.
#[derive(Clone)]
pub(crate) struct Gate(Arc<Mutex<Passing>>);

struct Passing {
    free: usize,
    waiting: Turns<Digest, oneshot::Sender<Pass>>,
}

/// The right to be inside; the next one enters when it is dropped.
pub(crate) struct Pass(Option<Gate>);

impl Gate {
    pub(crate) fn new(passes: usize) -> Self {
        Self(Arc::new(Mutex::new(Passing {
            free: passes.max(1),
            waiting: Turns::default(),
        })))
    }

    /// Waits for its turn.
    pub(crate) async fn enter(&self, key: Digest) -> Pass {
        let turn = {
            let mut passing = self.passing();
            if passing.free > 0 {
                passing.free -= 1;
                return Pass(Some(self.clone()));
            }
            let (pass, turn) = oneshot::channel();
            passing.waiting.push(key, pass);
            turn
        };
        // The sender goes only with the gate, which this holds.
        turn.await.unwrap_or(Pass(None))
    }

    fn passing(&self) -> MutexGuard<'_, Passing> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl Drop for Pass {
    fn drop(&mut self) {
        let Some(gate) = self.0.take() else { return };
        let mut passing = gate.passing();
        let mut pass = Self(Some(gate.clone()));
        while let Some(next) = passing.waiting.pop(|_| true) {
            match next.send(pass) {
                Ok(()) => return,
                // It went away while it waited.
                Err(back) => pass = back,
            }
        }
        pass.0 = None;
        passing.free += 1;
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const A: Digest = Digest([1; 16]);
    const B: Digest = Digest([2; 16]);

    #[test]
    fn each_key_gives_one_in_turn() {
        let mut turns = Turns::default();
        for item in ["a1", "a2", "a3"] {
            turns.push('a', item);
        }
        turns.push('b', "b1");
        let order: Vec<&str> = std::iter::from_fn(|| turns.pop(|_| true)).collect();
        assert_eq!(order, ["a1", "b1", "a2", "a3"]);
        assert!(
            turns.order.is_empty() && turns.waiting.is_empty(),
            "nobody is remembered who waits for nothing"
        );
    }

    #[test]
    fn what_is_not_wanted_keeps_its_turn() {
        let mut turns = Turns::default();
        turns.push('a', 70);
        turns.push('b', 1);
        assert_eq!(turns.pop(|weight| *weight < 10), Some(1));
        assert_eq!((turns.pop(|weight| *weight < 10), turns.waiting(&'a')), (None, 1));
        assert_eq!(turns.pop(|_| true), Some(70));
    }

    #[tokio::test]
    async fn those_who_wait_pass_in_turns_and_those_who_left_are_skipped() {
        let gate = Gate::new(1);
        let inside = gate.enter(A).await;
        let order = Arc::new(Mutex::new(vec![]));
        let mut tasks = vec![];
        for (key, name) in [(A, "a1"), (A, "a2"), (Digest([3; 16]), "left"), (B, "b1")] {
            let (gate, order) = (gate.clone(), order.clone());
            let task = tokio::spawn(async move {
                let _pass = gate.enter(key).await;
                order.lock().unwrap().push(name);
            });
            tokio::task::yield_now().await;
            if name == "left" {
                task.abort();
            } else {
                tasks.push(task);
            }
        }
        tokio::task::yield_now().await;
        drop(inside);
        for task in tasks {
            task.await.unwrap();
        }
        assert_eq!(*order.lock().unwrap(), ["a1", "b1", "a2"]);
        assert_eq!(gate.passing().free, 1, "the gate is as it was");
    }
}
