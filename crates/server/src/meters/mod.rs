//! What this process counts of itself, for `/metrics`.
//!
//! What is counted as it happens stands here; what is looked up when somebody asks (`asked`) is read then.

mod asked;

use std::sync::Arc;
use std::time::Duration;

pub(crate) use asked::{Asked, Pool, Process};
use prometheus_client::encoding::EncodeLabelSet;
use prometheus_client::encoding::text::encode_registry;
use prometheus_client::metrics::counter::Counter;
use prometheus_client::metrics::family::Family;
use prometheus_client::metrics::histogram::Histogram;
use prometheus_client::registry::{Registry, Unit};

/// From ten milliseconds to the longest that a commit may take, in seconds.
const SECONDS: [f64; 9] = [0.01, 0.025, 0.05, 0.1, 0.25, 0.5, 1.0, 5.0, 25.0];
/// Rows of a batch.
const ROWS: [f64; 6] = [10.0, 100.0, 500.0, 1_000.0, 4_000.0, 20_000.0];

#[derive(Clone, Debug, PartialEq, Eq, Hash, EncodeLabelSet)]
struct Request {
    signal: &'static str,
    protocol: &'static str,
    answer: &'static str,
}

#[derive(Clone, Debug, PartialEq, Eq, Hash, EncodeLabelSet)]
struct OfSignal {
    signal: &'static str,
}

#[derive(Clone, Debug, PartialEq, Eq, Hash, EncodeLabelSet)]
struct OfKind {
    kind: &'static str,
}

#[derive(Clone, Debug, PartialEq, Eq, Hash, EncodeLabelSet)]
struct OfOutcome {
    outcome: &'static str,
}

/// How a request came and what it was answered.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Received {
    /// The signal of OTLP, or `report`.
    pub signal: &'static str,
    /// Whether it came over gRPC, else over HTTP.
    pub is_grpc: bool,
    /// `taken`, or why not, in a word.
    pub answer: &'static str,
    /// As it was sent.
    pub bytes: usize,
    /// Until the answer.
    pub took: Duration,
}

/// How many records of each kind were found in what was taken.
#[derive(Clone, Copy, Debug, Default)]
pub(crate) struct Records {
    /// Reports of failures.
    pub reports: usize,
    /// Spans.
    pub spans: usize,
    /// Log lines.
    pub lines: usize,
    /// Points of metrics.
    pub points: usize,
    /// What could not be used.
    pub refused: u64,
}

/// Counters of this process; clones count together.
#[derive(Clone)]
pub(crate) struct Meters(Arc<Counted>);

struct Counted {
    registry: Registry,
    requests: Family<Request, Counter>,
    bytes: Family<OfSignal, Counter>,
    took: Family<OfSignal, Histogram>,
    records: Family<OfKind, Counter>,
    batches: Family<OfOutcome, Counter>,
    commits: Histogram,
    rows: Histogram,
}

impl Default for Meters {
    fn default() -> Self {
        let mut registry = Registry::with_prefix("outcrop");
        let requests = Family::default();
        let bytes = Family::default();
        let took = Family::<OfSignal, Histogram>::new_with_constructor(|| Histogram::new(SECONDS));
        let records = Family::default();
        let batches = Family::default();
        let (commits, rows) = (Histogram::new(SECONDS), Histogram::new(ROWS));
        registry.register(
            "intake_requests",
            "Requests of senders, by what they were answered",
            requests.clone(),
        );
        registry.register_with_unit("intake", "Bytes that senders sent, as sent", Unit::Bytes, bytes.clone());
        registry.register_with_unit(
            "intake_answer",
            "Time from a request to its answer",
            Unit::Seconds,
            took.clone(),
        );
        registry.register(
            "intake_records",
            "Records found in requests that were taken",
            records.clone(),
        );
        registry.register(
            "batches",
            "Batches that writers committed or could not",
            batches.clone(),
        );
        registry.register_with_unit("batch_commit", "Time to commit a batch", Unit::Seconds, commits.clone());
        registry.register("batch_requests", "Requests in a batch", rows.clone());
        Self(Arc::new(Counted {
            registry,
            requests,
            bytes,
            took,
            records,
            batches,
            commits,
            rows,
        }))
    }
}

impl Meters {
    /// Counts a request of a sender.
    pub(crate) fn received(&self, received: Received) {
        let signal = received.signal;
        let protocol = if received.is_grpc { "grpc" } else { "http" };
        let request = Request {
            signal,
            protocol,
            answer: received.answer,
        };
        self.0.requests.get_or_create(&request).inc();
        self.0
            .bytes
            .get_or_create(&OfSignal { signal })
            .inc_by(received.bytes as u64);
        self.0
            .took
            .get_or_create(&OfSignal { signal })
            .observe(received.took.as_secs_f64());
    }

    /// Counts what a request held.
    pub(crate) fn found(&self, records: Records) {
        let kinds = [
            ("failure", records.reports as u64),
            ("span", records.spans as u64),
            ("line", records.lines as u64),
            ("point", records.points as u64),
            ("refused", records.refused),
        ];
        for (kind, count) in kinds.into_iter().filter(|(_, count)| *count > 0) {
            self.0.records.get_or_create(&OfKind { kind }).inc_by(count);
        }
    }

    /// Counts a batch, of so many requests, that took so long.
    pub(crate) fn batch(&self, requests: usize, took: Duration, is_stored: bool) {
        let outcome = if is_stored { "stored" } else { "failed" };
        self.0.batches.get_or_create(&OfOutcome { outcome }).inc();
        self.0.commits.observe(took.as_secs_f64());
        self.0
            .rows
            .observe(f64::from(u32::try_from(requests).unwrap_or(u32::MAX)));
    }

    /// All of it and what was asked now, as `OpenMetrics` text.
    pub(crate) fn written(&self, asked: &Asked) -> String {
        let mut text = String::new();
        for registry in [&self.0.registry, &asked.registry()] {
            encode_registry(&mut text, registry).expect("writing to a text never fails");
        }
        text.push_str("# EOF\n");
        text
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn text(meters: &Meters) -> String {
        meters.written(&Asked::default())
    }

    #[test]
    fn requests_are_counted_by_signal_protocol_and_answer() {
        let meters = Meters::default();
        let received = Received {
            signal: "traces",
            is_grpc: false,
            answer: "taken",
            bytes: 700,
            took: Duration::from_millis(30),
        };
        meters.received(received);
        meters.clone().received(received);
        meters.received(Received {
            answer: "unknown_key",
            is_grpc: true,
            ..received
        });
        let text = text(&meters);
        let has = |line: &str| assert!(text.lines().any(|one| one == line), "no {line} in\n{text}");
        has("outcrop_intake_requests_total{signal=\"traces\",protocol=\"http\",answer=\"taken\"} 2");
        has("outcrop_intake_requests_total{signal=\"traces\",protocol=\"grpc\",answer=\"unknown_key\"} 1");
        has("outcrop_intake_bytes_total{signal=\"traces\"} 2100");
        has("outcrop_intake_answer_seconds_bucket{le=\"0.05\",signal=\"traces\"} 3");
        assert!(text.ends_with("# EOF\n"));
    }

    #[test]
    fn batches_and_records_are_counted() {
        let meters = Meters::default();
        meters.found(Records {
            spans: 12,
            refused: 1,
            ..Records::default()
        });
        meters.batch(3, Duration::from_millis(7), true);
        meters.batch(1, Duration::from_secs(3), false);
        let text = text(&meters);
        let has = |line: &str| assert!(text.lines().any(|one| one == line), "no {line} in\n{text}");
        has("outcrop_intake_records_total{kind=\"span\"} 12");
        has("outcrop_intake_records_total{kind=\"refused\"} 1");
        has("outcrop_batches_total{outcome=\"stored\"} 1");
        has("outcrop_batches_total{outcome=\"failed\"} 1");
        has("outcrop_batch_commit_seconds_count 2");
        has("outcrop_batch_requests_sum 4.0");
        assert!(!text.contains("kind=\"failure\""), "what never came has no line");
    }
}
