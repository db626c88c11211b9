//! What the services write while they serve a request.

use opentelemetry_proto::tonic::logs::v1::LogRecord;

use crate::telemetry::{body, text};
use crate::world::Service;

/// Minutes of history with log lines: more than a day, far less than the week of everything else.
pub const WITH_LINES: i64 = 1_560;

/// A line of a request.
pub struct Line {
    /// Milliseconds after the request began.
    pub after: u64,
    /// OTLP severity number and the sender's word.
    pub severity: (i32, &'static str),
    pub text: String,
}

/// The lines of one request of a service.
pub fn of_request(service: &str, fails_by_fare: bool, random: &mut fastrand::Rng) -> Vec<Line> {
    let info = |after: u64, text: String| Line {
        after,
        severity: (9, "INFO"),
        text,
    };
    let sailing = random.u32(4_000..4_400);
    let mut lines = match service {
        "gangway" => {
            vec![info(
                1,
                format!(
                    "request for sailing {sailing} from {}",
                    if random.bool() { "a phone" } else { "a ticket machine" }
                ),
            )]
        }
        "sailings" => vec![info(4, format!("read {} sailings of the day", random.u32(4..40)))],
        "fares" => vec![info(
            2,
            format!("quote for sailing {sailing}: {} metres of deck", random.u32(3..19)),
        )],
        "stowage" => vec![info(
            5,
            format!("list of sailing {sailing} holds {} vehicles", random.u32(2..120)),
        )],
        "boarding" => vec![info(
            1,
            format!("scanned ticket SK{:04X} at ramp {}", random.u16(..), random.u8(1..5)),
        )],
        "berths" => vec![info(
            1,
            format!("took job {} for berth {}", random.u32(10_000..99_999), random.u8(1..12)),
        )],
        "bulletins" => vec![info(
            3,
            format!(
                "sent bulletin {} to {} subscribers",
                random.u32(1..900),
                random.u32(20..400)
            ),
        )],
        _ => vec![info(6, format!("settled {} bookings", random.u32(1..60)))],
    };
    if fails_by_fare {
        lines.push(Line {
            after: 9,
            severity: (13, "WARN"),
            text: format!("tariff {} has no rate for winter", random.u8(2..9)),
        });
    }
    if random.u8(0..40) == 0 {
        lines.push(Line {
            after: 3,
            severity: (13, "WARN"),
            text: format!("pool of connections waited {} ms", random.u32(20..400)),
        });
    }
    lines
}

impl Line {
    /// As a log record in a span.
    pub fn record(self, trace: u128, span: u64, began: u64) -> LogRecord {
        let time = began + self.after * 1_000_000;
        LogRecord {
            time_unix_nano: time,
            observed_time_unix_nano: time,
            severity_number: self.severity.0,
            severity_text: self.severity.1.to_owned(),
            body: Some(body(&self.text)),
            trace_id: trace.to_be_bytes().to_vec(),
            span_id: span.to_be_bytes().to_vec(),
            flags: 1,
            ..LogRecord::default()
        }
    }
}

/// What systemd says of a service's unit that ran out of memory, as a collector reads it from the journal.
pub fn killed(service: &Service, at: u64) -> Vec<LogRecord> {
    let unit = format!("skerry-{}.service", service.name);
    let said = |after: u64, priority: &str, what: &str| LogRecord {
        time_unix_nano: at + after * 1_000_000,
        observed_time_unix_nano: at + after * 1_000_000,
        severity_number: if priority == "6" { 9 } else { 13 },
        body: Some(body(&format!("{unit}: {what}"))),
        attributes: vec![
            text("UNIT", unit.clone()),
            text("SYSLOG_IDENTIFIER", "systemd"),
            text("_HOSTNAME", service.host),
            text("PRIORITY", priority),
        ],
        ..LogRecord::default()
    };
    vec![
        said(0, "4", "A process of this unit has been killed by the OOM killer."),
        said(40, "4", "Main process exited, code=killed, status=9/KILL"),
        said(3_100, "6", "Scheduled restart job, restart counter is at 1."),
    ]
}
