//! From a sender's body to a committed batch, whichever protocol brought it.

use std::sync::Arc;
use std::time::Instant;

use bytes::Bytes;
use outcrop_core::Digest;
use outcrop_core::failure::Refused;
use outcrop_otlp::{DecodeError, Encoding, Room, Signal, StatusCode as RpcCode};
use outcrop_store::people::keys::SenderKey;
use outcrop_store::writing::{Outcome, Submission};

use crate::access::digest_of;
use crate::clock::now;
use crate::intake::{BodyError, Coding, Held, NoRoom, Origin, Reading, inflate, submission};
use crate::meters::{Received, Records};
use crate::state::State;

/// Why a request is not taken.
#[derive(Debug, thiserror::Error)]
pub(crate) enum Refusal {
    #[error("send a sender key in the header Authorization, as Bearer KEY; `outcrop admin key create NAME` makes one")]
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
    #[error("not stored: {0}")]
    NoRoom(String),
    #[error("not stored: the database does not answer; send it again")]
    Away,
}

/// How long a sender is told to wait where there is no room: somebody must make some, in seconds.
const NO_ROOM_SECS: u64 = 30;
/// How long a sender is told to wait before it tries again where the service is behind, in seconds.
const RETRY_AFTER_SECS: u64 = 2;

impl Refusal {
    /// The code of `google.rpc.Status`.
    pub(crate) const fn rpc_code(&self) -> RpcCode {
        match self {
            Self::NoKey | Self::UnknownKey => RpcCode::Unauthenticated,
            Self::Body(BodyError::TooLarge(_) | BodyError::InflatesTooFar(_) | BodyError::TooHeavy)
            | Self::Quota(_) => RpcCode::ResourceExhausted,
            Self::Body(BodyError::OverBudget | BodyError::TooSlow(_)) | Self::Away | Self::NoRoom(_) => {
                RpcCode::Unavailable
            }
            Self::ContentType | Self::ContentEncoding(_) | Self::Body(_) | Self::Decode(_) | Self::Unusable(_) => {
                RpcCode::InvalidArgument
            }
        }
    }

    /// Why, in a word.
    pub(crate) const fn word(&self) -> &'static str {
        match self {
            Self::NoKey => "no_key",
            Self::UnknownKey => "unknown_key",
            Self::ContentType => "content_type",
            Self::ContentEncoding(_) => "content_encoding",
            Self::Body(BodyError::TooLarge(_) | BodyError::InflatesTooFar(_) | BodyError::TooHeavy) => "too_large",
            Self::Body(BodyError::OverBudget) => "over_budget",
            Self::Body(BodyError::TooSlow(_)) => "too_slow",
            Self::Body(_) | Self::Decode(_) => "unreadable",
            Self::Unusable(_) => "unusable",
            Self::Quota(_) => "quota",
            Self::NoRoom(_) => "no_room",
            Self::Away => "away",
        }
    }

    /// After how many seconds the same may be taken, where it may be.
    pub(crate) const fn retry_after(&self) -> Option<u64> {
        match self {
            Self::Body(BodyError::OverBudget | BodyError::TooSlow(_)) | Self::Away => Some(RETRY_AFTER_SECS),
            Self::Quota(seconds) => Some(*seconds),
            Self::NoRoom(_) => Some(NO_ROOM_SECS),
            _ => None,
        }
    }
}

/// A sender whose key is known.
#[derive(Clone)]
pub(crate) struct Sender {
    /// The digest of the secret that was sent.
    pub digest: Digest,
    pub(crate) key: Arc<SenderKey>,
}

/// A request as it came.
pub(crate) struct Came {
    /// The signal of OTLP, or `report` where it was reported by hand.
    pub signal: &'static str,
    /// Over gRPC, else over HTTP.
    pub is_grpc: bool,
    /// As it was sent; 0 where nothing of it was read.
    pub bytes: usize,
    pub since: Instant,
}

/// Notes what became of a request, for those who look why nothing arrives.
pub(crate) fn note<T>(
    state: &State,
    origin: &Origin,
    sender: Option<&Sender>,
    came: &Came,
    outcome: &Result<T, Refusal>,
) {
    let (key, bytes) = (sender.map(|sender| &*sender.key), came.bytes);
    state.intake.meters.received(Received {
        signal: came.signal,
        is_grpc: came.is_grpc,
        answer: outcome.as_ref().map_or_else(Refusal::word, |_| "taken"),
        bytes,
        took: came.since.elapsed(),
    });
    match (outcome, key) {
        (Ok(_), Some(key)) => state.intake.notes.taken(key, bytes),
        (Ok(_), None) => {}
        (Err(refusal), _) => state
            .intake
            .notes
            .refused(key, origin, &refusal.to_string(), chrono::Utc::now()),
    }
}

/// Checks the credentials of an `Authorization: Bearer …` header.
pub(crate) async fn authenticate(state: &State, credentials: Option<&str>) -> Result<Sender, Refusal> {
    let digest = credentials.map(digest_of).ok_or(Refusal::NoKey)?;
    let (keys, database) = (state.intake.keys.clone(), state.database.clone());
    let checked = state
        .on_main(async move { keys.check(&database, digest).await })
        .await
        .map_err(|error| {
            tracing::warn!(%error, "a sender key could not be checked");
            Refusal::Away
        })?;
    let sender = checked.map(|key| Sender { digest, key }).ok_or(Refusal::UnknownKey)?;
    state
        .intake
        .closed()
        .map_or(Ok(sender), |why| Err(Refusal::NoRoom(why)))
}

/// How many times its size a coded body may be expected to inflate to, for judging how long it takes to read.
const INFLATES: usize = 6;
/// How many times the size of what is read of a body is taken by what is made of it, until it is
/// committed: chunks, rows, texts of both.
const MADE_OF_IT: usize = 2;

/// A body as it was sent.
pub(crate) struct Body {
    pub signal: Signal,
    pub encoding: Encoding,
    pub coding: Coding,
    pub bytes: Bytes,
    /// The part of the budget that it holds.
    pub held: Held,
}

/// Decodes, searches and stores a body; returns once it is durable.
pub(crate) async fn take(body: Body, sender: Sender, state: &State) -> Result<Refused, Refusal> {
    let Body {
        signal,
        encoding,
        coding,
        bytes: body,
        mut held,
    } = body;
    let max_inflated = state.settings.max_inflated_bytes;
    let received = now();
    let rules = state.intake.rules();
    let expected = if coding == Coding::Identity {
        body.len()
    } else {
        body.len().saturating_mul(INFLATES)
    };
    let turn = state.intake.turn(sender.digest, expected).await;
    let keys = state.intake.keys.clone();
    let key = sender.key.clone();
    // Turn and budget go with the work: where the sender goes away, the work still holds both.
    let work = move || -> Result<(Submission, Held, usize), Refusal> {
        let _turn = turn;
        let inflated;
        let content: &[u8] = if coding == Coding::Identity {
            &body
        } else {
            inflated = inflate(&body, coding, max_inflated, &mut held)?;
            &inflated
        };
        keys.spend(&sender.key, content.len()).map_err(Refusal::Quota)?;
        let mut no_room = NoRoom::Now;
        let mut more = |bytes: usize| match held.grow(MADE_OF_IT * bytes) {
            Ok(()) => true,
            Err(why) => {
                no_room = why;
                false
            }
        };
        let reading = Reading {
            signal,
            encoding,
            received,
            rules: &rules,
        };
        let read = submission(reading, content, &sender.key, &mut Room::new(&mut more));
        if read.is_err() {
            keys.give_back(sender.key.id, content.len());
        }
        match read {
            Ok(submission) => Ok((submission, held, content.len())),
            Err(DecodeError::NoRoom) => Err(BodyError::from(no_room).into()),
            Err(error) => Err(error.into()),
        }
    };
    let (submission, held, bytes) = tokio::task::spawn_blocking(work).await.map_err(|error| {
        tracing::error!(%error, "a body could not be read; its sender is told so");
        Refusal::Unusable("the body cannot be read".to_owned())
    })??;
    if signal == Signal::Metrics && submission.found.points.is_empty() {
        // Nothing of it is kept: nothing waits for the database.
        return Ok(submission.found.refused.clone());
    }
    let found = &submission.found;
    let mut records = Records {
        reports: found.reports.len() + found.counted_only.len(),
        spans: found.spans.len(),
        lines: found.lines.len(),
        points: found.points.len(),
        refused: 0,
    };
    let answer = match state.intake.store(submission, held).await {
        Some(Ok(Outcome::Stored(refused))) => {
            records.refused = refused.count;
            state.intake.meters.found(records);
            return Ok(refused);
        }
        Some(Ok(Outcome::Unusable(reason))) => Refusal::Unusable(reason),
        Some(Err(_)) | None => Refusal::Away,
    };
    state.intake.keys.give_back(key.id, bytes);
    Err(answer)
}

#[cfg(test)]
mod tests {
    use std::time::Duration;

    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::no_key(Refusal::NoKey, RpcCode::Unauthenticated, None)]
    #[case::too_large(Refusal::Body(BodyError::TooLarge(1)), RpcCode::ResourceExhausted, None)]
    #[case::inflates_too_far(Refusal::Body(BodyError::InflatesTooFar(1)), RpcCode::ResourceExhausted, None)]
    #[case::holds_too_much(Refusal::Body(BodyError::TooHeavy), RpcCode::ResourceExhausted, None)]
    #[case::over_the_budget(Refusal::Body(BodyError::OverBudget), RpcCode::Unavailable, Some(2))]
    #[case::too_slow(
        Refusal::Body(BodyError::TooSlow(Duration::from_secs(30))),
        RpcCode::Unavailable,
        Some(2)
    )]
    #[case::over_the_quota(Refusal::Quota(7), RpcCode::ResourceExhausted, Some(7))]
    #[case::no_room(Refusal::NoRoom("full".to_owned()), RpcCode::Unavailable, Some(30))]
    #[case::away(Refusal::Away, RpcCode::Unavailable, Some(2))]
    #[case::unusable(Refusal::Unusable("no".to_owned()), RpcCode::InvalidArgument, None)]
    fn what_may_be_sent_again_says_when_and_what_may_not_is_final(
        #[case] refusal: Refusal,
        #[case] code: RpcCode,
        #[case] retry_after: Option<u64>,
    ) {
        assert_eq!((refusal.rpc_code(), refusal.retry_after()), (code, retry_after));
    }
}
