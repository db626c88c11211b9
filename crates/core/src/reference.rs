//! Speakable references of errors.

use std::fmt;
use std::str::FromStr;

use serde::{Deserialize, Serialize};

/// An error's reference such as `kobal-tirun`: its number, permuted so that neighbours look unlike each other, spelled
/// as a proquint of 32 bits (Wilkerson, "A Proposal for Proquints", arXiv:0901.4016).
///
/// The permutation is a bijection, so references never collide.
///
/// # Example: a reference and its number
/// ```
/// use outcrop_core::Reference;
/// let reference = Reference::of_number(1);
/// assert_eq!(reference.to_string().parse(), Ok(reference));
/// assert_eq!(reference.number(), 1);
/// ```
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(into = "String", try_from = "String")]
pub struct Reference(u32);

/// The text is no reference.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("`{0}` is no reference; one is two five-letter words such as kobal-tirun")]
pub struct NotAReference(String);

const CONSONANTS: &[u8; 16] = b"bdfghjklmnprstvz";
const VOWELS: &[u8; 4] = b"aiou";
/// Round keys of the permutation. Changing them renames every error ever spoken of: never.
const ROUND_KEYS: [u32; 4] = [0x9e37_79b9, 0x7f4a_7c15, 0x85eb_ca6b, 0xc2b2_ae35];

impl Reference {
    /// The reference of an error's number.
    #[must_use]
    pub fn of_number(number: u32) -> Self {
        let (left, right) = ROUND_KEYS
            .iter()
            .fold(halves(number), |(l, r), key| (r, l ^ round(r, *key)));
        Self(join(left, right))
    }

    /// The number behind the reference.
    #[must_use]
    pub fn number(self) -> u32 {
        let (left, right) = ROUND_KEYS
            .iter()
            .rev()
            .fold(halves(self.0), |(l, r), key| (r ^ round(l, *key), l));
        join(left, right)
    }
}

const fn halves(word: u32) -> (u16, u16) {
    let [a, b, c, d] = word.to_be_bytes();
    (u16::from_be_bytes([a, b]), u16::from_be_bytes([c, d]))
}

fn join(left: u16, right: u16) -> u32 {
    u32::from(left) << 16 | u32::from(right)
}

/// One round of a Feistel network (Luby and Rackoff 1988): any function will do for a bijection.
fn round(half: u16, key: u32) -> u16 {
    let mixed = (u32::from(half) ^ key).wrapping_mul(0x045d_9f3b);
    halves(mixed ^ (mixed >> 15)).0
}

impl fmt::Display for Reference {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let (left, right) = halves(self.0);
        let word = |half: u16| -> String {
            [(12, 4), (10, 2), (6, 4), (4, 2), (0, 4)]
                .into_iter()
                .map(|(shift, bits)| {
                    let index = usize::from(half >> shift) & ((1 << bits) - 1);
                    char::from(if bits == 4 { CONSONANTS[index] } else { VOWELS[index] })
                })
                .collect()
        };
        write!(f, "{}-{}", word(left), word(right))
    }
}

impl FromStr for Reference {
    type Err = NotAReference;

    fn from_str(text: &str) -> Result<Self, NotAReference> {
        let refused = || NotAReference(crate::text::prefix(text, 40).to_owned());
        let spelled = text.trim().to_ascii_lowercase();
        let (left, right) = spelled.split_once('-').ok_or_else(refused)?;
        let word = |word: &str| -> Option<u16> {
            let letters: [u8; 5] = word.as_bytes().try_into().ok()?;
            letters.iter().enumerate().try_fold(0, |sum: u16, (at, letter)| {
                let (alphabet, bits): (&[u8], u16) = if at % 2 == 0 { (CONSONANTS, 4) } else { (VOWELS, 2) };
                let index = alphabet.iter().position(|known| known == letter)?;
                Some(sum << bits | u16::try_from(index).ok()?)
            })
        };
        match (word(left), word(right)) {
            (Some(left), Some(right)) => Ok(Self(join(left, right))),
            _ => Err(refused()),
        }
    }
}

impl From<Reference> for String {
    fn from(reference: Reference) -> Self {
        reference.to_string()
    }
}

impl TryFrom<String> for Reference {
    type Error = NotAReference;

    fn try_from(text: String) -> Result<Self, NotAReference> {
        text.parse()
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn every_number_has_its_own_spelling(number: u32) {
            let reference = Reference::of_number(number);
            prop_assert_eq!(reference.number(), number);
            prop_assert_eq!(reference.to_string().parse(), Ok(reference));
        }

        #[test]
        fn no_text_breaks_the_reader(text in ".{0,40}") {
            if let Ok(reference) = text.parse::<Reference>() {
                prop_assert_eq!(reference.to_string(), text.trim().to_ascii_lowercase());
            }
        }
    }

    #[test]
    fn references_of_the_first_errors_never_change() {
        let spelled: Vec<String> = (1..=3).map(|n| Reference::of_number(n).to_string()).collect();
        insta::assert_snapshot!(spelled.join(" "), @"dadif-falog tirif-rugug kosas-tavin");
    }
}
