//! What the services write while they serve a request.

use opentelemetry_proto::tonic::common::v1::KeyValue;
use opentelemetry_proto::tonic::logs::v1::LogRecord;

use crate::telemetry::{body, number, text};
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
    /// What a structured logger says beside the text.
    pub fields: Vec<KeyValue>,
}

/// The lines of one request of a service.
pub fn of_request(service: &str, fails_by_fare: bool, random: &mut fastrand::Rng) -> Vec<Line> {
    let info = |after: u64, text: String, fields: Vec<KeyValue>| Line {
        after,
        severity: (9, "INFO"),
        text,
        fields,
    };
    let sailing = i64::from(random.u32(4_000..4_400));
    let mut some = |from: u32, to: u32| i64::from(random.u32(from..to));
    let mut lines = match service {
        "gangway" => {
            let from = if some(0, 2) == 0 { "a phone" } else { "a ticket machine" };
            vec![info(
                1,
                format!("request for sailing {sailing} from {from}"),
                vec![number("sailing", sailing)],
            )]
        }
        "sailings" => {
            let read = some(4, 40);
            vec![info(
                4,
                format!("read {read} sailings of the day"),
                vec![number("read", read)],
            )]
        }
        "fares" => {
            let metres = some(3, 19);
            vec![info(
                2,
                format!("quote for sailing {sailing}: {metres} metres of deck"),
                vec![number("sailing", sailing), number("metres", metres)],
            )]
        }
        "stowage" => {
            let vehicles = some(2, 120);
            vec![info(
                5,
                format!("list of sailing {sailing} holds {vehicles} vehicles"),
                vec![number("sailing", sailing), number("vehicles", vehicles)],
            )]
        }
        "boarding" => {
            let (ticket, ramp) = (some(0, 65_536), some(1, 5));
            vec![info(
                1,
                format!("scanned ticket SK{ticket:04X} at ramp {ramp}"),
                vec![text("ticket", format!("SK{ticket:04X}")), number("ramp", ramp)],
            )]
        }
        "berths" => {
            let (job, berth) = (some(10_000, 99_999), some(1, 12));
            vec![info(
                1,
                format!("took job {job} for berth {berth}"),
                vec![number("job", job), number("berth", berth)],
            )]
        }
        "bulletins" => {
            let (bulletin, subscribers) = (some(1, 900), some(20, 400));
            vec![info(
                3,
                format!("sent bulletin {bulletin} to {subscribers} subscribers"),
                vec![number("bulletin", bulletin), number("subscribers", subscribers)],
            )]
        }
        _ => {
            let bookings = some(1, 60);
            vec![info(
                6,
                format!("settled {bookings} bookings"),
                vec![number("bookings", bookings)],
            )]
        }
    };
    if fails_by_fare {
        lines.push(Line {
            after: 9,
            severity: (13, "WARN"),
            text: format!("tariff {} has no rate for winter", random.u8(2..9)),
            fields: vec![text("season", "winter")],
        });
    }
    if random.u8(0..40) == 0 {
        let waited = i64::from(random.u32(20..400));
        lines.push(Line {
            after: 3,
            severity: (13, "WARN"),
            text: format!("pool of connections waited {waited} ms"),
            fields: vec![number("waited_ms", waited)],
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
            attributes: self.fields,
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
