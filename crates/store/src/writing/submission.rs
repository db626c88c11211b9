//! What is written: requests, decoded and searched; and what became of them.

use std::sync::Arc;

use outcrop_core::failure::{Found, Refused};
use outcrop_core::{Digest, Timestamp};

/// How the exact data sent is written down: given by the caller, since encodings are not this crate's business.
pub type Renderer = fn(&outcrop_core::failure::Report) -> String;

/// One request, decoded and searched.
#[derive(Clone, Debug)]
pub struct Submission {
    /// Digest of sender key, signal and inflated body: the same body again is the same submission.
    pub receipt: Digest,
    /// The number of the sender key.
    pub key: i32,
    /// When it was received.
    pub received: Timestamp,
    /// What it holds.
    pub found: Arc<Found>,
}

impl Submission {
    /// The digest under which a body is receipted. It knows the key: what one key may not write, another may.
    #[must_use]
    pub fn receipt_of(key: i32, signal: &str, body: &[u8]) -> Digest {
        outcrop_core::Hasher::default()
            .number(key.unsigned_abs().into())
            .part(signal.as_bytes())
            .part(body)
            .finish()
    }
}

/// What became of one request.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Outcome {
    /// It is stored, now or by an earlier try; some records may have been refused.
    Stored(Refused),
    /// The database refuses its data: sending it again will not help.
    Unusable(String),
}
