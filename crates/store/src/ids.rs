//! Identifiers as the database has them, and as the core has them.

use outcrop_core::failure::OccurrenceId;
use outcrop_core::{Digest, Reference};
use uuid::Uuid;

pub(crate) const OTHER_VERSIONS: &str = "(other versions)";

pub(crate) const fn uuid(digest: Digest) -> Uuid {
    Uuid::from_bytes(digest.0)
}

/// The hash by which a template of log lines is stored.
pub(crate) fn template_hash(template: &str) -> Uuid {
    uuid(Digest::of([template]))
}

pub(crate) const fn id_uuid(id: OccurrenceId) -> Uuid {
    Uuid::from_bytes(id.0)
}

/// A 64-bit hash in the form PostgreSQL has: signed. 0 means none.
pub(crate) fn signed(hash: u64) -> Option<i64> {
    (hash != 0).then(|| i64::from_ne_bytes(hash.to_ne_bytes()))
}

/// Returns the number that an error has in the database: the bits of its reference's number, signed.
#[must_use]
pub fn number(reference: Reference) -> i32 {
    i32::from_ne_bytes(reference.number().to_ne_bytes())
}

/// Returns the reference of an error by its number in the database.
#[must_use]
pub fn reference(error: i32) -> Reference {
    Reference::of_number(u32::from_ne_bytes(error.to_ne_bytes()))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_number_and_its_reference_are_each_others_inverse_at_all_ends_of_the_range() {
        for error in [0, 1, -1, i32::MIN, i32::MAX, 4_711] {
            assert_eq!(number(reference(error)), error);
        }
    }

    #[test]
    fn a_hash_keeps_its_bits_and_none_is_none() {
        assert_eq!((signed(0), signed(1), signed(u64::MAX)), (None, Some(1), Some(-1)));
    }
}
