//! Where a log event begins: a line with a time or a level in front, in the many ways loggers write them.

use std::sync::LazyLock;

use chrono::{DateTime, Datelike, NaiveDate, NaiveDateTime, NaiveTime, Utc};
use regex::Regex;

use crate::Timestamp;

/// What the beginning of an event's first line says.
#[derive(Clone, Debug, Default, PartialEq)]
pub(super) struct Header {
    /// When, where the line has a whole date and time; without a zone it is taken as UTC.
    pub time: Option<Timestamp>,
    /// OTLP severity number; 0 where the line names no level.
    pub severity: u8,
    /// Where the text begins that the application wrote, in bytes: after time and level.
    pub text_at: usize,
}

/// Bytes from a line's start in which time and level are looked for: longer prefixes are not written.
const REACH: usize = 200;

static TIME: LazyLock<Regex> = LazyLock::new(|| {
    // What may stand before the time: a letter for the level, brackets, a process or thread.
    let before = r#"^(?:[DIWEFA], )?(?:\[[\w .:#@/-]{1,40}\] ?|\d{1,7} )?[\[(<"]?"#;
    let zone = r"(?: ?(?:Z|UTC|[+-]\d\d:?\d\d))?";
    let forms = [
        format!(r"(?P<iso>\d{{4}}[-/]\d\d[-/]\d\d[T ]\d\d:\d\d:\d\d(?:[.,]\d{{1,9}})?{zone})"),
        format!(r"(?P<month>\d{{1,2}}[-/ ][A-Z][a-z]{{2}}[-/ ]\d{{4}}[: ]+\d\d:\d\d:\d\d(?:\.\d+)?{zone})"),
        r"(?P<day>[A-Z][a-z]{2} [A-Z][a-z]{2} +\d{1,2} \d\d:\d\d:\d\d(?:\.\d+)?(?: [A-Z]{3,4})? \d{4})".to_owned(),
        r"(?P<short>[A-Z][a-z]{2} +\d{1,2} \d\d:\d\d:\d\d(?:\.\d+)?)".to_owned(),
        r"(?P<klog>[IWEF]\d{4} \d\d:\d\d:\d\d\.\d+)".to_owned(),
        r"(?P<clock>\d\d:\d\d:\d\d(?:[.,]\d{1,9})?)".to_owned(),
        r"(?P<epoch>1\d{9}(?:\.\d{1,9})?|1\d{12})\b".to_owned(),
    ];
    Regex::new(&format!(r#"{before}(?:{})["\])>]?"#, forms.join("|"))).expect("a fixed pattern")
});
/// An access log's line: client, names, time in brackets.
static ACCESS: LazyLock<Regex> = LazyLock::new(|| {
    Regex::new(r"^\S+ \S+ \S+ \[\d\d/[A-Z][a-z]{2}/\d{4}:\d\d:\d\d:\d\d [+-]\d{4}\] ").expect("a fixed pattern")
});
/// A level in front, without a time.
static LEVEL_FIRST: LazyLock<Regex> = LazyLock::new(|| {
    Regex::new(r"^(?:\[?(?:TRACE|DEBUG|INFO|NOTICE|WARN|WARNING|ERROR|CRITICAL|FATAL|SEVERE)\]?(?:[ :|/-]|$)|[\[<](?:trace|debug|info|notice|warn|warning|error|critical|fatal)[\]>](?: |:|$)|(?i:level=))")
        .expect("a fixed pattern")
});
/// A report of Erlang's error logger.
static REPORT: LazyLock<Regex> = LazyLock::new(|| Regex::new(r"^=([A-Z]+) REPORT====").expect("a fixed pattern"));
static LEVEL: LazyLock<Regex> = LazyLock::new(|| {
    let words = "trace|debug|info|information|notice|warn|warning|error|err|crit|critical|fatal|severe|alert|emerg|emergency|panic";
    let upper = "TRACE|DEBUG|INFO|NOTICE|WARN|WARNING|ERROR|ERR|CRIT|CRITICAL|FATAL|SEVERE|ALERT|EMERG|EMERGENCY|PANIC";
    Regex::new(&format!(
        r#"\b(?P<upper>{upper})\b|[\[<(](?:[\w.]+[:.])?(?P<boxed>(?i:{words}))[\]>)]|\b(?i:level|lvl|severity)"?[=:] ?"?(?P<named>(?i:{words}))\b|^\s*(?P<first>{words}):? "#
    ))
    .expect("a fixed pattern")
});
/// A level as one letter: before the time, or in brackets.
static LETTER: LazyLock<Regex> =
    LazyLock::new(|| Regex::new(r"^(?:([DIWEFA]), \[|([IWEF])\d{4} )").expect("a fixed pattern"));

/// Reads the beginning of a line; `None` where no event begins with it.
pub(super) fn header(line: &str) -> Option<Header> {
    let head = crate::text::prefix(line, REACH);
    // Mono's crash, said twice: it goes on with what stands above.
    if head.starts_with("[ERROR] FATAL UNHANDLED EXCEPTION") {
        return None;
    }
    if let Some(found) = REPORT.captures(head) {
        let severity = if matches!(&found[1], "ERROR" | "CRASH" | "SUPERVISOR") {
            17
        } else {
            9
        };
        return Some(Header {
            time: None,
            severity,
            text_at: 0,
        });
    }
    let time = TIME.captures(head);
    if time.is_none() && !LEVEL_FIRST.is_match(head) {
        return ACCESS.find(head).map(|found| Header {
            time: None,
            severity: 9,
            text_at: found.end(),
        });
    }
    let after_time = time
        .as_ref()
        .map_or(0, |found| found.get(0).map_or(0, |whole| whole.end()));
    // A clock alone begins an event only where something stands after it as in a log.
    if time.as_ref().is_some_and(|found| found.name("clock").is_some())
        && !head.get(after_time..)?.starts_with([' ', ']', '\t', ','])
    {
        return None;
    }
    let (severity, text_at) = level(head, line, after_time);
    Some(Header {
        time: time.and_then(|found| read_time(&found)),
        severity,
        text_at,
    })
}

/// The severity that stands before or after the time, and where the text begins.
fn level(head: &str, line: &str, after_time: usize) -> (u8, usize) {
    let mut severity = 0;
    let mut text_at = after_time;
    if let Some(letter) = LETTER.captures(head) {
        severity = number(letter.get(1).or(letter.get(2)).map_or("", |letter| letter.as_str()));
    }
    let rest = head.get(after_time..).unwrap_or_default();
    if let Some(level) = LEVEL.captures(rest) {
        let name = ["upper", "boxed", "named", "first"]
            .iter()
            .find_map(|name| level.name(name))
            .map_or("", |found| found.as_str());
        if severity == 0 {
            severity = number(name);
        }
        text_at = after_time + level.get(0).map_or(0, |whole| whole.end());
    }
    let marks = |rest: &str| rest.len() - rest.trim_start_matches([' ', ']', ')', ':', '|', '-', '\t', ',']).len();
    (severity, text_at + line.get(text_at..).map_or(0, marks))
}

/// Whether a line begins with a time.
pub(super) fn begins_with_time(line: &str) -> bool {
    TIME.is_match(crate::text::prefix(line, REACH))
}

/// The OTLP severity number of a level's name.
pub(super) fn number(name: &str) -> u8 {
    // Some loggers write one letter.
    let of_letter = || match name.to_ascii_lowercase().as_str() {
        "t" => 1,
        "d" => 5,
        "i" => 9,
        "w" => 13,
        "e" => 17,
        "f" | "a" => 21,
        _ => 0,
    };
    crate::severity::number(name).unwrap_or_else(of_letter)
}

fn read_time(found: &regex::Captures<'_>) -> Option<Timestamp> {
    let text = |name: &str| found.name(name).map(|found| found.as_str());
    if let Some(iso) = text("iso") {
        return instant(iso);
    }
    let plain = |text: &str, form: &str| {
        NaiveDateTime::parse_from_str(text, form)
            .ok()
            .map(|time| time.and_utc())
    };
    if let Some(month) = text("month") {
        let bare = month
            .trim_end_matches("UTC")
            .trim_end_matches('Z')
            .trim()
            .replace(['/', ' '], "-");
        return plain(bare.get(..20)?, "%d-%b-%Y-%H:%M:%S")
            .or_else(|| plain(&bare.replacen(':', "-", 1), "%d-%b-%Y-%H:%M:%S"))
            .map(stamp);
    }
    if let Some(day) = text("day") {
        return ["%a %b %e %H:%M:%S %Y", "%a %b %e %H:%M:%S%.f %Y"]
            .iter()
            .find_map(|form| plain(day, form))
            .map(stamp);
    }
    let epoch = text("epoch")?;
    let number: f64 = epoch.parse().ok()?;
    #[expect(clippy::cast_possible_truncation, reason = "thirteen digits fit")]
    Some(Timestamp::from_millis(
        if epoch.len() == 13 { number } else { number * 1_000.0 } as i64,
    ))
}

/// Reads a time in the form of ISO 8601, also with a comma before the fraction, a space, slashes,
/// or no zone (UTC then).
pub(super) fn instant(text: &str) -> Option<Timestamp> {
    let text = text
        .trim()
        .replace(',', ".")
        .replace('/', "-")
        .replacen(' ', "T", 1)
        .replace(" UTC", "Z")
        .replace(' ', "");
    let zoned = DateTime::parse_from_rfc3339(&text).map(|time| time.to_utc());
    let compact = || DateTime::parse_from_str(&text, "%Y-%m-%dT%H:%M:%S%.f%z").map(|time| time.to_utc());
    let bare =
        || NaiveDateTime::parse_from_str(text.trim_end_matches('Z'), "%Y-%m-%dT%H:%M:%S%.f").map(|time| time.and_utc());
    zoned.or_else(|_| compact()).or_else(|_| bare()).ok().map(stamp)
}

fn stamp(time: DateTime<Utc>) -> Timestamp {
    Timestamp(time.timestamp_nanos_opt().unwrap_or_default())
}

/// The time of a line that names no year, or no day, as near before `now` as can be.
pub(super) fn completed(line: &str, now: Timestamp) -> Option<Timestamp> {
    let found = TIME.captures(crate::text::prefix(line, REACH))?;
    let today = DateTime::from_timestamp_micros(now.micros())?;
    let clock = |text: &str| NaiveTime::parse_from_str(&text.replace(',', "."), "%H:%M:%S%.f").ok();
    let dated = |date: NaiveDate, time: NaiveTime| stamp(date.and_time(time).and_utc());
    if let Some(text) = found.name("clock") {
        let at = dated(today.date_naive(), clock(text.as_str())?);
        return Some(if at > now.plus_millis(60_000) {
            at.plus_millis(-86_400_000)
        } else {
            at
        });
    }
    let date = |text: &str, form: &str| NaiveDateTime::parse_from_str(&format!("{} {text}", today.year()), form).ok();
    let short = found
        .name("short")
        .and_then(|text| date(text.as_str(), "%Y %b %e %H:%M:%S%.f"));
    let at = short.or_else(|| {
        found
            .name("klog")
            .and_then(|text| date(text.as_str().get(1..)?, "%Y %m%d %H:%M:%S%.f"))
    })?;
    let at = stamp(at.and_utc());
    Some(if at > now.plus_millis(86_400_000) {
        at.plus_millis(-365 * 86_400_000)
    } else {
        at
    })
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case(
        "2026-11-08 09:14:06,198 ERROR    [fares.web] job 5266 failed",
        17,
        "[fares.web] job 5266 failed",
        true
    )]
    #[case("2026/11/08 09:14:05.700000 berths: WARN slow call", 13, "slow call", true)]
    #[case(
        "2026-11-08T09:14:09.941Z ERROR 6600 --- [pool-7] l.s.Desk : job failed",
        17,
        "6600 --- [pool-7] l.s.Desk : job failed",
        true
    )]
    #[case(
        "E, [2026-11-08T09:14:11.587000 #7541] ERROR -- boarding: job failed",
        17,
        "boarding: job failed",
        true
    )]
    #[case("[08-Nov-2026 09:14:04 UTC] job 3090 failed", 0, "job 3090 failed", true)]
    #[case("09:14:05.123 [error] GenServer terminating", 17, "GenServer terminating", false)]
    #[case(
        "E1108 09:14:05.123456       1 main.go:12] job failed",
        17,
        "1 main.go:12] job failed",
        false
    )]
    #[case("Sun Nov  8 09:14:05 2026 job failed", 0, "job failed", true)]
    #[case(
        "[Sun Nov 08 09:14:05.123456 2026] [proxy:error] [pid 7] job failed",
        17,
        "[pid 7] job failed",
        true
    )]
    #[case(
        "Nov  8 09:14:05 pier-3 fares[7]: job failed",
        0,
        "pier-3 fares[7]: job failed",
        false
    )]
    #[case("ERROR:fares.web:job failed", 17, "fares.web:job failed", false)]
    #[case("[warn] job failed", 13, "job failed", false)]
    #[case("time=2026-11-08T09:14:05Z level=error msg=x", 17, "msg=x", false)]
    #[case("1794129244.466 INFO job done", 9, "job done", true)]
    #[case(
        "10.0.0.7 - - [08/Nov/2026:09:14:05 +0000] \"GET / HTTP/1.1\" 500",
        9,
        "\"GET / HTTP/1.1\" 500",
        false
    )]
    fn the_beginning_of_an_event_is_read(
        #[case] line: &str,
        #[case] severity: u8,
        #[case] text: &str,
        #[case] has_time: bool,
    ) {
        if line.starts_with("time=") {
            // A line of pairs is read as one: elsewhere.
            assert_eq!(header(line), None);
            return;
        }
        let found = header(line).unwrap();
        assert_eq!(
            (found.severity, line.get(found.text_at..).unwrap(), found.time.is_some()),
            (severity, text, has_time),
            "{line}"
        );
    }

    #[rstest]
    #[case("Traceback (most recent call last):")]
    #[case("  File \"/srv/a.py\", line 3, in f")]
    #[case("\tat a.b.C.d(C.java:1)")]
    #[case("java.lang.IllegalStateException: at 09:14")]
    #[case("panic: runtime error: index out of range")]
    #[case("goroutine 1 [running]:")]
    #[case("#0 /srv/a.php(3): b()")]
    #[case("{ \"berth\": 8522,")]
    #[case("| quay   | free |")]
    #[case("Error: 500 from the desk")]
    #[case("")]
    fn other_lines_begin_none(#[case] line: &str) {
        assert_eq!(header(line), None);
    }

    #[test]
    fn times_without_a_year_or_day_are_completed() {
        let now = instant("2026-01-02T00:10:00Z").unwrap();
        assert_eq!(
            completed("23:59:58.500 [error] x", now),
            instant("2026-01-01T23:59:58.5Z")
        );
        assert_eq!(
            completed("Dec 31 23:00:00 pier-3 x: y", now),
            instant("2025-12-31T23:00:00Z")
        );
    }
}
