//! What stands out: attribute values over-represented in an error's occurrences against the service's requests.
//!
//! For each value, with k of n occurrences and a share of the sampled requests, two bounds are
//! taken, both of the Jeffreys interval at 95 % (L. Brown, T. Cai, A. `DasGupta`, "Interval
//! Estimation for a Binomial Proportion", 2001): the least that the share of occurrences can be,
//! and the most that the share of requests can be. The p-value is the binomial chance of k or more
//! of n at that most. Of all values tested, those are kept that the procedure of Y. Benjamini and
//! Y. Hochberg (1995) keeps at a false-discovery rate of 1 %, and that are at least [`LEAST_RATIO`]
//! times as frequent by their bounds.

use statrs::distribution::{Beta, ContinuousCDF};
use statrs::function::beta::beta_reg;

/// Least ratio of the bounds that is worth telling.
pub const LEAST_RATIO: f64 = 1.5;
/// Least share of the occurrences that is worth telling.
pub const LEAST_SHARE: f64 = 0.2;
/// Occurrences below which nothing is said.
pub const LEAST_OCCURRENCES: u64 = 5;
/// Sampled requests, by weight, below which nothing is said.
pub const LEAST_REQUESTS: f64 = 30.0;
/// Share of false findings accepted among those told.
const FALSE_DISCOVERIES: f64 = 0.01;

/// How often a value occurs.
#[derive(Clone, Debug, PartialEq)]
pub struct Tally {
    /// The attribute's name.
    pub name: String,
    /// The value.
    pub value: String,
    /// Occurrences with it.
    pub occurrences: u64,
    /// The share of sampled requests with it, by weight, 0 to 1.
    pub usual: f64,
}

/// A value that stands out.
#[derive(Clone, Debug, PartialEq)]
pub struct Finding {
    /// The attribute's name.
    pub name: String,
    /// The value.
    pub value: String,
    /// Occurrences with it.
    pub count: u64,
    /// The share of occurrences with it.
    pub share: f64,
    /// The share of requests with it.
    pub usual: f64,
    /// How many times as frequent it is at least, by the bounds.
    pub ratio_at_least: f64,
}

/// Finds what stands out among `total` occurrences, against as many requests as `requests` are
/// worth (the effective size of a weighted sample, (Σw)² / Σw²). The strongest first.
///
/// # Example
/// ```
/// use outcrop_core::stands_out::{Tally, stands_out};
/// let tally = |value: &str, occurrences, usual| Tally { name: "season".to_owned(), value: value.to_owned(), occurrences, usual };
/// let found = stands_out(&[tally("winter", 40, 0.11), tally("summer", 0, 0.89)], 40, 500.0);
/// assert_eq!(found.len(), 1);
/// assert_eq!(found[0].sentence(40), "all with season = winter; usually 11 %");
/// ```
#[must_use]
#[expect(clippy::cast_precision_loss, reason = "counts of a sample of some thousands")]
pub fn stands_out(tallies: &[Tally], total: u64, requests: f64) -> Vec<Finding> {
    if total < LEAST_OCCURRENCES || requests < LEAST_REQUESTS {
        return vec![];
    }
    let n = total as f64;
    let test = |tally: &Tally| tested(tally, (tally.occurrences.min(total) as f64, n), requests);
    let mut tested: Vec<(f64, Finding)> = tallies.iter().map(test).collect();
    tested.sort_by(|a, b| a.0.total_cmp(&b.0));
    let m = tested.len() as f64;
    let kept = tested
        .iter()
        .enumerate()
        .rposition(|(at, (p, _))| *p <= FALSE_DISCOVERIES * (at + 1) as f64 / m)
        .map_or(0, |at| at + 1);
    let mut found: Vec<Finding> = tested
        .into_iter()
        .take(kept)
        .map(|(_, finding)| finding)
        .filter(|finding| finding.ratio_at_least >= LEAST_RATIO && finding.share >= LEAST_SHARE)
        .collect();
    let strength = |finding: &Finding| finding.share * finding.ratio_at_least.min(1_000.0).ln();
    found.sort_by_key(|finding| finding.name.len());
    // Of values that come and go together (an instance and its version) the first is enough.
    let mut told: Vec<(u64, f64)> = vec![];
    found.retain(|finding| {
        let is_told = told
            .iter()
            .any(|(count, usual)| *count == finding.count && (usual - finding.usual).abs() < 1e-9);
        told.push((finding.count, finding.usual));
        !is_told
    });
    found.sort_by(|a, b| {
        strength(b)
            .total_cmp(&strength(a))
            .then_with(|| (&a.name, &a.value).cmp(&(&b.name, &b.value)))
    });
    let all = found.clone();
    found.retain(|finding| !all.iter().any(|other| is_implied(finding, other)));
    found
}

/// How likely a value is so frequent by chance among `k` of `n` occurrences, and what there is to say of it.
fn tested(tally: &Tally, (k, n): (f64, f64), requests: f64) -> (f64, Finding) {
    let usual = tally.usual.clamp(0.0, 1.0);
    let most = bound(usual * requests, requests, 0.975);
    let least = bound(k, n, 0.025);
    let p = if k == 0.0 || most >= 1.0 {
        1.0
    } else {
        beta_reg(k, n - k + 1.0, most)
    };
    let finding = Finding {
        name: tally.name.clone(),
        value: tally.value.clone(),
        count: tally.occurrences,
        share: k / n,
        usual,
        ratio_at_least: least / most,
    };
    (p, finding)
}

/// What an endpoint says, in its name or by what it is: said again it tells nothing.
const OF_ENDPOINT: &[&str] = &[
    "http.request.method",
    "http.route",
    "url.path",
    "url.full",
    "url.template",
    "rpc.method",
    "rpc.service",
    "messaging.destination.name",
    "code.function.name",
    "code.file.path",
];

/// Whether a finding follows from another one: its value stands in the other's as a word of its own
/// (`POST` in `POST /v1/quotes`), or it says of an endpoint what the endpoint does, as often.
fn is_implied(finding: &Finding, by: &Finding) -> bool {
    if finding.name == by.name || finding.count < by.count {
        return false;
    }
    let is_broader = finding.usual + 1e-9 >= by.usual;
    let is_part =
        by.value.len() > finding.value.len() && by.value.split([' ', '/', ':', ',']).any(|word| word == finding.value);
    is_broader && (by.name == "endpoint" && OF_ENDPOINT.contains(&finding.name.as_str()) || is_part)
}

/// A bound of a proportion, k of n: the quantile of Beta(k + ½, n − k + ½).
fn bound(k: f64, n: f64, quantile: f64) -> f64 {
    if quantile < 0.5 && k <= 0.0 {
        return 0.0;
    }
    if quantile > 0.5 && k >= n {
        return 1.0;
    }
    Beta::new(k + 0.5, (n - k).max(0.0) + 0.5).map_or(1.0, |beta| beta.inverse_cdf(quantile))
}

impl Finding {
    /// The finding in words.
    #[must_use]
    pub fn sentence(&self, total: u64) -> String {
        let share = if self.count >= total {
            "all".to_owned()
        } else {
            crate::attention::percent(self.share)
        };
        let usual = if self.usual == 0.0 {
            "in none of the sampled requests".to_owned()
        } else {
            format!("usually {}", crate::attention::percent(self.usual))
        };
        format!("{share} with {} = {}; {usual}", self.name, self.value)
    }
}

/// Least number of gaps that make a rhythm.
const LEAST_GAPS: usize = 4;
/// Occurrences closer together than this are one burst, in milliseconds.
const BURST_MS: i64 = 60_000;

/// The regular gap between bursts of occurrences, in whole minutes, where there is one: at least
/// four in five gaps within 10 % (or a minute) of the median.
///
/// # Example: a job that fails every quarter of an hour
/// ```
/// use outcrop_core::stands_out::regular_gap;
/// let times: Vec<i64> = (0..8).flat_map(|run| [run * 900_000, run * 900_000 + 2_000]).collect();
/// assert_eq!(regular_gap(&times), Some(15));
/// ```
#[must_use]
pub fn regular_gap(millis: &[i64]) -> Option<i64> {
    let mut times = millis.to_vec();
    times.sort_unstable();
    let mut bursts: Vec<i64> = vec![];
    let mut last = i64::MIN;
    for at in times {
        if last == i64::MIN || at - last > BURST_MS {
            bursts.push(at);
        }
        last = at;
    }
    let mut gaps: Vec<i64> = bursts.windows(2).map(|pair| pair[1] - pair[0]).collect();
    if gaps.len() < LEAST_GAPS {
        return None;
    }
    gaps.sort_unstable();
    let median = gaps[gaps.len() / 2];
    let near = (median / 10).clamp(1, BURST_MS);
    let regular = gaps.iter().filter(|gap| (**gap - median).abs() <= near).count();
    let minutes = (median + 30_000) / 60_000;
    (regular * 5 >= gaps.len() * 4 && minutes >= 2).then_some(minutes)
}

/// A gap in words: `every 15 minutes`, `every 6 hours`, `every day`.
#[must_use]
pub fn gap_in_words(minutes: i64) -> String {
    match minutes {
        60 => "every hour".to_owned(),
        1_440 => "every day".to_owned(),
        hours if hours % 60 == 0 => format!("every {} hours", hours / 60),
        minutes => format!("every {minutes} minutes"),
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn tally(name: &str, value: &str, occurrences: u64, usual: f64) -> Tally {
        Tally {
            name: name.to_owned(),
            value: value.to_owned(),
            occurrences,
            usual,
        }
    }

    #[test]
    fn what_follows_from_what_was_said_is_not_said_again() {
        let tallies = [
            tally("endpoint", "POST /v1/quotes/{sailing}", 100, 0.05),
            tally("http.request.method", "POST", 100, 0.2),
            tally("http.route", "/v1/quotes/{sailing}", 100, 0.06),
            tally("season", "winter", 60, 0.1),
        ];
        let names: Vec<String> = stands_out(&tallies, 100, 1_000.0)
            .into_iter()
            .map(|finding| finding.name)
            .collect();
        assert_eq!(names, ["endpoint", "season"]);
        // What is rarer than the endpoint says more than it: only some of its requests have it.
        let rarer = [
            tally("endpoint", "POST /v1/quotes", 100, 0.2),
            tally("http.request.method", "POST", 100, 0.05),
        ];
        assert_eq!(stands_out(&rarer, 100, 1_000.0).len(), 2);
    }

    #[test]
    fn what_is_as_frequent_as_usual_or_rests_on_little_is_not_told() {
        assert_eq!(stands_out(&[tally("host", "pier-3", 50, 0.5)], 100, 1_000.0), []);
        assert_eq!(stands_out(&[tally("host", "pier-3", 4, 0.1)], 4, 1_000.0), []);
        assert_eq!(stands_out(&[tally("host", "pier-3", 50, 0.0)], 50, 10.0), []);
        assert_eq!(stands_out(&[tally("host", "pier-3", 50, 0.1)], 50, 1_000.0).len(), 1);
    }

    #[test]
    fn of_a_thousand_values_that_differ_by_chance_alone_hardly_one_is_told() {
        // Each value has a usual share of one half; occurrences scatter as a fair coin's (a fixed linear generator).
        let mut seed = 7_u64;
        let mut coin = || {
            seed = seed
                .wrapping_mul(6_364_136_223_846_793_005)
                .wrapping_add(1_442_695_040_888_963_407);
            seed >> 63
        };
        let tallies: Vec<Tally> = (0..1_000)
            .map(|at| tally("a", &at.to_string(), (0..60).map(|_| coin()).sum(), 0.5))
            .collect();
        assert!(stands_out(&tallies, 60, 10_000.0).is_empty());
    }

    #[test]
    fn without_a_rhythm_there_is_no_gap() {
        assert_eq!(
            regular_gap(&[0, 100_000, 900_000, 1_000_000, 4_000_000, 4_200_000]),
            None
        );
        assert_eq!(regular_gap(&[0, 900_000, 1_800_000]), None);
        assert_eq!(
            (gap_in_words(15), gap_in_words(360), gap_in_words(1_440)),
            ("every 15 minutes".into(), "every 6 hours".into(), "every day".into())
        );
    }

    proptest! {
        #[test]
        fn more_occurrences_with_a_value_never_make_it_stand_out_less(k in 5_u64..60, usual in 0.001_f64..0.5,
            requests in 50.0_f64..5_000.0) {
            let told = |k: u64| stands_out(&[tally("a", "b", k, usual)], 60, requests);
            prop_assert!(told(k).is_empty() || !told(k + 1).is_empty() || k == 60);
        }
    }
}
