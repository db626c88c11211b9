//! The versions that a deploy brought.

/// The version that a deploy brought, and those that came after it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Versions {
    pub first: u32,
    /// Whether those that came after it are among them: not where it was put back.
    pub later: bool,
}

impl Versions {
    pub fn has(self, version: u32) -> bool {
        version == self.first || (self.later && version > self.first)
    }
}
