//! Sender keys, looked up once and remembered for a moment.

use std::collections::HashMap;
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

use outcrop_core::Digest;
use outcrop_store::{Database, StoreError, access};

/// How long a looked-up key is trusted: a revoked key is refused everywhere within this time.
const TRUSTED: Duration = Duration::from_secs(2);
/// Keys remembered, known and unknown; forgotten all at once past this, so that guessing fills no memory.
const MAX_REMEMBERED: usize = 10_000;

/// What a presented key is.
#[derive(Clone, Debug)]
pub(crate) enum KeyCheck {
    /// Known; it may write for these services, or for all where the list is empty.
    Known { digest: Digest, services: Arc<[String]> },
    /// Unknown or revoked.
    Unknown,
}

type Remembered = HashMap<Digest, (Instant, Option<Arc<[String]>>)>;

#[derive(Clone, Default)]
pub(crate) struct Keys {
    remembered: Arc<Mutex<Remembered>>,
}

impl Keys {
    /// Says what a presented key is.
    pub(crate) async fn check(&self, database: &Database, digest: Digest) -> Result<KeyCheck, StoreError> {
        let remembered = {
            let remembered = self.remembered.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
            remembered.get(&digest).filter(|(at, _)| at.elapsed() < TRUSTED).map(|(_, services)| services.clone())
        };
        let services = if let Some(services) = remembered {
            services
        } else {
            let services: Option<Arc<[String]>> = access::key_of_secret(database, digest).await?.map(|key| key.services.into());
            let mut remembered = self.remembered.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
            if remembered.len() >= MAX_REMEMBERED {
                remembered.clear();
            }
            remembered.insert(digest, (Instant::now(), services.clone()));
            services
        };
        Ok(services.map_or(KeyCheck::Unknown, |services| KeyCheck::Known { digest, services }))
    }
}
