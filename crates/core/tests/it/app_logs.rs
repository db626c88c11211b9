//! Exceptions in application logs: labelled logs, and other wrappings of the same.

use outcrop_core::Timestamp;
use outcrop_core::app_log::{Event, Finder};
use outcrop_testkit::labelled_logs;
use proptest::prelude::*;
use rstest::rstest;
use serde_json::Value;

const NOW: Timestamp = Timestamp(1_794_130_000_000_000_000);

fn exceptions(log: &str) -> Vec<Event> {
    let mut finder = Finder::default();
    let mut events: Vec<Event> = log.lines().flat_map(|line| finder.push(line, NOW)).collect();
    events.extend(finder.flush(NOW));
    events.retain(|event| event.exception.is_some());
    events.sort_by_key(|event| event.first_line);
    events
}

fn read(name: &str) -> String {
    std::fs::read_to_string(format!("{}/tests/logs/{name}", env!("CARGO_MANIFEST_DIR"))).unwrap()
}

fn outline(log: &str) -> Vec<String> {
    let named = |event: &Event| {
        let exception = event.exception.as_ref().unwrap();
        format!(
            "{}-{} {}: {}",
            event.first_line,
            event.last_line,
            exception.type_name,
            exception.message.lines().next().unwrap_or_default()
        )
    };
    exceptions(log).iter().map(named).collect()
}

#[rstest]
#[case("berths")]
#[case("boarding-ledger")]
#[case("crew")]
#[case("fares")]
#[case("gangway")]
#[case("sailings")]
fn every_exception_of_a_labelled_log_is_found_with_its_lines(#[case] name: &str) {
    let expected: Value = serde_json::from_str(&read(&format!("{name}.expected.json"))).unwrap();
    let lines = |event: &Value| {
        (
            event["first_line"].as_u64().unwrap(),
            event["last_line"].as_u64().unwrap(),
        )
    };
    let expected: Vec<((u64, u64), String)> = expected["exceptions"]
        .as_array()
        .unwrap()
        .iter()
        .map(|event| (lines(event), event["message"].as_str().unwrap().to_owned()))
        .collect();
    let found: Vec<((u64, u64), String)> = exceptions(&read(&format!("{name}.log")))
        .into_iter()
        .map(|event| ((event.first_line, event.last_line), event.exception.unwrap().message))
        .collect();
    assert_eq!(found, expected);
}

const TRACE: &str = "java.lang.IllegalStateException: berth 7 is taken\n\tat \
    example.skerry.Berths.take(Berths.java:12)\n\tat example.skerry.Main.main(Main.java:3)";

#[test]
fn time_level_and_message_are_read() {
    let log = format!(
        "2026-11-08T09:14:09.941Z ERROR 6600 --- [pool-7] l.s.Desk : job 9 failed\n{TRACE}\n2026-11-08T09:14:10Z INFO \
         done"
    );
    let found = exceptions(&log);
    assert_eq!(
        (found.len(), found[0].severity, found[0].message.as_str()),
        (1, 17, "6600 --- [pool-7] l.s.Desk : job 9 failed")
    );
    assert_eq!(found[0].time, Some(Timestamp(1_794_129_249_941_000_000)));
    let exception = found[0].exception.as_ref().unwrap();
    assert_eq!(
        (exception.type_name.as_str(), exception.stacktrace.as_str()),
        ("java.lang.IllegalStateException", TRACE)
    );
}

#[rstest]
#[case::bare("{line}", "2-4 java.lang.IllegalStateException: berth 7 is taken")]
#[case::container_runtime(
    "2026-11-08T09:14:09.941Z stderr F {line}",
    "2-4 java.lang.IllegalStateException: berth 7 is taken"
)]
#[case::process_manager("web.1  | {line}", "2-4 java.lang.IllegalStateException: berth 7 is taken")]
#[case::syslog(
    "Nov  8 09:14:09 pier-3 fares[71]: {line}",
    "2-4 java.lang.IllegalStateException: berth 7 is taken"
)]
#[case::container_file(
    r#"{"log":"{json}\n","stream":"stderr","time":"2026-11-08T09:14:09Z"}"#,
    "2-4 java.lang.IllegalStateException: berth 7 is taken"
)]
fn a_crash_is_found_in_any_wrapping(#[case] wrapping: &str, #[case] expected: &str) {
    let log = format!("serving on port 80\n{TRACE}\nserving again");
    let wrap = |line: &str| {
        wrapping
            .replace("{line}", line)
            .replace("{json}", &line.replace('\t', "\\t"))
    };
    let wrapped: Vec<String> = log.lines().map(wrap).collect();
    assert_eq!(outline(&wrapped.join("\n")), [expected]);
}

/// The same log through any process manager: each line of it has the prefix, and the same
/// exceptions are found at the same lines.
#[rstest]
#[case::numbered_colon("web.1: {line}")]
#[case::numbered_bar("web-1  | {line}")]
#[case::bracketed("[web] {line}")]
#[case::pod("[pod/web-7d9/app] {line}")]
#[case::process("web[71]: {line}")]
#[case::spaced("web.1 {line}")]
#[case::word("web: {line}")]
#[case::clock_then_name("09:14:09 web.1   | {line}")]
#[case::time_then_name("2026-11-08T09:14:09.941Z web.1 | {line}")]
#[case::time_then_brackets("2026-11-08T09:14:09+00:00 [web.1] {line}")]
#[case::time_then_process("2026-11-08T09:14:09+00:00 app[web.1]: {line}")]
#[case::time_host_and_name("Nov  8 09:14:09 pier-3 web: {line}")]
#[case::numbered_app("0|web  | {line}")]
#[case::rfc_5424(r#"<14>1 2026-11-08T09:14:09.941Z pier-3 web 71 - [a@1 b="c"] {line}"#)]
fn any_prefix_of_a_process_manager_changes_nothing(
    #[case] prefix: &str,
    #[values("berths", "crew", "fares", "gangway", "sailings")] name: &str,
) {
    let log = read(&format!("{name}.log"));
    let wrapped: Vec<String> = log.lines().map(|line| prefix.replace("{line}", line)).collect();
    let of = |log: &str| -> Vec<(u64, u64, String)> {
        exceptions(log)
            .into_iter()
            .map(|event| (event.first_line, event.last_line, event.exception.unwrap().stacktrace))
            .collect()
    };
    assert_eq!(of(&wrapped.join("\n")), of(&log));
}

/// Crashes of runtimes whose texts have nothing of a logger's, between ordinary lines.
#[rstest]
#[case::haskell("haskell_call_stack", "")]
#[case::d("d_chain", "rates.SeasonClosed")]
#[case::tcl("tcl_command", "")]
#[case::racket("racket_context", "")]
#[case::sbcl("sbcl_error", "SB-EXT:FILE-DOES-NOT-EXIST")]
#[case::nim("nim_last", "SeasonClosed")]
#[case::ocaml("ocaml_inlined", "Not_found")]
#[case::go("go_panic", "")]
#[case::python_dump("python_dump", "")]
fn a_crash_between_ordinary_lines_is_found_with_its_type(#[case] name: &str, #[case] type_name: &str) {
    let crash = std::fs::read_to_string(format!("{}/tests/stacks/{name}.txt", env!("CARGO_MANIFEST_DIR"))).unwrap();
    let crash = crash.trim_end();
    let log = format!("2026-11-08 09:14:08 INFO serving on port 80\n{crash}\n2026-11-08 09:14:10 INFO serving again");
    let found = exceptions(&log);
    let ranges: Vec<(u64, u64, &str)> = found
        .iter()
        .map(|event| {
            (
                event.first_line,
                event.last_line,
                event.exception.as_ref().unwrap().type_name.as_str(),
            )
        })
        .collect();
    let last = u64::try_from(crash.lines().count()).unwrap() + 1;
    assert_eq!(ranges, [(2, last, type_name)], "{log}");
}

#[test]
fn data_in_a_line_is_read_with_its_stack_wherever_it_stands() {
    let stack = "TypeError: no berth\\n    at take (/srv/berths.js:3:5)\\n    at main (/srv/main.js:9:1)";
    let log = [
        format!(r#"{{"level":"error","ts":1794129249.5,"service":"gangway","error":{{"details":{{"stack":"{stack}"}}}}}}"#),
        format!(r#"time=2026-11-08T09:14:09Z level=error msg="job failed" trace="{stack}""#),
        r#"{"severity":"INFO","message":"no exception, no traceback"}"#.to_owned(),
        r#"{"log.level":"ERROR","trace_id":"4bf92f3577b34da6a3ce929d0e0e4736","span_id":"00f067aa0ba902b7","exception":{"class":"Late","message":"too late","backtrace":["/srv/a.rb:3:in `call'","/srv/b.rb:4:in `run'"]}}"#.to_owned(),
    ];
    let found = exceptions(&log.join("\n"));
    let named: Vec<(u64, &str, u8)> = found
        .iter()
        .map(|event| {
            (
                event.first_line,
                event.exception.as_ref().unwrap().type_name.as_str(),
                event.severity,
            )
        })
        .collect();
    assert_eq!(
        (named[0], named[1], found.len()),
        ((1, "TypeError", 17), (2, "TypeError", 17), 3),
        "{found:#?}"
    );
    assert_eq!(
        (found[0].service.as_str(), found[0].time),
        ("gangway", Some(Timestamp(1_794_129_249_500_000_000)))
    );
    // Without a level there is no severity: the sender of it decides, not this crate.
    assert_eq!(
        exceptions(&format!(r#"{{"message":"x","stack":"{stack}"}}"#))[0].severity,
        0
    );
    assert_eq!(found[2].trace.as_ref().unwrap().1, "00f067aa0ba902b7");
}

#[test]
fn a_line_that_a_container_runtime_cut_is_one_line() {
    let at = "2026-11-08T09:14:09.941Z stderr";
    let (head, frame) = TRACE.split_once('\n').unwrap();
    let (begun, rest) = head.split_at(20);
    let mut finder = Finder::default();
    assert_eq!(finder.push(&format!("{at} P {begun}"), NOW), []);
    assert_eq!(
        finder.first_open_line(),
        Some(1),
        "a reader that stops here must come back to it"
    );
    for line in [
        format!("{at} F {rest}"),
        format!("{at} F {}", frame.lines().next().unwrap()),
    ] {
        assert_eq!(finder.push(&line, NOW), []);
    }
    let found = finder.flush(NOW).remove(0);
    assert_eq!(
        (
            found.first_line,
            found.last_line,
            found.exception.unwrap().message.as_str()
        ),
        (1, 3, "berth 7 is taken")
    );
}

#[test]
fn two_crashes_below_one_line_are_two() {
    let log = format!(
        "2026-11-08 09:14:09 INFO serving\nException in thread \"a\" {TRACE}\nException in thread \"b\" \
         {TRACE}\n2026-11-08 09:14:10 INFO done"
    );
    assert_eq!(
        outline(&log),
        [
            "2-4 java.lang.IllegalStateException: berth 7 is taken",
            "5-7 java.lang.IllegalStateException: berth 7 is taken"
        ]
    );
}

/// Crashes right below one another, as of a job that is started again and again.
#[rstest]
#[case::d("rates.Full@rates.d(3): full\n----------------\nrates.d:9 [0x55a]\n??:? _d_run_main [0x7f1]")]
#[case::perl(
    "full at Holds.pm line 5.\n\tHolds::full(\"aft\") called at main.pl line 3\n\tmain::run() called at main.pl line 4"
)]
#[case::tcl("divide by zero\n    while executing\n\"expr {1 / 0}\"\n    (file \"main.tcl\" line 3)")]
#[case::racket(
    "car: contract violation\n  expected: pair?\n  context...:\n   /srv/holds.rkt:7:0: full\n   body of \
     \"/srv/main.rkt\""
)]
#[case::nim(
    "/srv/main.nim(15) main\n/srv/holds.nim(14) table\nError: unhandled exception: key not found: k1 [KeyError]"
)]
#[case::r("Error in dispatch(name) : full\nCalls: print ... tryCatch -> dispatch -> full")]
fn crashes_below_one_another_are_as_many(#[case] crash: &str) {
    let lines = crash.lines().count();
    let again = crash.replace("0x7f1", "0x7f2");
    let log = format!("2026-11-08 09:14:09 INFO serving\n{crash}\n{again}\n2026-11-08 09:14:10 INFO done");
    let found: Vec<_> = exceptions(&log)
        .iter()
        .map(|event| (event.first_line, event.last_line))
        .collect();
    let from = |line: usize| (u64::try_from(line).unwrap(), u64::try_from(line + lines - 1).unwrap());
    assert_eq!(found, [from(2), from(2 + lines)], "{log}");
}

#[rstest]
#[case::ruby_s_logger(
    "E, [2026-11-08T09:14:09.9 #71] ERROR -- : berth is taken (Stow::Full)\n/srv/gate.rb:3:in \
     `stow'\n/srv/run.rb:4:in `run'",
    "Stow::Full",
    3
)]
#[case::an_object_without_frames(
    r#"{"level":50,"err":{"type":"AggregateError","message":"none","stack":"AggregateError: none"}}"#,
    "AggregateError",
    1
)]
#[case::a_pattern("main: Holds.hs:18:11-30: Non-exhaustive patterns in case", "", 1)]
fn an_exception_is_found_however_little_is_said_of_it(#[case] text: &str, #[case] type_name: &str, #[case] lines: u64) {
    let found = exceptions(&format!(
        "2026-11-08 09:14:08 INFO serving\n{text}\n2026-11-08 09:14:10 INFO done"
    ));
    let named: Vec<_> = found
        .iter()
        .map(|event| {
            (
                event.first_line,
                event.last_line,
                event.exception.as_ref().unwrap().type_name.as_str(),
            )
        })
        .collect();
    assert_eq!(named, [(2, 1 + lines, type_name)]);
}

/// Logs of 24 styles: of the exceptions in them 98 of 100 are found with exact lines, and of those
/// found at most one in 100 is none.
#[test]
fn labelled_logs_of_many_styles_are_read() {
    let (mut all, mut exact, mut found, mut invented, mut typed, mut right) = (0, 0, 0, 0, 0, 0);
    for log in labelled_logs() {
        let events = exceptions(log["log"].as_str().unwrap());
        let ranges: Vec<(u64, u64)> = events.iter().map(|event| (event.first_line, event.last_line)).collect();
        let expected = log["exceptions"].as_array().unwrap();
        let of = |one: &Value| (one["first_line"].as_u64().unwrap(), one["last_line"].as_u64().unwrap());
        all += expected.len();
        found += events.len();
        let is_beside = |(from, to): (u64, u64)| expected.iter().map(of).all(|(first, last)| to < first || from > last);
        invented += ranges.iter().filter(|range| is_beside(**range)).count();
        for one in expected {
            let Some(at) = ranges.iter().position(|range| *range == of(one)) else {
                continue;
            };
            exact += 1;
            if let Some(type_name) = one["type"].as_str() {
                let bare = |name: &str| name.rsplit(['.', '\\']).next().unwrap().to_owned();
                typed += 1;
                right += usize::from(bare(&events[at].exception.as_ref().unwrap().type_name) == bare(type_name));
            }
        }
    }
    assert!(all > 900 && 100 * exact >= 98 * all, "{exact} of {all}");
    assert!(
        100 * invented <= found && 100 * right >= 98 * typed,
        "{invented} of {found} invented, {right} of {typed} types right"
    );
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(64))]

    #[test]
    fn lines_of_other_processes_between_change_nothing(order in prop::collection::vec(any::<bool>(), 200)) {
        let one = read("sailings.log");
        let other = read("fares.log");
        let (mut one_lines, mut other_lines) = (one.lines().take(90), other.lines().take(90));
        let mut mixed = vec![];
        for first in order {
            let line = if first { one_lines.next().map(|line| format!("sailings.1 | \
                {line}")) } else { other_lines.next().map(|line| format!("fares.1    | {line}")) };
            mixed.extend(line);
        }
        mixed.extend(one_lines.map(|line| format!("sailings.1 | {line}")));
        mixed.extend(other_lines.map(|line| format!("fares.1    | {line}")));
        let messages = |events: Vec<Event>| {
            let mut messages: Vec<String> =
                events.into_iter().map(|event| event.exception.unwrap().stacktrace).collect();
            messages.sort();
            messages
        };
        let cut = |log: &str| log.lines().take(90).collect::<Vec<_>>().join("\n");
        let alone = messages(exceptions(&cut(&one)).into_iter().chain(exceptions(&cut(&other))).collect());
        prop_assert_eq!(messages(exceptions(&mixed.join("\n"))), alone);
    }

    #[test]
    fn no_log_breaks_the_finder(log in "(\\PC|\n|\t|2026-11-08T09:14:09Z ERROR |Traceback \\(most recent call \
        last\\):|  File \"a\", line 3|\tat a.b\\(C.java:1\\)|panic: |goroutine 1 \\[running\\]:|\\{\"a\":|x | \\| \
        |level=error ){0,80}") {
        for event in exceptions(&log) {
            prop_assert!(event.first_line >= 1 && event.first_line <= event.last_line);
            prop_assert!(event.last_line <= log.lines().count() as u64);
        }
    }
}
