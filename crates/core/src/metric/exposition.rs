//! A metric over time as `OpenMetrics` text (the specification's version 1.0, "Text format").

use std::fmt::Write as _;

use crate::Timestamp;

/// One line of a chart: the value of what lines are by, and a number a step.
pub type Line<'l> = (&'l str, &'l [Option<f64>]);

/// Writes the steps of a metric as points of a gauge, each with the time that its step begins at, in seconds. Steps in which
/// nothing came have none. What names may not hold becomes `_`.
///
/// # Example
/// ```
/// use outcrop_core::Timestamp;
/// use outcrop_core::metric::open_metrics;
/// let text = open_metrics(("fares.failed", "count of occurrences"), Some("version"), &[("2.4.0", &[Some(3.0), None])], (Timestamp::from_millis(60_000), 60_000));
/// assert_eq!(text, "# TYPE fares_failed gauge\n# HELP fares_failed count of occurrences\nfares_failed{version=\"2.4.0\"} 3 60\n# EOF\n");
/// ```
#[must_use]
pub fn open_metrics(
    (name, help): (&str, &str),
    by: Option<&str>,
    lines: &[Line<'_>],
    (from, step_ms): (Timestamp, i64),
) -> String {
    let name = plain(name);
    let mut text = format!("# TYPE {name} gauge\n");
    if !help.is_empty() {
        // A text takes whatever is written.
        let _written = writeln!(text, "# HELP {name} {}", escaped(help));
    }
    for (key, values) in lines {
        let labels = by.map_or_else(String::new, |by| format!("{{{}=\"{}\"}}", plain(by), escaped(key)));
        let mut at = from.millis();
        for value in *values {
            if let Some(value) = value {
                let _written = writeln!(text, "{name}{labels} {value} {}", at / 1_000);
            }
            at += step_ms;
        }
    }
    text.push_str("# EOF\n");
    text
}

/// A name of letters, digits, `_` and `:` that begins with no digit.
fn plain(name: &str) -> String {
    let mut plain: String = name
        .chars()
        .map(|c| {
            if c.is_ascii_alphanumeric() || c == '_' || c == ':' {
                c
            } else {
                '_'
            }
        })
        .collect();
    if !plain.starts_with(|c: char| c.is_ascii_alphabetic() || c == '_' || c == ':') {
        plain.insert(0, '_');
    }
    plain
}

fn escaped(text: &str) -> String {
    text.replace('\\', "\\\\").replace('"', "\\\"").replace('\n', "\\n")
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn a_line_has_its_label_and_no_point_where_nothing_came() {
        let lines: [Line<'_>; 2] = [("pier \"3\"\n", &[None, Some(0.5)]), ("", &[Some(-1.0), None])];
        let text = open_metrics(
            ("5xx rate", ""),
            Some("host.name"),
            &lines,
            (Timestamp::from_millis(120_000), 300_000),
        );
        let expected = "# TYPE _5xx_rate gauge\n_5xx_rate{host_name=\"pier \\\"3\\\"\\n\"} 0.5 420\n\
            _5xx_rate{host_name=\"\"} -1 120\n# EOF\n";
        assert_eq!(text, expected);
    }

    proptest! {
        #[test]
        fn whatever_names_and_keys_hold_each_point_is_one_line(
            name in ".*",
            by in ".*",
            keys in proptest::collection::vec(".*", 0..4),
            values in proptest::collection::vec(any::<Option<f64>>(), 0..5)
        ) {
            let lines: Vec<Line<'_>> = keys.iter().map(|key| (key.as_str(), values.as_slice())).collect();
            let text = open_metrics((&name, &by), Some(&by), &lines, (Timestamp::from_millis(0), 60_000));
            let points = text.split('\n').filter(|line| !line.starts_with('#') && !line.is_empty()).count();
            prop_assert_eq!(points, keys.len() * values.iter().flatten().count());
            prop_assert!(text.ends_with("# EOF\n"));
        }
    }
}
