//! Stacks as they are stored.

use outcrop_core::stack::Stack;

/// Stored frames, read.
pub(crate) fn unpack_stack(frames: &[u8]) -> Option<Stack<'static>> {
    serde_json::from_slice(frames).ok()
}
