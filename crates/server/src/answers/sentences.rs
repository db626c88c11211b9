//! The sentence of a deploy's answer.

use chrono::{DateTime, Utc};
use outcrop_api::{EndpointChange, FlagItem, StoppedError};
use outcrop_core::deploy::KNOWN_MINUTES;
use outcrop_store::deploys::Deploy;

/// The error rates of the answer, as the model has them.
pub(super) fn rates(is_flagged: bool, needs: i64) -> String {
    let wrong = "A harmless deploy is flagged by its requests in fewer than 1 of 100, by an error in about 1 of 100";
    let harm = "a doubling of the failure share, or a 95th percentile half as long again,";
    match needs {
        _ if is_flagged => format!("{wrong}."),
        1.. => format!("{wrong}. With so few requests {harm} could be missed in more than 1 of 20."),
        _ => format!("{wrong}; at this traffic {harm} is missed in fewer than 1 of 20."),
    }
}

/// What the sentence of an answer is made of.
pub(super) struct Said<'a> {
    pub(super) flags: &'a [FlagItem],
    pub(super) failing: &'a [EndpointChange],
    pub(super) slower: &'a [EndpointChange],
    pub(super) first_seen: &'a [StoppedError],
    pub(super) before: (i64, i64),
    pub(super) after: (i64, i64),
    pub(super) minutes: i64,
}

impl Said<'_> {
    pub(super) fn share((requests, failed): (i64, i64)) -> String {
        outcrop_core::attention::percent(ratio(failed, requests))
    }

    pub(super) fn failed(&self) -> String {
        format!(
            "{} of {} requests failed ({} before)",
            Self::share(self.after),
            grouped(self.after.0.unsigned_abs()),
            Self::share(self.before)
        )
    }

    pub(super) fn harm(&self, fails_as_a_whole: bool) -> String {
        let count = |kind: &str| self.flags.iter().filter(|flag| flag.flag == kind).count();
        let kinds: Vec<String> = ["new", "surging", "returned"]
            .into_iter()
            .filter(|kind| count(kind) > 0)
            .map(|kind| {
                format!(
                    "{} {kind} {}",
                    count(kind),
                    if count(kind) == 1 { "error" } else { "errors" }
                )
            })
            .collect();
        let errors = kinds.join(", ");
        let mut parts = vec![];
        if !kinds.is_empty() {
            parts.push(errors);
        }
        if !self.failing.is_empty() {
            parts.push(format!("{} more", endpoints_do(self.failing.len(), "fails", "fail")));
        }
        if !self.slower.is_empty() {
            parts.push(format!("{} slower", endpoints_do(self.slower.len(), "is", "are")));
        }
        if fails_as_a_whole {
            parts.push(self.failed());
        }
        format!("{} since this deploy.", parts.join("; "))
    }

    pub(super) fn first_seen(&self) -> String {
        match self.first_seen.len() {
            0 => String::new(),
            1 => " Meanwhile 1 error was first seen in this version.".to_owned(),
            n => format!(" Meanwhile {n} errors were first seen in this version."),
        }
    }

    pub(super) fn unknown(&self, deploy: &Deploy, since: Option<DateTime<Utc>>, minutes: i64) -> String {
        let known = since.map_or_else(
            || format!("{} has sent nothing from {} yet", deploy.service, deploy.environment),
            |since| {
                format!(
                    "{} is known in {} since {} UTC ({minutes} min)",
                    deploy.service,
                    deploy.environment,
                    since.format("%H:%M")
                )
            },
        );
        format!(
            "{known}; what is new there can be told after {KNOWN_MINUTES} min.{}",
            self.first_seen()
        )
    }

    pub(super) fn too_few(&self, needs: u64, before: u64, is_over: bool) -> String {
        if before == 0 {
            return format!(
                "nothing ran here in the day before, so there is nothing to compare with.{}",
                self.first_seen()
            );
        }
        let until = if is_over { "until it ended" } else { "so far" };
        format!(
            "no harm {until} in {} requests; {} more are needed before a doubling of the failure share or a p95 half \
             as long again would show.{}",
            grouped(self.after.0.unsigned_abs()),
            grouped(needs),
            self.first_seen()
        )
    }

    pub(super) fn clear(&self, has_requests: bool) -> String {
        let first_seen = self.first_seen().replace(" Meanwhile", " While its place was young");
        if has_requests {
            format!(
                "nothing new, surging or back, no endpoint that fails more or is slower; {}.{first_seen}",
                self.failed()
            )
        } else {
            let minutes = self.minutes;
            format!(
                "nothing new, surging or back in {minutes} min; it reports no requests, so its errors alone were \
                 judged.{first_seen}"
            )
        }
    }
}

/// A number with its thousands apart.
pub(super) fn grouped(number: u64) -> String {
    let digits = number.to_string();
    let parts: Vec<&str> = digits
        .as_bytes()
        .rchunks(3)
        .rev()
        .filter_map(|part| std::str::from_utf8(part).ok())
        .collect();
    parts.join(",")
}

pub(super) fn endpoints_do(n: usize, one: &str, many: &str) -> String {
    if n == 1 {
        format!("1 endpoint {one}")
    } else {
        format!("{n} endpoints {many}")
    }
}

/// A part of all, 0 where there is none.
#[must_use]
#[expect(clippy::cast_precision_loss, reason = "a share of requests")]
pub fn ratio(part: i64, all: i64) -> f64 {
    if all == 0 { 0.0 } else { part as f64 / all as f64 }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn error(reference: &str) -> StoppedError {
        StoppedError {
            reference: reference.to_owned(),
            title: "KeyError".to_owned(),
            count: 2,
        }
    }

    fn said(first_seen: &[StoppedError]) -> Said<'_> {
        Said {
            flags: &[],
            failing: &[],
            slower: &[],
            first_seen,
            before: (4_000, 40),
            after: (1_200, 24),
            minutes: 47,
        }
    }

    #[test]
    fn harm_is_told_as_a_share_of_how_many_requests_against_before() {
        assert_eq!(
            said(&[]).harm(true),
            "2.0 % of 1,200 requests failed (1.0 % before) since this deploy."
        );
    }

    #[rstest]
    #[case::none(&[], "")]
    #[case::one(&[error("a")], " Meanwhile 1 error was first seen in this version.")]
    #[case::two(&[error("a"), error("b")], " Meanwhile 2 errors were first seen in this version.")]
    fn errors_first_seen_meanwhile_are_counted(#[case] errors: &[StoppedError], #[case] expected: &str) {
        assert_eq!(said(errors).first_seen(), expected);
        assert!(said(errors).too_few(900, 4_000, false).ends_with(expected));
    }

    #[test]
    fn too_few_requests_are_told_with_how_many_more_are_needed_and_nothing_before_as_such() {
        let told = said(&[]).too_few(8_800, 4_000, false);
        assert!(
            told.starts_with("no harm so far in 1,200 requests; 8,800 more are needed"),
            "{told}"
        );
        assert!(
            said(&[])
                .too_few(8_800, 4_000, true)
                .starts_with("no harm until it ended")
        );
        assert!(
            said(&[])
                .too_few(8_800, 0, false)
                .starts_with("nothing ran here in the day before")
        );
    }

    #[test]
    fn a_clear_answer_says_what_it_rests_on() {
        assert!(
            said(&[])
                .clear(true)
                .contains("2.0 % of 1,200 requests failed (1.0 % before)")
        );
        assert!(
            said(&[])
                .clear(false)
                .starts_with("nothing new, surging or back in 47 min; it reports no requests")
        );
    }

    #[rstest]
    #[case(0, "0")]
    #[case(999, "999")]
    #[case(1_000, "1,000")]
    #[case(1_234_567, "1,234,567")]
    fn thousands_stand_apart(#[case] number: u64, #[case] expected: &str) {
        assert_eq!(grouped(number), expected);
    }

    #[test]
    fn rates_promise_to_find_harm_only_where_enough_requests_came() {
        assert!(rates(false, 0).contains("is missed in fewer than 1 of 20"));
        assert!(rates(false, 900).contains("could be missed in more than 1 of 20"));
        assert!(!rates(true, 0).contains("missed"));
        assert!(ratio(1, 0).abs() < f64::EPSILON && (ratio(1, 4) - 0.25).abs() < f64::EPSILON);
    }
}
