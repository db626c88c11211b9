//! Digests of 16 bytes, and the hasher that makes them.

use std::fmt;

use serde::{Deserialize, Serialize};

/// A 128-bit content hash: the first 16 bytes of BLAKE3.
///
/// Senders choose the hashed text, so a hash that resists chosen collisions is used, not a faster one.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Default, Serialize, Deserialize)]
pub struct Digest(pub [u8; 16]);

impl Digest {
    /// Hashes the parts as a list: `["ab", "c"]` and `["a", "bc"]` differ.
    #[must_use]
    pub fn of<'a>(parts: impl IntoIterator<Item = &'a str>) -> Self {
        let mut hasher = Hasher::default();
        for part in parts {
            hasher.part(part.as_bytes());
        }
        hasher.finish()
    }

    /// Hashes raw bytes.
    #[must_use]
    pub fn of_bytes(bytes: &[u8]) -> Self {
        Self(first_half(blake3::hash(bytes)))
    }

    /// Returns the first eight bytes as a number, for places where 64 bits are enough.
    #[must_use]
    pub fn short(self) -> u64 {
        let mut half = [0; 8];
        half.copy_from_slice(&self.0[..8]);
        u64::from_be_bytes(half)
    }
}

impl fmt::Debug for Digest {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{self}")
    }
}

impl fmt::Display for Digest {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.0.iter().try_for_each(|byte| write!(f, "{byte:02x}"))
    }
}

/// Builds a [`Digest`] from parts whose borders count.
#[derive(Default)]
pub struct Hasher(blake3::Hasher);

impl Hasher {
    /// Adds one part with its length in front.
    pub fn part(&mut self, bytes: &[u8]) -> &mut Self {
        self.0.update(&(bytes.len() as u64).to_le_bytes());
        self.0.update(bytes);
        self
    }

    /// Adds one part that is in pieces: the same as if they were put together first.
    pub fn part_of(&mut self, pieces: &[&str]) -> &mut Self {
        self.0
            .update(&(pieces.iter().map(|piece| piece.len()).sum::<usize>() as u64).to_le_bytes());
        for piece in pieces {
            self.0.update(piece.as_bytes());
        }
        self
    }

    /// Adds a number.
    pub fn number(&mut self, number: u64) -> &mut Self {
        self.0.update(&number.to_le_bytes());
        self
    }

    /// Returns the hash of all parts added so far.
    #[must_use]
    pub fn finish(&self) -> Digest {
        Digest(first_half(self.0.finalize()))
    }
}

fn first_half(hash: blake3::Hash) -> [u8; 16] {
    let mut half = [0; 16];
    half.copy_from_slice(&hash.as_bytes()[..16]);
    half
}
