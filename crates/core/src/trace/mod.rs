//! Whole requests over all services: the tree of spans, what decided how long it took, where it began to fail.

mod chunk;
mod critical;
mod lead_up;
mod origin;
mod repeated;
mod tree;

pub use chunk::{BrokenChunk, Chunk, StoredEvent, StoredLink, StoredSpan};
pub use critical::{PathStep, Share, critical_path, main_share, sentence};
pub use lead_up::{LineSeen, Step, StepKind, what_led_to};
pub use origin::{failing_call, origin_of, origin_of_report};
pub use repeated::{Repeated, repeated};
pub use tree::{Trace, TraceSpan};

/// Nanoseconds in words for people: `1.9 s`, `12 ms`, `340 µs`.
///
/// # Example
/// ```
/// assert_eq!(outcrop_core::trace::in_words(1_904_000_000), "1.9 s");
/// assert_eq!(outcrop_core::trace::in_words(12_400_000), "12 ms");
/// assert_eq!(outcrop_core::trace::in_words(4_460_000), "4.5 ms");
/// ```
#[must_use]
#[expect(clippy::cast_precision_loss, reason = "shown with two digits")]
pub fn in_words(nanos: i64) -> String {
    let nanos = nanos.max(0) as f64;
    let (value, unit) = if nanos >= 60e9 {
        (nanos / 60e9, "min")
    } else if nanos >= 1e9 {
        (nanos / 1e9, "s")
    } else if nanos >= 1e6 {
        (nanos / 1e6, "ms")
    } else {
        (nanos / 1e3, "µs")
    };
    if value >= 9.95 || value == 0.0 {
        format!("{value:.0} {unit}")
    } else {
        format!("{value:.1} {unit}")
    }
}
