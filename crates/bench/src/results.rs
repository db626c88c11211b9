//! What a run measured, for a file that two runs are compared by.

use std::collections::BTreeMap;
use std::path::Path;
use std::sync::Mutex;

use serde_json::{Value, json};

/// Figures of this run: name, ratio to the floor of the same run (more is better), the figure itself, its unit.
static MEASURED: Mutex<Vec<Figure>> = Mutex::new(vec![]);

#[derive(Clone, Debug, PartialEq)]
struct Figure {
    name: String,
    ratio: f64,
    value: f64,
    unit: String,
}

/// Notes a rate against its floor's.
pub fn rate(name: &str, value: f64, floor: f64, unit: &str) {
    note(name, value / floor, value, unit);
}

/// Notes a time against its floor's.
pub fn time(name: &str, millis: f64, floor: f64) {
    note(name, floor / millis, millis, "ms");
}

fn note(name: &str, ratio: f64, value: f64, unit: &str) {
    let figure = Figure {
        name: name.to_owned(),
        ratio,
        value,
        unit: unit.to_owned(),
    };
    let mut measured = MEASURED.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
    measured.push(figure);
}

/// Prints all that was noted, and writes it to a file where one is named.
pub fn finish(file: Option<&Path>) {
    let measured = MEASURED.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
    println!(
        "\n{:<44} {:>9} {:>20}",
        "ratio to the floor (more is better)", "ratio", "measured"
    );
    for figure in measured.iter() {
        println!(
            "{:<44} {:>9.3} {:>12.1} {}",
            figure.name, figure.ratio, figure.value, figure.unit
        );
    }
    if let Some(file) = file {
        let text = serde_json::to_vec_pretty(&written(&measured)).expect("plain values always encode");
        std::fs::write(file, text).unwrap_or_else(|error| panic!("{}: {error}", file.display()));
        println!("written to {}", file.display());
    }
}

fn written(figures: &[Figure]) -> Value {
    let of = |figure: &Figure| {
        let (name, unit) = (&figure.name, &figure.unit);
        json!({"name": name, "ratio": figure.ratio, "value": figure.value, "unit": unit})
    };
    json!({"figures": figures.iter().map(of).collect::<Vec<_>>()})
}

/// The ratios of a file, by name.
fn ratios(written: &Value) -> Option<BTreeMap<String, f64>> {
    let of = |figure: &Value| Some((figure["name"].as_str()?.to_owned(), figure["ratio"].as_f64()?));
    written["figures"].as_array()?.iter().map(of).collect()
}

/// How much the ratios differ from one run to another: a line for each figure of either.
fn compared(before: &BTreeMap<String, f64>, after: &BTreeMap<String, f64>) -> Vec<String> {
    let names: std::collections::BTreeSet<&String> = before.keys().chain(after.keys()).collect();
    let line = |name: &&String| {
        let of = |run: &BTreeMap<String, f64>| run.get(*name).copied();
        let shown = |ratio: Option<f64>| ratio.map_or_else(|| "none".to_owned(), |ratio| format!("{ratio:.3}"));
        let change = match (of(before), of(after)) {
            (Some(before), Some(after)) if before > 0.0 => format!("{:+.0} %", (after / before - 1.0) * 100.0),
            _ => String::new(),
        };
        format!(
            "{name:<44} {:>9} {:>9} {change:>8}",
            shown(of(before)),
            shown(of(after))
        )
    };
    names.iter().map(line).collect()
}

/// Prints how two runs differ.
pub fn compare(before: &Path, after: &Path) {
    let read = |file: &Path| {
        let written = std::fs::read(file).unwrap_or_else(|error| panic!("{}: {error}", file.display()));
        serde_json::from_slice(&written)
            .ok()
            .as_ref()
            .and_then(ratios)
            .unwrap_or_else(|| panic!("{}: not written by `bench small --json`", file.display()))
    };
    println!(
        "{:<44} {:>9} {:>9} {:>8}",
        "ratio to the floor (more is better)", "before", "after", "change"
    );
    for line in compared(&read(before), &read(after)) {
        println!("{line}");
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_written_is_read_back_and_compared_by_name() {
        let figure = |name: &str, ratio: f64| Figure {
            name: name.to_owned(),
            ratio,
            value: 1.0,
            unit: "ms".to_owned(),
        };
        let read = |figures: &[Figure]| ratios(&written(figures)).unwrap();
        let before = read(&[figure("errors, 24 h", 0.5), figure("now", 2.0)]);
        let after = read(&[figure("errors, 24 h", 0.6), figure("calls", 1.0)]);
        let lines = compared(&before, &after);
        let words = |line: &str| line.split_whitespace().collect::<Vec<_>>().join(" ");
        assert_eq!(
            lines.iter().map(|line| words(line)).collect::<Vec<_>>(),
            ["calls none 1.000", "errors, 24 h 0.500 0.600 +20 %", "now 2.000 none"]
        );
        assert_eq!(ratios(&json!({"figures": [{"name": 7}]})), None);
        assert_eq!(ratios(&json!([])), None);
    }
}
