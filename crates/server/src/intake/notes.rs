//! What came by which key, and what was refused: gathered here, written down every two seconds.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};

use chrono::{DateTime, DurationRound, TimeDelta, Utc};
use outcrop_core::scrub;
use outcrop_store::people::keys;
use outcrop_store::people::keys::{KeyUse, RefusedRequest, SenderKey};
use outcrop_store::{Database, StoreError};

/// Different refusals gathered before they are written down; those past this are counted under one row.
const MAX_GATHERED: usize = 500;
/// Longest text of a sender kept, in bytes: a path, its name for itself.
const LONGEST: usize = 200;

/// Who sends, as far as it can be said before the key is known.
#[derive(Clone, Debug, Default)]
pub(crate) struct Origin {
    /// Where it was sent to.
    pub path: String,
    /// What the sender says it is (`User-Agent`).
    pub agent: String,
    /// Its network address.
    pub address: String,
}

#[derive(Default)]
struct Gathered {
    uses: HashMap<i32, KeyUse>,
    refused: HashMap<RefusedRequest, i64>,
}

#[derive(Clone, Default)]
pub(crate) struct Notes(Arc<Mutex<Gathered>>);

impl Notes {
    /// Notes a request that was taken.
    pub(crate) fn taken(&self, key: &SenderKey, bytes: usize) {
        let mut gathered = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let used = gathered.uses.entry(key.id).or_insert_with(|| KeyUse {
            key: key.id,
            ..KeyUse::default()
        });
        used.requests += 1;
        used.bytes += i64::try_from(bytes).unwrap_or(i64::MAX);
    }

    /// Notes a request that was refused.
    pub(crate) fn refused(&self, key: Option<&SenderKey>, origin: &Origin, reason: &str, at: DateTime<Utc>) {
        let clean = |text: &str| {
            let text: String = outcrop_core::text::prefix(text, LONGEST)
                .chars()
                .map(|c| if c.is_control() { ' ' } else { c })
                .collect();
            scrub::text(&text).unwrap_or(text)
        };
        let mut request = RefusedRequest {
            minute: at.duration_trunc(TimeDelta::minutes(1)).unwrap_or(at),
            key: key.map(|key| key.name.clone()).unwrap_or_default(),
            path: clean(&origin.path),
            sender: [clean(&origin.agent), clean(&origin.address)]
                .iter()
                .filter(|text| !text.is_empty())
                .cloned()
                .collect::<Vec<_>>()
                .join(" at "),
            reason: clean(reason),
        };
        let mut gathered = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(key) = key {
            gathered
                .uses
                .entry(key.id)
                .or_insert_with(|| KeyUse {
                    key: key.id,
                    ..KeyUse::default()
                })
                .refused += 1;
        }
        if gathered.refused.len() >= MAX_GATHERED && !gathered.refused.contains_key(&request) {
            request = RefusedRequest {
                minute: request.minute,
                key: String::new(),
                path: String::new(),
                sender: "many senders".to_owned(),
                reason: "more different refusals than are listed one by one".to_owned(),
            };
        }
        *gathered.refused.entry(request).or_default() += 1;
    }

    /// Writes down what was gathered; where that fails it is gathered on.
    pub(crate) async fn write(&self, database: &Database) -> Result<(), StoreError> {
        let gathered = std::mem::take(&mut *self.0.lock().unwrap_or_else(PoisonError::into_inner));
        if gathered.uses.is_empty() && gathered.refused.is_empty() {
            return Ok(());
        }
        let uses: Vec<KeyUse> = gathered.uses.values().copied().collect();
        let refused: Vec<(RefusedRequest, i64)> = gathered
            .refused
            .iter()
            .map(|(request, n)| (request.clone(), *n))
            .collect();
        let done = keys::note(database, Utc::now(), &uses, &refused).await;
        if done.is_err() {
            let mut since = self.0.lock().unwrap_or_else(PoisonError::into_inner);
            for used in uses {
                let sum = since.uses.entry(used.key).or_insert_with(|| KeyUse {
                    key: used.key,
                    ..KeyUse::default()
                });
                sum.requests += used.requests;
                sum.bytes += used.bytes;
                sum.refused += used.refused;
            }
            for (request, n) in refused.into_iter().take(MAX_GATHERED) {
                *since.refused.entry(request).or_default() += n;
            }
        }
        done
    }
}
