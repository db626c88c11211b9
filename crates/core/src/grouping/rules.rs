//! What people have said of how a service's occurrences are grouped: which code is its own, what
//! belongs together, what does not.

use std::collections::{HashMap, HashSet};

use super::Grouping;
use crate::query::{Case, Predicate};
use crate::scrub::Scrubbing;
use crate::stack::{Frame, Stack};
use crate::telemetry::{InstanceGroups, facts};
use crate::text::plain;
use crate::{Digest, Hasher};

/// The rules of one service.
#[derive(Clone, Debug, Default)]
pub struct ServiceRules {
    /// Beginnings of files, modules or functions, and whether frames there are the service's own code.
    pub places: Vec<CodePrefix>,
    /// What belongs together, tried in this order.
    pub joins: Vec<Join>,
    /// What is told apart by an attribute.
    pub splits: Vec<Split>,
}

/// Frames whose place begins so are the service's own code, or are not.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct CodePrefix {
    /// The beginning of a file's path, a module or a function; of a path also from any folder on.
    pub prefix: String,
    /// Whether it is the service's own code.
    pub own: bool,
}

/// Occurrences for which a predicate holds are one error.
#[derive(Clone, Debug)]
pub struct Join {
    /// The key they get.
    pub key: Digest,
    /// What holds of them.
    pub predicate: Predicate,
}

/// Occurrences with these keys are told apart by the value of an attribute.
#[derive(Clone, Debug)]
pub struct Split {
    /// The attribute, of the record or its resource.
    pub attribute: String,
    /// The keys of the error that is split.
    pub keys: HashSet<Digest>,
}

/// What is dropped as it comes in: never counted, never kept.
#[derive(Clone, Debug)]
pub struct Drop {
    /// The rule's number, under which it is counted what it dropped.
    pub id: i64,
    /// What it looks at.
    pub what: Dropped,
}

/// What a drop rule looks at.
#[derive(Clone, Debug)]
pub enum Dropped {
    /// Occurrences for which a predicate holds.
    Where(Predicate),
    /// Occurrences with these keys in one service: an error.
    Keys {
        /// The service's namespace.
        namespace: String,
        /// The service.
        service: String,
        /// The keys of the error's causes.
        keys: HashSet<Digest>,
    },
}

/// Rules of all services.
#[derive(Clone, Debug, Default)]
pub struct Rules {
    pub(crate) by_service: HashMap<String, HashMap<String, ServiceRules>>,
    /// What is dropped, tried in this order.
    pub drops: Vec<Drop>,
    /// How what comes in is scrubbed.
    pub scrubbing: Scrubbing,
    /// Which attribute tells instance groups apart.
    pub instance_groups: InstanceGroups,
}

impl Rules {
    /// The rules of a service, to be filled.
    pub fn of_mut(&mut self, namespace: &str, service: &str) -> &mut ServiceRules {
        self.by_service
            .entry(namespace.to_owned())
            .or_default()
            .entry(service.to_owned())
            .or_default()
    }
}

impl Drop {
    pub(crate) fn holds(&self, case: &Case<'_>, grouping: &Grouping) -> bool {
        match &self.what {
            Dropped::Where(predicate) => predicate.holds(case),
            Dropped::Keys {
                namespace,
                service,
                keys,
            } => {
                case.service == service
                    && case.namespace == namespace
                    && (keys.contains(&grouping.key) || keys.contains(&grouping.previous))
            }
        }
    }
}

impl ServiceRules {
    /// Marks the stack's frames as own or library; whether that changed any.
    pub fn mark(&self, stack: &mut Stack<'_>) -> bool {
        if self.places.is_empty() {
            return false;
        }
        let mut changed = false;
        for frame in stack.exceptions.iter_mut().flat_map(|exception| &mut exception.frames) {
            let longest = self
                .places
                .iter()
                .filter(|place| place.holds(frame))
                .max_by_key(|place| place.prefix.len());
            if let Some(place) = longest.filter(|place| place.own != frame.own) {
                frame.own = place.own;
                changed = true;
            }
        }
        changed
    }

    /// The grouping that joins and splits make of another, where one of them applies.
    #[must_use]
    pub fn moved(&self, grouping: &Grouping, case: &Case<'_>) -> Option<Grouping> {
        let joined = self
            .joins
            .iter()
            .find(|join| join.predicate.holds(case))
            .map(|join| join.key);
        let key = joined.unwrap_or(grouping.key);
        let split = self
            .splits
            .iter()
            .filter(|split| split.keys.contains(&key))
            .find_map(|split| {
                let value = facts::value(case.attributes, &split.attribute)
                    .or_else(|| facts::value(case.resource, &split.attribute))?;
                Some((&split.attribute, plain(value)))
            });
        let Some((attribute, value)) = split else {
            return joined.map(|key| Grouping {
                key,
                previous: key,
                by_rule: true,
                ..grouping.clone()
            });
        };
        Some(Grouping {
            key: split_key(key, attribute, &value),
            previous: split_key(joined.unwrap_or(grouping.previous), attribute, &value),
            by_rule: true,
            title: split_title(&grouping.title, attribute, &value),
            ..grouping.clone()
        })
    }
}

impl CodePrefix {
    fn holds(&self, frame: &Frame<'_>) -> bool {
        let in_path = |path: &str| {
            begins(path, &self.prefix)
                || path
                    .match_indices(['/', '\\'])
                    .any(|(at, _)| path.get(at + 1..).is_some_and(|rest| begins(rest, &self.prefix)))
        };
        in_path(&frame.file) || begins(&frame.module, &self.prefix) || begins(&frame.function, &self.prefix)
    }
}

/// Whether a name begins with a prefix and the prefix ends where a part of the name does.
fn begins(name: &str, prefix: &str) -> bool {
    let is_of_word = |c: char| c.is_alphanumeric() || c == '_';
    !prefix.is_empty()
        && name
            .strip_prefix(prefix)
            .is_some_and(|rest| !prefix.ends_with(is_of_word) || !rest.starts_with(is_of_word))
}

/// The key of a join: of its rule's number.
#[must_use]
pub fn join_key(rule: i64) -> Digest {
    Hasher::default()
        .part(b"joined by people")
        .number(rule.unsigned_abs())
        .finish()
}

/// The key of a part of a split error.
#[must_use]
pub fn split_key(key: Digest, attribute: &str, value: &str) -> Digest {
    Hasher::default()
        .part(b"split by people")
        .part(&key.0)
        .part(attribute.as_bytes())
        .part(value.as_bytes())
        .finish()
}

/// The title of a part of a split error.
#[must_use]
pub fn split_title(title: &str, attribute: &str, value: &str) -> String {
    format!("{title} ({attribute} = {})", crate::text::prefix(value, 60))
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("vendor/tariffs", "/srv/fares/vendor/tariffs/rate.py", "", true)]
    #[case("vendor/tariffs", "/srv/fares/vendor/tariffs2/rate.py", "", false)]
    #[case("/srv/fares", "/srv/fares/app.py", "", true)]
    #[case("srv/fares/", "/srv/fares/app.py", "", true)]
    #[case("example.skerry", "Tariff.java", "example.skerry.fares.Tariff", true)]
    #[case("example.skerry", "Tariff.java", "example.skerryline.Tariff", false)]
    #[case("C:\\fares", "C:\\fares\\Tariff.cs", "", true)]
    fn a_place_is_found_by_its_beginning(
        #[case] prefix: &str,
        #[case] file: &str,
        #[case] module: &str,
        #[case] expected: bool,
    ) {
        let frame = Frame {
            file: file.into(),
            module: module.into(),
            ..Frame::default()
        };
        assert_eq!(
            CodePrefix {
                prefix: prefix.to_owned(),
                own: true
            }
            .holds(&frame),
            expected
        );
    }

    #[test]
    fn the_longest_beginning_decides() {
        let text = "Traceback (most recent call last):\n  File \"/srv/fares/vendor/rates/a.py\", line 1, in rate\n    \
            x\n  File \"/srv/fares/app.py\", line 2, in quote\n    y\nKeyError: 'a'";
        let mut stack = crate::stack::read(text).unwrap();
        let place = |prefix: &str, own| CodePrefix {
            prefix: prefix.to_owned(),
            own,
        };
        let rules = ServiceRules {
            places: vec![
                place("/srv/fares", false),
                place("vendor", true),
                place("/srv/fares/vendor/rates", false),
                place("app.py", true),
            ],
            ..ServiceRules::default()
        };
        assert!(rules.mark(&mut stack));
        let own: Vec<_> = stack.exceptions[0]
            .frames
            .iter()
            .map(|frame| (frame.function.as_ref(), frame.own))
            .collect();
        assert_eq!(own, [("quote", false), ("rate", false)]);
        assert!(!rules.mark(&mut stack));
    }
}
