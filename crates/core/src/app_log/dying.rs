//! The exception that a program died of, in what it wrote last.

use super::{Event, Exception, Finder};
use crate::Timestamp;

/// Lines that may follow the stack of what a program died of: what shells, build tools and supervisors add.
const MAX_LINES_AFTER: u64 = 20;

/// The last exception in the end of a program's output, unless more than 20 lines follow it: then the program went on.
///
/// # Example
/// ```
/// use outcrop_core::app_log::died_of;
/// let output = "opening ledger\nTraceback (most recent call last):\n  File \"settle.py\", line 3, in <module>\n    \
///               settle()\nLedgerShut: the ledger is shut\n";
/// assert_eq!(died_of(output).unwrap().type_name, "LedgerShut");
/// ```
#[must_use]
pub fn died_of(output: &str) -> Option<Exception> {
    let mut finder = Finder::default();
    // Lines without a time are of no time that matters here.
    let now = Timestamp(0);
    let mut last: Option<Event> = None;
    let mut lines = 0;
    let mut note = |events: Vec<Event>| {
        if let Some(event) = events.into_iter().rfind(|event| event.exception.is_some()) {
            last = Some(event);
        }
    };
    for line in output.lines() {
        lines += 1;
        note(finder.push(line, now));
    }
    note(finder.flush(now));
    last.filter(|event| lines - event.last_line.min(lines) <= MAX_LINES_AFTER)?
        .exception
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use rstest::rstest;

    use super::*;

    const PYTHON: &str = "Traceback (most recent call last):\n  File \"/srv/settle.py\", line 12, in <module>\n    \
                          settle()\n  File \"/srv/settle.py\", line 8, in settle\n    raise LedgerShut(7)\nLedgerShut: \
                          berth 7\n";
    const JAVA: &str = "Exception in thread \"main\" java.lang.IllegalStateException: berth 7 is taken\n\tat \
                        example.skerry.Settle.main(Settle.java:12)\n";
    const NODE: &str = "/srv/settle.js:3\n  throw new TypeError('no berth')\n  ^\n\nTypeError: no berth\n    at settle \
                        (/srv/settle.js:3:9)\n    at Object.<anonymous> (/srv/settle.js:7:1)\n\nNode.js v22.1.0\n";
    const GO: &str = "panic: no berth\n\ngoroutine 1 [running]:\nmain.settle(...)\n\t/srv/settle.go:8\nmain.main()\n\t\
                      /srv/settle.go:4 +0x1d\nexit status 2\n";
    const RUST: &str = "\nthread 'main' panicked at src/main.rs:2:5:\nno berth\nnote: run with `RUST_BACKTRACE=1` \
                        environment variable to display a backtrace\n";

    const RUST_EQUAL: &str = "\nthread 'main' (71) panicked at src/main.rs:2:5:\nassertion `left == right` failed: \
                              berth\n  left: 7\n right: 8\nnote: run with `RUST_BACKTRACE=1` environment variable to \
                              display a backtrace\n";

    #[rstest]
    #[case::python(PYTHON, "LedgerShut", "berth 7")]
    #[case::java(JAVA, "java.lang.IllegalStateException", "berth 7 is taken")]
    #[case::node(NODE, "TypeError", "no berth")]
    #[case::go(GO, "", "no berth")]
    #[case::rust(RUST, "", "no berth")]
    #[case::rust_of_several_lines(RUST_EQUAL, "", "right: 8")]
    fn what_a_program_died_of_is_the_last_exception(
        #[case] stack: &str,
        #[case] type_name: &str,
        #[case] message: &str,
    ) {
        let output = format!("opening the ledger\nsettled 12 of 40\n{stack}make: *** [settle] Error 1\n");
        let died = died_of(&output).unwrap();
        // Where a runtime names no type, the stack says what it was.
        assert_eq!(died.type_name, type_name);
        assert!(!died.message.contains("panicked at"), "{died:?}");
        assert!(died.stacktrace.contains(message), "{died:?}");
    }

    #[test]
    fn of_several_the_last_counts() {
        let died = died_of(&format!("{JAVA}going on\n{PYTHON}")).unwrap();
        assert_eq!(died.type_name, "LedgerShut");
    }

    #[test]
    fn an_exception_that_the_program_outlived_is_none_it_died_of() {
        let after = "settled one more\n".repeat(21);
        assert_eq!(died_of(&format!("{PYTHON}{after}")), None);
        assert_eq!(died_of("settle: the ledger is shut\n"), None);
        assert_eq!(died_of(""), None);
    }

    proptest! {
        #[test]
        fn any_output_is_taken(output in "(\\PC|\n|\t){0,400}") {
            drop(died_of(&output));
        }
    }
}
