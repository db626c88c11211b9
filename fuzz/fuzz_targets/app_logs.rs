//! Lines of applications' logs: each exception lies within the lines that were read.
#![no_main]

use outcrop_core::Timestamp;
use outcrop_core::app_log::Finder;

libfuzzer_sys::fuzz_target!(|text: &str| {
    let now = Timestamp(1_795_000_000_000_000_000);
    let mut finder = Finder::default();
    let mut events = vec![];
    let mut lines = 0;
    for line in text.lines() {
        lines += 1;
        events.extend(finder.push(line, now));
        assert!(finder.first_open_line().is_none_or(|line| line >= 1 && line <= lines));
    }
    events.extend(finder.flush(now));
    for event in events {
        assert!(event.first_line >= 1 && event.first_line <= event.last_line && event.last_line <= lines, "{event:?} \
            of {lines} lines");
    }
});
