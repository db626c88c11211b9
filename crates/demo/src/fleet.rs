//! The fleet of Skerry Line: its services, deploys and traffic over a week.

use std::collections::BTreeMap;
use std::time::{Duration, SystemTime, UNIX_EPOCH};

use futures_util::{StreamExt, stream};
use opentelemetry_proto::tonic::trace::v1::{Span, Status};
use tokio_util::sync::CancellationToken;

use crate::case::{Case, whole};
use crate::faults::Failure;
use crate::send::{SendError, Sender};
use crate::telemetry::{Batch, number, text};
use crate::told::{WINTER, message, query, tell};
use crate::world::{Endpoint, Kind, SERVICES, WEEK, course};
use crate::{faults, lines};

/// The fleet and where it sends to.
pub struct Fleet {
    sender: Sender,
    seed: u64,
    /// Now, in nanoseconds since 1970.
    now: u64,
}

/// How far the history is.
#[derive(Clone, Copy, Debug)]
pub struct Progress {
    /// Minutes of history sent.
    pub done: i64,
    /// Minutes of history in all.
    pub total: i64,
}

/// Minutes of history in one batch of a service.
const SLICE: i64 = 60;
/// Requests under way at once while the history is loaded.
const AT_ONCE: usize = 8;
const MINUTE: u64 = 60_000_000_000;

/// When the platform killed a process of berths for its memory, in minutes before the end of the history.
const KILLED_AGO: i64 = 187;

type Batches = BTreeMap<(usize, &'static str), Batch>;

impl Fleet {
    /// A fleet that sends to an intake with a key. The same seed makes the same fleet.
    ///
    /// # Panics
    /// When the clock stands before 1970.
    #[must_use]
    pub fn new(url: &str, key: &str, seed: u64) -> Self {
        let now = SystemTime::now()
            .duration_since(UNIX_EPOCH)
            .expect("the clock is past 1970");
        Self {
            sender: Sender::new(url, key),
            seed,
            now: u64::try_from(now.as_nanos()).expect("before 2554"),
        }
    }

    /// Sends the last `minutes` (a week at most) in order of time, and says how far it is.
    ///
    /// # Errors
    /// [`SendError`] when the intake does not take it.
    pub async fn history(&self, minutes: i64, mut progress: impl FnMut(Progress)) -> Result<(), SendError> {
        let total = minutes.clamp(SLICE, WEEK);
        let mut done = 0;
        while done < total {
            let next = (done + SLICE).min(total);
            let mut batches = Batches::new();
            for minute in done..next {
                self.minute(total - minute, 1.0, &mut batches);
            }
            self.send(batches, false).await?;
            done = next;
            progress(Progress { done, total });
        }
        Ok(())
    }

    /// Goes on in the present until stopped.
    ///
    /// # Errors
    /// [`SendError`] when the intake does not take it.
    pub async fn live(&self, stop: CancellationToken) -> Result<(), SendError> {
        /// How often the fleet sends, and how much of a minute that is.
        const EVERY: Duration = Duration::from_secs(3);
        let mut round = 0_u64;
        while !stop.is_cancelled() {
            let present = Self {
                now: nanos(),
                seed: self.seed ^ (round + 1),
                sender: self.sender.clone(),
            };
            let mut batches = Batches::new();
            present.minute(0, EVERY.as_secs_f64() / 60.0, &mut batches);
            present.send(batches, true).await?;
            round += 1;
            tokio::select! {
                () = stop.cancelled() => {}
                () = tokio::time::sleep(EVERY) => {}
            }
        }
        Ok(())
    }

    async fn send(&self, batches: Batches, is_live: bool) -> Result<(), SendError> {
        let requests: Vec<_> = batches
            .into_iter()
            .flat_map(|((service, version), batch)| {
                batch.requests(&SERVICES[service], version, is_live.then_some(self.now))
            })
            .collect();
        let mut sent = stream::iter(requests.into_iter().map(|(path, body)| self.sender.post(path, body)))
            .buffer_unordered(AT_ONCE);
        while let Some(done) = sent.next().await {
            done?;
        }
        Ok(())
    }

    /// All that happens in one minute, or a part of it.
    fn minute(&self, ago: i64, part: f64, batches: &mut Batches) {
        let start = self.now - u64::try_from(ago).unwrap_or_default() * MINUTE;
        let minute_of_day = i64::try_from(start / MINUTE % 1_440).unwrap_or_default();
        if ago == KILLED_AGO
            && let Some(at) = SERVICES.iter().position(|service| service.name == "berths")
        {
            let service = &SERVICES[at];
            batches
                .entry((at, service.version(ago)))
                .or_default()
                .logs
                .extend(lines::killed(service, start));
        }
        for (at, service) in SERVICES.iter().enumerate() {
            let mut random = fastrand::Rng::with_seed(
                self.seed ^ (u64::try_from(at).unwrap_or_default() << 48) ^ (start / MINUTE).wrapping_mul(0x9e37_79b9),
            );
            for endpoint in service.endpoints {
                let expected = match endpoint.kind {
                    Kind::Nightly(minute) if minute == minute_of_day && part >= 1.0 => 14.0,
                    Kind::Nightly(_) => 0.0,
                    Kind::Http | Kind::Queue => endpoint.per_minute * course(minute_of_day) * part,
                };
                for _ in 0..about(expected, &mut random) {
                    // Live telemetry tells of what has just been; history of its whole minute.
                    let offset = if part < 1.0 { 0 } else { random.u64(0..MINUTE) };
                    let time = (start + offset).min(self.now) - 1_000_000_000;
                    // What the edge asks of fares and sailings, and the ramp of stowage, is told together with these.
                    let is_told = service.name == "gangway"
                        && (endpoint.route.contains("quotes") || endpoint.route == "/v1/sailings")
                        || service.name == "boarding" && random.u8(0..3) > 0;
                    if !is_told {
                        request(at, endpoint, (time, ago), &mut random, batches);
                    }
                }
            }
        }
    }
}

/// One request and what it asks of other services.
fn request(at: usize, endpoint: &Endpoint, (time, ago): (u64, i64), random: &mut fastrand::Rng, batches: &mut Batches) {
    let service = &SERVICES[at];
    let version = service.serving(ago, random);
    let failure = faults::of_request(service.name, endpoint, (version, ago), random);
    let runs = queries_of(service.name, endpoint, random);
    // Each run of a query takes its time: a list of every cabin one by one is what makes stowage slow.
    let millis = 20 + random.u64(0..180) + if runs > 1 { runs * 38 } else { 0 };
    let millis = millis * faults::slower(service.name, endpoint.route, version) / 10;
    let case = Case {
        trace: random.u128(1..),
        user: format!("u-{}", random.u32(1..3_000)),
        time,
        millis,
        ago,
        // The story's second half: only winter's fares divide by nothing.
        is_winter: random.f64() < WINTER
            || failure
                .as_ref()
                .is_some_and(|failure| failure.type_name == "decimal.DivisionByZero"),
    };
    let is_quote = service.name == "fares" && endpoint.route.contains("quotes");
    let is_list = service.name == "stowage" && endpoint.method == "GET";
    let is_day = service.name == "sailings" && endpoint.route == "/v1/sailings";
    let parent = if is_quote || is_list || is_day {
        random.u64(1..)
    } else {
        0
    };
    let failed = failure.as_ref().is_some_and(|failure| failure.uncaught);
    let batch = batches.entry((at, version)).or_default();
    let entry = tell(batch, (&case, parent), (service.name, endpoint), failure, random);
    if service.name == "boarding" && random.u8(0..2) == 0 {
        batch.spans.push(message(&case, entry, random));
    }
    for run in 0..runs {
        batch.spans.push(query(&case, entry, run, runs, random));
    }
    if is_list {
        called_from(
            batches,
            ("boarding", 0, "stowage.skerry.example"),
            (&case, parent),
            (failed, None),
            random,
        );
    }
    if is_day {
        called_from(
            batches,
            ("gangway", 1, "sailings.skerry.example"),
            (&case, parent),
            (failed, None),
            random,
        );
    }
    if is_quote {
        if !failed {
            asks(batches, (&case, entry), ("fares", "sailings", 1), random);
            asks(batches, (&case, entry), ("fares", "stowage", 0), random);
        }
        let edge = SERVICES
            .iter()
            .find(|service| service.name == "gangway")
            .map_or("", |service| service.version(ago));
        let failure = (failed && faults::is_story(ago)).then(|| faults::upstream(edge));
        called_from(
            batches,
            ("gangway", 0, "fares.skerry.example"),
            (&case, parent),
            (failed, failure),
            random,
        );
    }
}

/// A call that a request of one service makes to another with success, and the request that serves it there.
fn asks(
    batches: &mut Batches,
    (case, entry): (&Case, u64),
    (caller, callee, endpoint): (&str, &str, usize),
    random: &mut fastrand::Rng,
) {
    let place = |name: &str| {
        SERVICES
            .iter()
            .position(|service| service.name == name)
            .unwrap_or_default()
    };
    let (from, to) = (place(caller), place(callee));
    let asked = &SERVICES[to].endpoints[endpoint];
    let inner = Case {
        time: case.time + case.millis * 400_000,
        millis: (case.millis / 4).max(2),
        ..case.clone()
    };
    let call = random.u64(1..);
    let batch = batches.entry((from, SERVICES[from].version(case.ago))).or_default();
    batch.spans.push(Span {
        trace_id: case.trace.to_be_bytes().to_vec(),
        span_id: call.to_be_bytes().to_vec(),
        parent_span_id: entry.to_be_bytes().to_vec(),
        name: asked.method.to_owned(),
        kind: 3,
        start_time_unix_nano: inner.time - 300_000,
        end_time_unix_nano: inner.time + inner.millis * 1_000_000 + 300_000,
        attributes: vec![
            text("http.request.method", asked.method),
            text("server.address", format!("{callee}.skerry.example")),
            number("http.response.status_code", 200),
        ],
        ..whole()
    });
    let batch = batches.entry((to, SERVICES[to].version(case.ago))).or_default();
    tell(batch, (&inner, call), (callee, asked), None, random);
}

/// The request of another service that made a request: its entry span around it, and the call.
fn called_from(
    batches: &mut Batches,
    (caller, endpoint, address): (&str, usize, &str),
    (case, call): (&Case, u64),
    (failed, failure): (bool, Option<Failure>),
    random: &mut fastrand::Rng,
) {
    let at = SERVICES
        .iter()
        .position(|service| service.name == caller)
        .unwrap_or_default();
    let batch = batches.entry((at, SERVICES[at].version(case.ago))).or_default();
    let outer = Case {
        time: case.time.saturating_sub(3_000_000),
        millis: case.millis + 9,
        ..case.clone()
    };
    let asked = &SERVICES[at].endpoints[endpoint];
    // The ramp reads a list when it scans; the edge passes on what it was asked.
    let method = if caller == "boarding" { "GET" } else { asked.method };
    let entry = tell(batch, (&outer, 0), (caller, asked), failure, random);
    batch.spans.push(Span {
        trace_id: outer.trace.to_be_bytes().to_vec(),
        span_id: call.to_be_bytes().to_vec(),
        parent_span_id: entry.to_be_bytes().to_vec(),
        name: method.to_owned(),
        kind: 3,
        start_time_unix_nano: outer.time + 1_000_000,
        end_time_unix_nano: outer.time + (outer.millis - 2) * 1_000_000,
        attributes: vec![
            text("http.request.method", method),
            text("server.address", address),
            number("http.response.status_code", if failed { 500 } else { 200 }),
        ],
        status: failed.then(|| Status {
            code: 2,
            message: String::new(),
        }),
        ..whole()
    });
}

/// How many queries a request runs.
fn queries_of(service: &str, endpoint: &Endpoint, random: &mut fastrand::Rng) -> u64 {
    match service {
        "stowage" if endpoint.method == "GET" && random.u8(0..30) == 0 => random.u64(40..56),
        "stowage" | "sailings" => 1,
        _ => 0,
    }
}

/// A whole number around an expectation, as counts of independent requests scatter (Knuth, TAOCP 3.4.1).
fn about(expected: f64, random: &mut fastrand::Rng) -> u32 {
    let limit = (-expected).exp();
    let mut product = random.f64();
    let mut count = 0;
    while product > limit {
        count += 1;
        product *= random.f64();
    }
    count
}

fn nanos() -> u64 {
    let now = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default();
    u64::try_from(now.as_nanos()).unwrap_or(u64::MAX)
}

#[cfg(test)]
mod tests {
    use std::collections::{BTreeMap, BTreeSet};

    use super::*;

    /// An hour of the fleet, 12 to 13 h before now, without sending it.
    fn hour(seed: u64) -> Batches {
        let fleet = Fleet {
            sender: Sender::new("http://127.0.0.1:1", "none"),
            seed,
            now: 1_795_980_000_000_000_000,
        };
        let mut batches = Batches::new();
        for ago in 720..780 {
            fleet.minute(ago, 1.0, &mut batches);
        }
        batches
    }

    /// Spans of each trace, and the services that they are of.
    fn traces(batches: &Batches) -> BTreeMap<Vec<u8>, (Vec<&Span>, BTreeSet<usize>)> {
        let mut traces: BTreeMap<Vec<u8>, (Vec<&Span>, BTreeSet<usize>)> = BTreeMap::new();
        for ((service, _), batch) in batches {
            for span in &batch.spans {
                let (spans, services) = traces.entry(span.trace_id.clone()).or_default();
                spans.push(span);
                services.insert(*service);
            }
        }
        traces
    }

    #[test]
    fn every_span_but_the_root_lies_below_another_one_of_its_trace() {
        let batches = hour(7);
        for (spans, _) in traces(&batches).values() {
            let ids: BTreeSet<&[u8]> = spans.iter().map(|span| span.span_id.as_slice()).collect();
            let roots = spans.iter().filter(|span| span.parent_span_id.is_empty()).count();
            assert_eq!(roots, 1);
            for span in spans {
                assert!(
                    span.parent_span_id.is_empty() || ids.contains(span.parent_span_id.as_slice()),
                    "{span:?}"
                );
                assert!(span.start_time_unix_nano < span.end_time_unix_nano, "{span:?}");
            }
        }
    }

    #[test]
    fn quotes_go_through_four_services_with_caches_statements_and_calls() {
        let batches = hour(7);
        let deep = traces(&batches)
            .into_values()
            .filter(|(spans, services)| services.len() >= 4 && (15..=60).contains(&spans.len()))
            .count();
        assert!(deep > 50, "{deep}");
    }

    #[test]
    fn the_same_seed_makes_the_same_fleet() {
        let spans = |seed| -> Vec<Span> { hour(seed).into_values().flat_map(|batch| batch.spans).collect() };
        assert_eq!(spans(3), spans(3));
        assert_ne!(spans(3), spans(4));
    }
}
