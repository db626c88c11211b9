//! The clock, read at the edges only.

use outcrop_core::Timestamp;

pub(crate) fn now() -> Timestamp {
    outcrop_store::from_utc(chrono::Utc::now())
}
