//! A run as OTLP: a span that is a request of the service, with an exception where the run failed.

use nix::sys::signal::Signal;
use outcrop_core::Timestamp;
use outcrop_core::app_log::died_of;
use outcrop_core::text::prefix;
use rand::Rng as _;
use serde_json::{Value, json};

use super::arguments::Run;
use super::child::{Done, Ending};

/// Lines of standard error that are sent with a failure, and their length together, in bytes.
const LAST_LINES: (usize, usize) = (20, 8 * 1024);

/// The ids of a run's trace and span.
pub struct Ids {
    trace: u128,
    span: u64,
}

impl Ids {
    pub fn random() -> Self {
        let mut random = rand::rng();
        Self {
            trace: random.random_range(1..=u128::MAX),
            span: random.random_range(1..=u64::MAX),
        }
    }

    fn trace(&self) -> String {
        format!("{:032x}", self.trace)
    }

    fn span(&self) -> String {
        format!("{:016x}", self.span)
    }

    /// The header by which what the command sends joins the trace (W3C Trace Context, 3.2).
    pub fn traceparent(&self) -> String {
        format!("00-{}-{}-01", self.trace(), self.span())
    }
}

/// A failure of a run.
struct Failure {
    type_name: String,
    message: String,
    stacktrace: String,
}

/// What a run that did not end well failed of; `None` where its exit code is no failure.
fn failure(done: &Done, ok: &[u8]) -> Option<Failure> {
    let type_name = match &done.ending {
        Ending::Code(code) if *code == 0 || ok.contains(code) => return None,
        Ending::Code(code) => format!("exit code {code}"),
        Ending::Signal(number) => signal_name(*number),
        Ending::NotStarted(code, why) => {
            return Some(Failure {
                type_name: format!("exit code {code}"),
                message: why.clone(),
                stacktrace: String::new(),
            });
        }
    };
    if let Some(died) = died_of(&done.last) {
        return Some(Failure {
            // Where the runtime names none, the stack says what it was.
            type_name: died.type_name,
            message: died.message,
            stacktrace: died.stacktrace,
        });
    }
    let last = done.last.lines().rev().map(str::trim).find(|line| !line.is_empty());
    Some(Failure {
        type_name,
        message: last.map_or_else(
            || "nothing was written to standard error".to_owned(),
            |line| prefix(line, 2_000).to_owned(),
        ),
        stacktrace: String::new(),
    })
}

fn signal_name(number: i32) -> String {
    Signal::try_from(number).map_or_else(|_| format!("signal {number}"), |signal| signal.as_str().to_owned())
}

/// The last lines of what was written to standard error.
fn last_lines(written: &str) -> &str {
    let written = written.trim_end();
    let from = written
        .rmatch_indices('\n')
        .nth(LAST_LINES.0 - 1)
        .map_or(0, |(at, _)| at + 1);
    let mut from = from.max(written.len().saturating_sub(LAST_LINES.1));
    while !written.is_char_boundary(from) {
        from += 1;
    }
    written.get(from..).unwrap_or_default()
}

fn text(key: &str, value: &str) -> Value {
    json!({"key": key, "value": {"stringValue": value}})
}

fn number(key: &str, value: &impl ToString) -> Value {
    json!({"key": key, "value": {"intValue": value.to_string()}})
}

/// The request that reports a run: `from` and `to` say when it began and ended.
pub fn request(run: &Run, ids: &Ids, (from, to): (Timestamp, Timestamp), done: &Done) -> Value {
    let failure = failure(done, &run.ok);
    let mut attributes = vec![number("process.exit.code", &done.ending.exit_code())];
    attributes.extend(done.pid.map(|pid| number("process.pid", &pid)));
    if let Ending::Signal(of) = &done.ending {
        attributes.push(text("outcrop.run.signal", &signal_name(*of)));
    }
    let mut span = json!({
        "traceId": ids.trace(),
        "spanId": ids.span(),
        "name": run.name(),
        "kind": 1,
        "flags": 1,
        // Every run is sent (OpenTelemetry, "TraceState: Probability Sampling").
        "traceState": "ot=th:0",
        "startTimeUnixNano": from.0.to_string(),
        "endTimeUnixNano": to.0.max(from.0).to_string(),
    });
    if let Some(failure) = failure {
        let last = last_lines(&done.last);
        if !last.is_empty() {
            attributes.push(text("outcrop.run.last_lines", last));
        }
        let said = [
            ("exception.type", &failure.type_name),
            ("exception.message", &failure.message),
            ("exception.stacktrace", &failure.stacktrace),
        ];
        let said = said.iter().filter(|(_, value)| !value.is_empty());
        let mut of_event: Vec<Value> = said.map(|(name, value)| text(name, value)).collect();
        of_event.push(json!({"key": "exception.escaped", "value": {"boolValue": true}}));
        span["status"] = json!({"code": 2, "message": failure.message});
        span["events"] =
            json!([{"name": "exception", "timeUnixNano": to.0.max(from.0).to_string(), "attributes": of_event}]);
    }
    span["attributes"] = json!(attributes);
    json!({"resourceSpans": [{
        "resource": {"attributes": resource(run)},
        "scopeSpans": [{"scope": {"name": "outcrop run", "version": env!("CARGO_PKG_VERSION")}, "spans": [span]}],
    }]})
}

fn resource(run: &Run) -> Vec<Value> {
    let host = nix::unistd::gethostname().ok().and_then(|name| name.into_string().ok());
    let named = [
        ("service.name", run.service.clone()),
        ("service.version", run.in_version.clone()),
        ("deployment.environment.name", run.environment.clone()),
        ("host.name", host.clone()),
        // One command after the other runs on a host: together they are one instance.
        ("service.instance.id", host),
    ];
    let given = named
        .into_iter()
        .filter_map(|(name, value)| Some((name, value.filter(|value| !value.is_empty())?)));
    given.map(|(name, value)| text(name, &value)).collect()
}

#[cfg(test)]
mod tests {
    use clap::Parser;
    use rstest::rstest;

    use super::*;

    #[derive(Parser)]
    struct Line {
        #[command(flatten)]
        run: Run,
    }

    fn run(arguments: &[&str]) -> Run {
        let line = ["run", "--service", "settle"].iter().chain(arguments).copied();
        Line::try_parse_from(line.chain(["--", "/srv/settle.sh", "--all"]))
            .unwrap()
            .run
    }

    fn done(ending: Ending, last: &str) -> Done {
        Done {
            ending,
            pid: Some(71),
            last: last.to_owned(),
        }
    }

    fn span(arguments: &[&str], done: &Done) -> Value {
        let ids = Ids { trace: 7, span: 9 };
        let request = request(&run(arguments), &ids, (Timestamp(1_000), Timestamp(5_000)), done);
        request["resourceSpans"][0]["scopeSpans"][0]["spans"][0].clone()
    }

    fn attribute<'a>(of: &'a Value, name: &str) -> &'a Value {
        let all = of["attributes"].as_array().unwrap();
        all.iter()
            .find(|one| one["key"] == name)
            .map_or(&Value::Null, |one| &one["value"])
    }

    const DIED: &str = "Traceback (most recent call last):\n  File \"s.py\", line 3, in settle\n    x()\n\
                        LedgerShut: no\n";

    #[test]
    fn a_run_that_ends_well_is_a_request_with_a_duration() {
        let span = span(&["--job", "close-day"], &done(Ending::Code(0), "settled 40\n"));
        assert_eq!(
            (&span["name"], &span["traceState"]),
            (&json!("close-day"), &json!("ot=th:0"))
        );
        assert_eq!(
            (&span["startTimeUnixNano"], &span["endTimeUnixNano"]),
            (&json!("1000"), &json!("5000"))
        );
        assert_eq!(attribute(&span, "process.exit.code"), &json!({"intValue": "0"}));
        assert_eq!(
            (
                &span["status"],
                &span["events"],
                attribute(&span, "outcrop.run.last_lines")
            ),
            (&Value::Null, &Value::Null, &Value::Null)
        );
    }

    #[rstest]
    #[case::the_last_line_says_why(
        Ending::Code(3),
        "opening\nthe ledger is shut\n\n",
        "exit code 3",
        "the ledger is shut"
    )]
    #[case::nothing_says_why(Ending::Code(1), "", "exit code 1", "nothing was written to standard error")]
    #[case::killed(Ending::Signal(9), "settled 12 of 40\n", "SIGKILL", "settled 12 of 40")]
    #[case::of_an_exception(Ending::Code(1), DIED, "LedgerShut", "no")]
    #[case::not_started(Ending::NotStarted(127, "no such file".to_owned()), "", "exit code 127", "no such file")]
    fn a_run_that_fails_says_of_what(
        #[case] ending: Ending,
        #[case] last: &str,
        #[case] type_name: &str,
        #[case] message: &str,
    ) {
        let span = span(&[], &done(ending, last));
        let event = &span["events"][0];
        assert_eq!(attribute(event, "exception.type")["stringValue"], type_name);
        assert_eq!(attribute(event, "exception.message")["stringValue"], message);
        assert_eq!(
            (&span["name"], &span["status"]["code"]),
            (&json!("settle.sh"), &json!(2))
        );
    }

    #[test]
    fn exit_codes_can_be_no_failure() {
        assert_eq!(
            span(&["--ok", "1,3"], &done(Ending::Code(3), "no match\n"))["status"],
            Value::Null
        );
        assert_eq!(
            span(&["--ok", "1"], &done(Ending::Code(3), "no match\n"))["status"]["code"],
            2
        );
    }

    #[test]
    fn the_last_lines_are_few_and_short() {
        let many: Vec<String> = (0..1_000).map(|n| format!("line {n}\n")).collect();
        let many = many.concat();
        assert!(last_lines(&many).starts_with("line 980\n") && last_lines(&many).ends_with("line 999"));
        let long = "ü".repeat(20_000);
        assert!(last_lines(&long).len() <= LAST_LINES.1);
        assert_eq!(last_lines("\n\n"), "");
    }

    #[test]
    fn a_traceparent_names_the_run() {
        let ids = Ids { trace: 7, span: 9 };
        assert_eq!(
            ids.traceparent(),
            "00-00000000000000000000000000000007-0000000000000009-01"
        );
    }
}
