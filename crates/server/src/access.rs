//! Secrets: made here, kept as digests, compared by digest.

use std::fmt;
use std::sync::atomic::{AtomicUsize, Ordering};

use argon2::password_hash::{PasswordHash, PasswordHasher, PasswordVerifier, SaltString};
use base64::Engine;
use outcrop_core::Digest;

/// A random secret: a sender key or a token. Shown once, stored only as its digest.
#[derive(Clone)]
pub struct Secret(String);

impl Secret {
    /// Makes a secret of 32 random bytes; the prefix says what it opens, for people and for scanners of repositories.
    ///
    /// # Panics
    /// When the operating system gives no random bytes.
    #[must_use]
    pub fn random(prefix: &str) -> Self {
        let mut bytes = [0; 32];
        getrandom::fill(&mut bytes).expect("the operating system gives random bytes");
        Self(format!(
            "{prefix}-{}",
            base64::engine::general_purpose::URL_SAFE_NO_PAD.encode(bytes)
        ))
    }

    /// The digest to store.
    #[must_use]
    pub fn digest(&self) -> Digest {
        digest_of(&self.0)
    }

    /// The secret itself, for showing it once.
    #[must_use]
    pub fn expose(&self) -> &str {
        &self.0
    }
}

impl fmt::Debug for Secret {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("Secret(…)")
    }
}

/// Passwords hashed at once: each takes 19 MB and a core for some 30 ms. Those who wait wait; the
/// intake's memory and cores stay its own.
const HASHED_AT_ONCE: usize = 2;

/// Attempts that wait for their turn; more are answered that there are too many, so that waiting
/// ones never fill the memory.
const WAITING: usize = 64;

/// Turns at hashing, and how many wait for one.
struct Hashers {
    turns: tokio::sync::Semaphore,
    waiters: AtomicUsize,
}

static HASHERS: Hashers = Hashers::new();

/// What came of work that hashes passwords.
pub(crate) enum Hashing<T> {
    /// It is done.
    Done(T),
    /// Too many wait already.
    Busy,
    /// It panicked.
    Failed,
}

/// Runs work that hashes passwords on a thread of its own, few at once.
pub(crate) async fn hashing<T: Send + 'static>(work: impl FnOnce() -> T + Send + 'static) -> Hashing<T> {
    HASHERS.run(work).await
}

/// One that waits, until it is dropped.
struct Waiter(&'static AtomicUsize);

impl Drop for Waiter {
    fn drop(&mut self) {
        self.0.fetch_sub(1, Ordering::Relaxed);
    }
}

impl Hashers {
    const fn new() -> Self {
        Self {
            turns: tokio::sync::Semaphore::const_new(HASHED_AT_ONCE),
            waiters: AtomicUsize::new(0),
        }
    }

    async fn run<T: Send + 'static>(&'static self, work: impl FnOnce() -> T + Send + 'static) -> Hashing<T> {
        let place = self.waiters.fetch_add(1, Ordering::Relaxed);
        let waiter = Waiter(&self.waiters);
        if place >= WAITING {
            return Hashing::Busy;
        }
        let Ok(turn) = self.turns.acquire().await else {
            return Hashing::Failed;
        };
        let done = tokio::task::spawn_blocking(move || {
            // The turn ends with the work, also where whoever asked has gone away.
            let _turn = turn;
            work()
        });
        drop(waiter);
        done.await.map_or(Hashing::Failed, Hashing::Done)
    }
}

/// The digest of a secret as somebody presents it.
pub(crate) fn digest_of(presented: &str) -> Digest {
    Digest::of(["outcrop secret", presented])
}

/// The credentials of an `Authorization: Bearer …` header.
pub(crate) fn bearer(header: Option<&actix_web::http::header::HeaderValue>) -> Option<&str> {
    bearer_of(header?.to_str().ok()?)
}

/// The credentials of `Bearer …`.
pub(crate) fn bearer_of(header: &str) -> Option<&str> {
    let (scheme, credentials) = header.trim().split_once(' ')?;
    let credentials = credentials.trim();
    (scheme.eq_ignore_ascii_case("bearer") && !credentials.is_empty()).then_some(credentials)
}

/// Hashes a password with Argon2id (RFC 9106, the crate's default parameters: 19 MiB, 2 passes).
///
/// # Errors
/// The hasher's own error, in words.
///
/// # Panics
/// When the operating system gives no random bytes.
pub fn hash_password(password: &str) -> Result<String, String> {
    let mut salt = [0; 16];
    getrandom::fill(&mut salt).expect("the operating system gives random bytes");
    let salt = SaltString::encode_b64(&salt).map_err(|error| error.to_string())?;
    let hash = argon2::Argon2::default()
        .hash_password(password.as_bytes(), &salt)
        .map_err(|error| error.to_string())?;
    Ok(hash.to_string())
}

/// Shortest password taken, in characters.
pub const MIN_PASSWORD: usize = 10;

/// Checks a password against its hash; without a hash takes as long and says no.
pub(crate) fn verify_password(password: &str, hash: Option<&str>) -> bool {
    // The hash of nobody's password, so that an unknown member is not answered faster.
    const NOBODY: &str =
        "$argon2id$v=19$m=19456,t=2,p=1$c29tZXNhbHRzb21lc2FsdA$QmFja3dhdGVyc0F0SGlnaFRpZGUtTm9ib2R5MDAwMDE";
    let Ok(parsed) = PasswordHash::new(hash.unwrap_or(NOBODY)) else {
        return false;
    };
    argon2::Argon2::default()
        .verify_password(password.as_bytes(), &parsed)
        .is_ok()
        && hash.is_some()
}

#[cfg(test)]
mod hashing_tests {
    use std::sync::Arc;
    use std::sync::atomic::{AtomicUsize, Ordering};

    #[tokio::test]
    async fn a_flood_of_sign_ins_hashes_few_passwords_at_once() {
        // Apart from what other tests hash meanwhile.
        static OURS: super::Hashers = super::Hashers::new();
        let (now, most) = (Arc::new(AtomicUsize::new(0)), Arc::new(AtomicUsize::new(0)));
        let guesses = (0..20).map(|_| {
            let (now, most) = (now.clone(), most.clone());
            OURS.run(move || {
                most.fetch_max(now.fetch_add(1, Ordering::SeqCst) + 1, Ordering::SeqCst);
                std::thread::sleep(std::time::Duration::from_millis(5));
                now.fetch_sub(1, Ordering::SeqCst);
            })
        });
        assert!(
            futures_util::future::join_all(guesses)
                .await
                .iter()
                .all(|guess| matches!(guess, super::Hashing::Done(())))
        );
        assert!(most.load(Ordering::SeqCst) <= super::HASHED_AT_ONCE);
        // None is done before all have come.
        let gate = Arc::new(std::sync::Barrier::new(super::HASHED_AT_ONCE + 1));
        let flood = (0..500).map(|_| {
            let gate = gate.clone();
            OURS.run(move || gate.wait())
        });
        let mut flood = futures_util::future::join_all(flood);
        assert!(futures_util::poll!(&mut flood).is_pending());
        let (opened, of_all) = (gate.clone(), super::WAITING / super::HASHED_AT_ONCE + 1);
        let opening = std::thread::spawn(move || {
            for _ in 0..of_all {
                opened.wait();
            }
        });
        let refused = flood
            .await
            .iter()
            .filter(|guess| matches!(guess, super::Hashing::Busy))
            .count();
        opening.join().unwrap();
        assert!(refused >= 500 - super::WAITING - 2, "{refused} of 500 were refused");
    }
}
