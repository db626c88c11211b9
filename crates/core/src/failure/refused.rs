//! What of a request was not taken as it was sent.

/// Records that could not be used, what was cut of others, and why.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Refused {
    /// How many records were refused.
    pub count: u64,
    /// Why, of the first one; then what was cut of records that were taken. Empty where all was taken as it was sent.
    pub reason: String,
}

/// Longest reason, in bytes: senders write it into their own logs.
const MAX_REASON_BYTES: usize = 1_000;

impl Refused {
    /// Counts records refused; the first reason stays.
    pub fn add(&mut self, count: u64, reason: impl FnOnce() -> String) {
        if count > 0 && self.count == 0 {
            let warning = std::mem::replace(&mut self.reason, reason());
            self.warn(&warning);
        }
        self.count += count;
    }

    /// Says what was cut of records that are taken. The same warning is said once.
    pub fn warn(&mut self, warning: &str) {
        let is_said = self.reason.split("; ").any(|said| said == warning);
        if warning.is_empty() || is_said || self.reason.len() + warning.len() > MAX_REASON_BYTES {
            return;
        }
        if !self.reason.is_empty() {
            self.reason.push_str("; ");
        }
        self.reason.push_str(warning);
    }

    /// Adds what another part of the same request was refused.
    pub fn join(&mut self, other: Self) {
        if other.count > 0 {
            self.add(other.count, || other.reason);
        } else {
            self.warn(&other.reason);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_reason_for_a_refusal_stands_first_and_warnings_follow_once() {
        let mut refused = Refused::default();
        refused.warn("links past 128 of a span are left out");
        refused.warn("links past 128 of a span are left out");
        refused.add(2, || "spans older than the retention are not taken".to_owned());
        refused.add(1, || "another reason".to_owned());
        refused.join(Refused {
            count: 0,
            reason: "events past 128 of a span are left out".to_owned(),
        });
        let reason = "spans older than the retention are not taken; links past 128 of a span are left out; events \
            past 128 of a span are left out";
        assert_eq!(
            refused,
            Refused {
                count: 3,
                reason: reason.to_owned()
            }
        );
    }

    #[test]
    fn a_reason_has_an_end() {
        let mut refused = Refused::default();
        (0..1_000).for_each(|at| refused.warn(&format!("warning {at}")));
        assert!(refused.reason.len() <= MAX_REASON_BYTES);
    }
}
