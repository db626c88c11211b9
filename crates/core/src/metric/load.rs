//! Whether a figure of load stood higher before something began than it had in days.

use std::collections::{BTreeMap, BTreeSet};
use std::fmt;

use crate::attention::percent;

/// Minutes of a window.
const WINDOW: i64 = 10;
/// Windows of the past that must be known: six hours.
const LEAST_WINDOWS: usize = 36;
/// Minutes that something must have come in for a window to count: some hosts report every five.
const LEAST_MINUTES: usize = 2;
/// How likely it may be that any of the figures stands highest by chance.
const BY_CHANCE: f64 = 0.1;
/// By which part of the distance between the median and the most of the past the most must be passed.
const CLEARLY: f64 = 0.25;
/// Figures told of at most.
const TOLD: usize = 2;

/// A figure of one instance by the minute since 1970.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Figure {
    /// The metric.
    pub name: String,
    /// Its unit, by UCUM.
    pub unit: String,
    /// The instance; may be empty.
    pub instance: String,
    /// What it came to.
    pub minutes: BTreeMap<i64, f64>,
    /// What it cannot pass, where that is sent as well.
    pub limit: Option<f64>,
}

/// A figure that stood higher in the ten minutes before a time than in any ten minutes of the past.
#[derive(Clone, Debug, PartialEq)]
pub struct Highest {
    name: String,
    unit: String,
    instance: String,
    limit: Option<f64>,
    value: f64,
    most_before: f64,
    /// How far back the past is known.
    hours: i64,
}

/// The figures that stood higher in the ten minutes before a minute than ever in the past that is known of them, the
/// furthest above first; two at most.
///
/// Of each metric the instance that stands highest counts, in windows of ten minutes. That the last of `n + 1` windows is
/// the highest has the chance `1 / (n + 1)` where nothing changed (the order of exchangeable values); over all metrics that
/// are looked at it must be 0.1 at most. It must also stand clearly above: by a quarter of the way from the median of the
/// past to its most. What only ever rises, as an uptime does, says nothing.
#[must_use]
pub fn highest_before(figures: &[Figure], minute: i64) -> Vec<Highest> {
    let names: BTreeSet<&str> = figures.iter().map(|figure| figure.name.as_str()).collect();
    let mut found: Vec<Highest> = (names.iter())
        .filter_map(|name| {
            let of_name = figures.iter().filter(|figure| figure.name == *name);
            highest(of_name, minute, names.len())
        })
        .collect();
    found.sort_by(|one, other| other.above().total_cmp(&one.above()));
    found.truncate(TOLD);
    found
}

fn highest<'f>(figures: impl Iterator<Item = &'f Figure>, minute: i64, looked_at: usize) -> Option<Highest> {
    let mut now: Option<(f64, &Figure)> = None;
    let mut past: BTreeMap<i64, f64> = BTreeMap::new();
    for figure in figures {
        for (ago, mean) in windows(figure, minute) {
            if ago == 0 {
                if now.is_none_or(|(most, _)| mean > most) {
                    now = Some((mean, figure));
                }
            } else {
                let most = past.entry(ago).or_insert(mean);
                *most = most.max(mean);
            }
        }
    }
    let (value, figure) = now?;
    let hours = past.keys().next_back().map_or(0, |ago| ago * WINDOW / 60);
    // The newest first.
    let past: Vec<f64> = past.into_values().collect();
    #[expect(clippy::cast_precision_loss, reason = "windows of days")]
    let chance = looked_at as f64 / (past.len() + 1) as f64;
    if past.len() < LEAST_WINDOWS || chance > BY_CHANCE {
        return None;
    }
    let mut sorted = past.clone();
    sorted.sort_by(f64::total_cmp);
    let (median, most_before) = (sorted[sorted.len() / 2], *sorted.last()?);
    let only_rises = past.windows(2).all(|pair| pair[0] > pair[1]);
    let is_clear = value > most_before && value - most_before >= CLEARLY * (most_before - median);
    // A figure that never moved is passed by any step: one of a hundredth of it means nothing.
    let is_more = value - most_before > 0.05 * most_before.abs();
    (is_clear && is_more && !only_rises).then(|| Highest {
        name: figure.name.clone(),
        unit: figure.unit.clone(),
        instance: figure.instance.clone(),
        limit: figure.limit.filter(|limit| *limit > 0.0),
        value,
        most_before,
        hours,
    })
}

/// The means of a figure's windows, by how many windows before the minute they are.
fn windows(figure: &Figure, minute: i64) -> impl Iterator<Item = (i64, f64)> {
    let mut sums: BTreeMap<i64, (f64, usize)> = BTreeMap::new();
    for (at, value) in figure.minutes.range(..minute) {
        let sum = sums.entry((minute - 1 - at) / WINDOW).or_default();
        *sum = (sum.0 + value, sum.1 + 1);
    }
    #[expect(clippy::cast_precision_loss, reason = "ten minutes")]
    sums.into_iter()
        .filter(|(_, (_, count))| *count >= LEAST_MINUTES)
        .map(|(ago, (sum, count))| (ago, sum / count as f64))
}

impl Highest {
    fn above(&self) -> f64 {
        self.value / self.most_before.abs().max(f64::MIN_POSITIVE)
    }

    fn shown(&self, value: f64) -> String {
        match (self.limit, self.unit.as_str()) {
            (Some(limit), _) => format!("{} of its limit", percent(value / limit)),
            (None, "1") => percent(value),
            (None, "By") => bytes(value),
            (None, "s") => format!("{value:.2} s"),
            (None, unit) => {
                let unit = unit.trim_matches(['{', '}']);
                let number = if value.abs() >= 100.0 {
                    format!("{value:.0}")
                } else {
                    format!("{value:.2}")
                };
                if unit.is_empty() {
                    number
                } else {
                    format!("{number} {unit}")
                }
            }
        }
    }
}

impl fmt::Display for Highest {
    fn fmt(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
        let of = if self.instance.is_empty() {
            String::new()
        } else {
            format!(" of {}", self.instance)
        };
        write!(
            formatter,
            "In the ten minutes before, {}{of} was {}: higher than in any ten minutes of the {} h before ({} at most).",
            self.name,
            self.shown(self.value),
            self.hours,
            self.shown(self.most_before)
        )
    }
}

fn bytes(value: f64) -> String {
    let (mut value, mut unit) = (value, "B");
    for larger in ["kB", "MB", "GB", "TB"] {
        if value.abs() < 1_000.0 {
            break;
        }
        (value, unit) = (value / 1_000.0, larger);
    }
    if value.abs() >= 100.0 || unit == "B" {
        format!("{value:.0} {unit}")
    } else {
        format!("{value:.1} {unit}")
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    const AT: i64 = 10_000;

    fn figure(name: &str, instance: &str, of: impl Fn(i64) -> f64) -> Figure {
        Figure {
            name: name.to_owned(),
            unit: "By".to_owned(),
            instance: instance.to_owned(),
            minutes: (AT - 2_000..AT + 5).map(|minute| (minute, of(minute))).collect(),
            limit: None,
        }
    }

    fn daily(minute: i64) -> f64 {
        400e6 + 50e6 * f64::from(i32::try_from(minute % 97).unwrap()) / 97.0
    }

    #[test]
    fn memory_that_rose_before_it_began_is_told_with_its_instance_and_its_limit() {
        let rises = |minute: i64| if minute >= AT - 10 { 776e6 } else { daily(minute) };
        let figures = [
            figure("process.memory.usage", "pier-1", daily),
            figure("process.memory.usage", "pier-3", rises),
            figure("process.cpu.utilization", "pier-3", daily),
        ];
        let told: Vec<String> = highest_before(&figures, AT).iter().map(ToString::to_string).collect();
        assert_eq!(told.len(), 1);
        assert!(
            told[0].starts_with(
                "In the ten minutes before, process.memory.usage of pier-3 was 776 MB: higher than in any"
            ) && told[0].ends_with("of the 33 h before (447 MB at most)."),
            "{told:?}"
        );
        let limited = figures.map(|figure| Figure {
            limit: Some(800e6),
            ..figure
        });
        let told = highest_before(&limited, AT)[0].to_string();
        assert!(
            told.contains("was 97 % of its limit") && told.contains("(56 % of its limit at most)"),
            "{told}"
        );
    }

    #[test]
    fn nothing_is_told_of_what_stands_as_usual_only_ever_rises_or_is_hardly_known() {
        #[expect(clippy::cast_precision_loss, reason = "minutes")]
        let uptime = |minute: i64| minute as f64;
        assert_eq!(highest_before(&[figure("process.uptime", "", uptime)], AT), []);
        assert_eq!(highest_before(&[figure("process.memory.usage", "", daily)], AT), []);
        let rises = |minute: i64| if minute >= AT - 10 { 776e6 } else { daily(minute) };
        let mut young = figure("process.memory.usage", "", rises);
        young.minutes = young.minutes.split_off(&(AT - 300));
        assert_eq!(highest_before(&[young], AT), []);
        let gone = figure("process.memory.usage", "", |minute| {
            if minute < AT - 10 { 1.0 } else { f64::NAN }
        });
        assert_eq!(highest_before(&[gone], AT), []);
        let hardly = figure(
            "process.threads",
            "",
            |minute| if minute >= AT - 10 { 101.0 } else { 100.0 },
        );
        assert_eq!(highest_before(&[hardly], AT), []);
    }

    #[test]
    fn the_more_is_looked_at_the_less_one_figure_says() {
        let rises = |minute: i64| if minute >= AT - 10 { 776e6 } else { daily(minute) };
        let many: Vec<Figure> = (0..40)
            .map(|number| {
                let of = |minute: i64| if number == 0 { rises(minute) } else { daily(minute) };
                figure(&format!("process.figure.{number}"), "", of)
            })
            .collect();
        assert_eq!(highest_before(&many, AT), []);
        assert_eq!(highest_before(&many[..15], AT).len(), 1);
    }

    proptest! {
        #[test]
        fn any_order_of_instances_says_the_same(seed in 0_u64..10_000) {
            let noise = |minute: i64| {
                let mixed = (u64::try_from(minute).unwrap() ^ seed).wrapping_mul(0x9E37_79B9_7F4A_7C15).rotate_left(31);
                f64::from(u32::try_from(mixed % 1_000).unwrap())
            };
            let figures = [figure("a", "1", noise), figure("a", "2", daily), figure("b", "1", daily)];
            let mut turned = figures.clone();
            turned.reverse();
            prop_assert_eq!(highest_before(&figures, AT), highest_before(&turned, AT));
        }
    }
}
