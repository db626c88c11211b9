//! Lists, times and days in a sentence.

use crate::WEEKDAYS;

pub(super) fn list(items: &[impl AsRef<str>], last: &str) -> String {
    match items {
        [] => "nobody".to_owned(),
        [only] => only.as_ref().to_owned(),
        [first @ .., end] => {
            let first: Vec<&str> = first.iter().map(AsRef::as_ref).collect();
            format!("{} {last} {}", first.join(", "), end.as_ref())
        }
    }
}

pub(super) fn every(minutes: u32) -> String {
    match minutes {
        60 => "an hour".to_owned(),
        1_440 => "a day".to_owned(),
        minutes => format!("in {}", duration(minutes)),
    }
}

/// Minutes in words: `30 min`, `2 h`.
pub(super) fn duration(minutes: u32) -> String {
    if minutes >= 60 && minutes.is_multiple_of(60) {
        format!("{} h", minutes / 60)
    } else {
        format!("{minutes} min")
    }
}

pub(super) fn clock(minute: u16) -> String {
    format!("{:02}:{:02}", minute / 60, minute % 60)
}

pub(super) fn days(chosen: [bool; 7]) -> String {
    match chosen {
        [true, true, true, true, true, false, false] => "working days".to_owned(),
        [false, false, false, false, false, true, true] => "weekends".to_owned(),
        chosen => {
            let names = WEEKDAYS.iter().zip(chosen).filter(|(_, is)| *is);
            list(&names.map(|(name, _)| *name).collect::<Vec<_>>(), "and")
        }
    }
}
