//! From a sender's body to a committed batch, whichever protocol brought it.

use std::sync::Arc;

use bytes::Bytes;
use outcrop_core::Digest;
use outcrop_core::failure::Refused;
use outcrop_otlp::{DecodeError, Encoding, Signal, StatusCode as RpcCode};
use outcrop_store::intake::{Outcome, Submission};
use outcrop_store::keys::SenderKey;

use super::{BodyError, Coding, Held, Origin, inflate, submission};
use crate::access::digest_of;
use crate::state::{State, now};

/// Why a request is not taken.
#[derive(Debug, thiserror::Error)]
pub(crate) enum Refusal {
    #[error("send a sender key: Authorization: Bearer …; `outcrop admin key create NAME` makes one")]
    NoKey,
    #[error("this sender key is not known, or was revoked")]
    UnknownKey,
    #[error("Content-Type must be application/x-protobuf or application/json")]
    ContentType,
    #[error("Content-Encoding `{0}` is not known; send gzip, zstd, deflate or none")]
    ContentEncoding(String),
    #[error(transparent)]
    Body(#[from] BodyError),
    #[error(transparent)]
    Decode(#[from] DecodeError),
    #[error("{0}")]
    Unusable(String),
    #[error("this key has sent what it may send a minute; there is room again in {0} s")]
    Quota(u64),
    #[error("not stored: the database does not answer; send it again")]
    Away,
}

/// How long a sender is told to wait before it tries again where the service is behind, in seconds.
const RETRY_AFTER_SECS: u64 = 2;

impl Refusal {
    /// The code of `google.rpc.Status`.
    pub(crate) const fn rpc_code(&self) -> RpcCode {
        match self {
            Self::NoKey | Self::UnknownKey => RpcCode::Unauthenticated,
            Self::Body(BodyError::TooLarge(_) | BodyError::InflatesTooFar(_)) | Self::Quota(_) => RpcCode::ResourceExhausted,
            Self::Body(BodyError::OverBudget) | Self::Away => RpcCode::Unavailable,
            Self::ContentType | Self::ContentEncoding(_) | Self::Body(_) | Self::Decode(_) | Self::Unusable(_) => RpcCode::InvalidArgument,
        }
    }

    /// After how many seconds the same may be taken, where it may be.
    pub(crate) const fn retry_after(&self) -> Option<u64> {
        match self {
            Self::Body(BodyError::OverBudget) | Self::Away => Some(RETRY_AFTER_SECS),
            Self::Quota(seconds) => Some(*seconds),
            _ => None,
        }
    }
}

/// A sender whose key is known.
#[derive(Clone)]
pub(crate) struct Sender {
    /// The digest of the secret that was sent.
    pub digest: Digest,
    key: Arc<SenderKey>,
}

/// Notes what became of a request, for those who look why nothing arrives.
pub(crate) fn note<T>(state: &State, origin: &Origin, sender: Option<&Sender>, bytes: usize, outcome: &Result<T, Refusal>) {
    let key = sender.map(|sender| &*sender.key);
    match (outcome, key) {
        (Ok(_), Some(key)) => state.intake.notes.taken(key, bytes),
        (Ok(_), None) => {}
        (Err(refusal), _) => state.intake.notes.refused(key, origin, &refusal.to_string(), chrono::Utc::now()),
    }
}

/// Checks the credentials of an `Authorization: Bearer …` header.
pub(crate) async fn authenticate(state: &State, credentials: Option<&str>) -> Result<Sender, Refusal> {
    let digest = credentials.map(digest_of).ok_or(Refusal::NoKey)?;
    let (keys, database) = (state.intake.keys.clone(), state.database.clone());
    let checked = state.on_main(async move { keys.check(&database, digest).await }).await.map_err(|error| {
        tracing::warn!(%error, "a sender key could not be checked");
        Refusal::Away
    })?;
    checked.map(|key| Sender { digest, key }).ok_or(Refusal::UnknownKey)
}

/// Decodes, searches and stores a body; returns once it is durable.
pub(crate) async fn take(
    signal: Signal,
    encoding: Encoding,
    coding: Coding,
    body: Bytes,
    mut held: Held,
    sender: Sender,
    state: &State,
) -> Result<Refused, Refusal> {
    let max_inflated = state.settings.max_inflated_bytes;
    let received = now();
    let rules = state.intake.rules();
    let core = state.intake.cores.acquire().await.ok().ok_or(Refusal::Away)?;
    let keys = state.intake.keys.clone();
    let digest = sender.digest;
    let work = move || -> Result<(Submission, usize), Refusal> {
        let bounds = &sender.key.bounds;
        if coding == Coding::Identity {
            keys.spend(&sender.key, body.len()).map_err(Refusal::Quota)?;
            return Ok((submission(signal, encoding, &body, bounds, received, &rules)?, 0));
        }
        let inflated = inflate(&body, coding, max_inflated)?;
        keys.spend(&sender.key, inflated.len()).map_err(Refusal::Quota)?;
        Ok((submission(signal, encoding, &inflated, bounds, received, &rules)?, inflated.len()))
    };
    let (submission, inflated) =
        tokio::task::spawn_blocking(work).await.ok().ok_or_else(|| Refusal::Unusable("the body cannot be read".to_owned()))??;
    drop(core);
    if signal == Signal::Metrics && submission.found.instances.is_empty() {
        // Nothing of it is kept: nothing waits for the database.
        return Ok(submission.found.refused.clone());
    }
    if inflated > 0 {
        held.join(state.intake.budget.take(digest, inflated).await?);
    }
    match state.intake.store(submission, held).await {
        Some(Ok(Outcome::Stored(refused))) => Ok(refused),
        Some(Ok(Outcome::Unusable(reason))) => Err(Refusal::Unusable(reason)),
        Some(Err(_)) | None => Err(Refusal::Away),
    }
}
