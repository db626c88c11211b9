//! Senders' clocks, and what is done about those that are ahead.

use super::find::Limits;
use crate::Timestamp;

/// A request whose newest time lies further in the future than this is shifted, in milliseconds: a sender's clock may
/// be a minute off without anybody noticing.
const MAX_AHEAD_MS: i64 = 60_000;
/// Corrects times that lie too far in the future by moving the whole request.
#[derive(Clone, Copy)]
pub(super) struct Clock {
    pub(super) ahead_ms: i64,
    received: Timestamp,
}

impl Clock {
    pub(super) fn new(newest: Option<Timestamp>, limits: Limits<'_>) -> Self {
        let ahead = newest.map_or(0, |newest| newest.millis().saturating_sub(limits.received.millis()));
        Self { ahead_ms: if ahead > MAX_AHEAD_MS { ahead } else { 0 }, received: limits.received }
    }

    pub(super) fn time(self, sent: Option<Timestamp>) -> Timestamp {
        sent.map_or(self.received, |sent| sent.plus_millis(-self.ahead_ms))
    }
}
