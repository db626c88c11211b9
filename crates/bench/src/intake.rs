//! Occurrences per second, committed to disk: the service against one connection that does nothing but COPY.

use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::{Duration, Instant, SystemTime, UNIX_EPOCH};

use opentelemetry_proto::tonic::collector::logs::v1::ExportLogsServiceRequest;
use opentelemetry_proto::tonic::collector::trace::v1::ExportTraceServiceRequest;
use opentelemetry_proto::tonic::common::v1::{AnyValue, KeyValue, any_value};
use opentelemetry_proto::tonic::logs::v1::{LogRecord, ResourceLogs, ScopeLogs};
use opentelemetry_proto::tonic::resource::v1::Resource;
use opentelemetry_proto::tonic::trace::v1::{ResourceSpans, ScopeSpans, Span, Status, span::Event};
use outcrop_testkit::{Durability, Postgres, Service};
use prost::Message;
use sqlx::{AssertSqlSafe, Connection, PgConnection};

use crate::processor;

/// Rows per transaction of the floor.
const FLOOR_BATCH: usize = 5_000;
/// Failing spans per request of the product, and senders at once.
pub const PER_REQUEST: u64 = 200;
const SENDERS: u64 = 16;

struct Measured {
    rate: f64,
    server_micros: f64,
    client_micros: f64,
}

/// What is sent.
#[derive(Clone, Copy, PartialEq, Eq, clap::ValueEnum)]
pub enum Load {
    /// Failing requests, each of its own trace.
    Failures,
    /// Ten spans a trace, none of which fails.
    Spans,
    /// Log lines of requests.
    Logs,
}

impl Load {
    /// The aim: the product's rows per second over the floor's.
    const fn aim(self) -> f64 {
        if matches!(self, Self::Failures) { 0.6 } else { 1.0 }
    }
}

pub struct Options {
    pub load: Load,
    /// OTLP/gRPC rather than OTLP/HTTP.
    pub grpc: bool,
    pub prefill: u64,
    pub rounds: usize,
    pub seconds: u64,
}

pub async fn run(binary: &str, options: Options) {
    let Options {
        load,
        grpc,
        prefill,
        rounds,
        seconds,
    } = options;
    let postgres = Postgres::start(Durability::Durable);
    let floor_url = postgres.database();
    let mut floor = Floor::new(&floor_url, load).await;
    println!("reference table: {prefill} rows first");
    floor.fill(prefill).await;
    let port = std::net::TcpListener::bind("127.0.0.1:0")
        .and_then(|free| free.local_addr())
        .expect("a free port")
        .port();
    let service = Service::new(binary, postgres.database())
        .start_with(&["--otlp-grpc", &format!("127.0.0.1:{port}")])
        .await;
    let url = if grpc {
        format!("http://127.0.0.1:{port}")
    } else {
        service.url.clone()
    };
    let way = Way { load, grpc, url };
    let number = Arc::new(AtomicU64::new(1));
    product(&postgres, &service, &way, &number, 2).await;
    println!("fsync of one commit: {:.2} ms", floor.commit_millis().await);
    println!(
        "{:<8} {:>10} {:>14} {:>14}",
        "", "rows/s", "database µs/row", "client µs/row"
    );
    let mut ratios = vec![];
    for _ in 0..rounds {
        let of_floor = floor.measure(&postgres, seconds).await;
        print("floor", &of_floor);
        let of_product = product(&postgres, &service, &way, &number, seconds).await;
        print("product", &of_product);
        ratios.push(of_product.rate / of_floor.rate);
    }
    ratios.sort_by(f64::total_cmp);
    let median = ratios[ratios.len() / 2];
    println!(
        "ratio {median:.2} (median of {rounds}, {:.2} to {:.2}); aim {}",
        ratios[0],
        ratios[ratios.len() - 1],
        load.aim()
    );
    println!("the product's client µs/row are the service's; the senders' own come on top and share the cores");
}

fn print(name: &str, measured: &Measured) {
    println!(
        "{name:<8} {:>10.0} {:>14.1} {:>14.1}",
        measured.rate, measured.server_micros, measured.client_micros
    );
}

/// One connection, binary COPY, the reference row: 660 bytes of jsonb, a time-ordered key, two indexes more.
struct Floor {
    connection: PgConnection,
    next: u64,
    json: Vec<u8>,
}

const HEADER: &[u8] = b"PGCOPY\n\xff\r\n\0\0\0\0\0\0\0\0\0";

impl Floor {
    async fn new(url: &str, load: Load) -> Self {
        let mut connection = PgConnection::connect(url).await.expect("the database answers");
        // Of spans and lines: a row each of 260 bytes of jsonb, found by its trace alone.
        let statements: &[&str] = if load == Load::Failures {
            &[
                "CREATE TABLE reference (id uuid PRIMARY KEY, cause_id bigint NOT NULL, trace_id uuid NOT NULL, \
                 attributes jsonb NOT NULL)",
                "CREATE INDEX ON reference (cause_id, id)",
                "CREATE INDEX ON reference USING hash (trace_id)",
            ]
        } else {
            &[
                "CREATE TABLE reference (id uuid NOT NULL, cause_id bigint NOT NULL, trace_id uuid NOT NULL, \
                 attributes jsonb NOT NULL)",
                "CREATE INDEX ON reference USING hash (trace_id)",
            ]
        };
        for statement in statements.iter().copied() {
            sqlx::query(statement)
                .execute(&mut connection)
                .await
                .expect("the reference table can be made");
        }
        let attributes: serde_json::Map<String, serde_json::Value> = (0..if load == Load::Failures { 16 } else { 6 })
            .map(|at| (format!("skerry.attribute.{at:02}"), format!("value {at:016}").into()))
            .collect();
        // jsonb's wire form is a version byte and the text.
        let json = [vec![1], serde_json::to_vec(&attributes).expect("a map encodes")].concat();
        Self {
            connection,
            next: 0,
            json,
        }
    }

    async fn batch(&mut self) {
        let mut bytes = HEADER.to_vec();
        let field = |bytes: &mut Vec<u8>, content: &[u8]| {
            bytes.extend(i32::try_from(content.len()).expect("small").to_be_bytes());
            bytes.extend_from_slice(content);
        };
        for _ in 0..FLOOR_BATCH {
            self.next += 1;
            let mixed = self.next.wrapping_mul(0x9e37_79b9_7f4a_7c15);
            bytes.extend(4_i16.to_be_bytes());
            field(
                &mut bytes,
                &(u128::from(self.next) << 64 | u128::from(mixed)).to_be_bytes(),
            );
            field(&mut bytes, &(mixed % 500).to_be_bytes());
            field(
                &mut bytes,
                &(u128::from(mixed) << 64 | u128::from(self.next)).to_be_bytes(),
            );
            let json = std::mem::take(&mut self.json);
            field(&mut bytes, &json);
            self.json = json;
        }
        bytes.extend((-1_i16).to_be_bytes());
        let mut copy = self
            .connection
            .copy_in_raw("COPY reference FROM STDIN (FORMAT binary)")
            .await
            .expect("COPY begins");
        copy.send(bytes).await.expect("COPY takes rows");
        copy.finish().await.expect("COPY commits");
    }

    async fn fill(&mut self, rows: u64) {
        while self.next < rows {
            self.batch().await;
        }
        sqlx::query("CHECKPOINT")
            .execute(&mut self.connection)
            .await
            .expect("a checkpoint");
    }

    /// What one commit of one row costs: the disk's answer.
    async fn commit_millis(&mut self) -> f64 {
        sqlx::query("CREATE TABLE one (n int)")
            .execute(&mut self.connection)
            .await
            .expect("a table");
        let start = Instant::now();
        for _ in 0..50 {
            sqlx::query(AssertSqlSafe("INSERT INTO one VALUES (1)"))
                .execute(&mut self.connection)
                .await
                .expect("a row");
        }
        start.elapsed().as_secs_f64() * 1_000.0 / 50.0
    }

    async fn measure(&mut self, postgres: &Postgres, seconds: u64) -> Measured {
        let before = (
            self.next,
            processor::micros(postgres.pid()),
            processor::micros(std::process::id()),
        );
        let start = Instant::now();
        while start.elapsed() < Duration::from_secs(seconds) {
            self.batch().await;
        }
        let rows = (self.next - before.0) as f64;
        Measured {
            rate: rows / start.elapsed().as_secs_f64(),
            server_micros: (processor::micros(postgres.pid()) - before.1) / rows,
            client_micros: (processor::micros(std::process::id()) - before.2) / rows,
        }
    }
}

/// How and where it is sent.
#[derive(Clone)]
struct Way {
    load: Load,
    grpc: bool,
    url: String,
}

impl Way {
    fn path(&self) -> &'static str {
        match (self.grpc, self.load) {
            (false, Load::Logs) => "/v1/logs",
            (false, _) => "/v1/traces",
            (true, Load::Logs) => "/opentelemetry.proto.collector.logs.v1.LogsService/Export",
            (true, _) => "/opentelemetry.proto.collector.trace.v1.TraceService/Export",
        }
    }

    fn body(&self, number: u64) -> Vec<u8> {
        let message = match self.load {
            Load::Failures => request(number, &Shape::NOW).encode_to_vec(),
            Load::Spans => spans(number).encode_to_vec(),
            Load::Logs => lines(number).encode_to_vec(),
        };
        if !self.grpc {
            return message;
        }
        // A message of gRPC: not compressed, its length, the message.
        let length = u32::try_from(message.len()).expect("small").to_be_bytes();
        [&[0], length.as_slice(), &message].concat()
    }
}

async fn product(
    postgres: &Postgres,
    service: &outcrop_testkit::Running,
    way: &Way,
    number: &Arc<AtomicU64>,
    seconds: u64,
) -> Measured {
    let before = (processor::micros(postgres.pid()), processor::micros(service.pid()));
    let start = Instant::now();
    let until = start + Duration::from_secs(seconds);
    let rows = Arc::new(AtomicU64::new(0));
    let senders: Vec<_> = (0..SENDERS)
        .map(|_| {
            let (number, rows) = (number.clone(), rows.clone());
            let (way, key) = (way.clone(), service.key.clone());
            tokio::spawn(async move {
                let http = if way.grpc {
                    reqwest::Client::builder()
                        .http2_prior_knowledge()
                        .build()
                        .expect("a client")
                } else {
                    reqwest::Client::new()
                };
                let url = format!("{}{}", way.url, way.path());
                let content = if way.grpc {
                    "application/grpc"
                } else {
                    "application/x-protobuf"
                };
                while Instant::now() < until {
                    let body = way.body(number.fetch_add(1, Ordering::Relaxed));
                    let sent = http
                        .post(&url)
                        .bearer_auth(&key)
                        .header("content-type", content)
                        .header("te", "trailers")
                        .body(body)
                        .send()
                        .await;
                    // A refusal over gRPC stands in the header of an answer without a body.
                    if sent.is_ok_and(|answer| {
                        answer.status() == 200 && answer.headers().get("grpc-status").is_none_or(|status| status == "0")
                    }) {
                        rows.fetch_add(PER_REQUEST, Ordering::Relaxed);
                    }
                }
            })
        })
        .collect();
    for sender in senders {
        sender.await.expect("a sender ends");
    }
    let rows = rows.load(Ordering::Relaxed) as f64;
    Measured {
        rate: rows / start.elapsed().as_secs_f64(),
        server_micros: (processor::micros(postgres.pid()) - before.0) / rows,
        client_micros: (processor::micros(service.pid()) - before.1) / rows,
    }
}

fn library_frame(at: u32) -> String {
    format!(
        "  File \"/srv/skerry/venv/lib/python3.11/site-packages/web/app.py\", line {at}, in call_{at}\n    return \
         next(request)\n"
    )
}

/// What a request of the benchmarks holds.
pub struct Shape {
    pub service: &'static str,
    /// Functions that fail: as many errors.
    pub functions: u64,
    /// How far its spans lie apart, together; they wrap around within it.
    pub spread: Duration,
    /// How long ago its last span was.
    pub ago: Duration,
}

impl Shape {
    pub const NOW: Self = Self {
        service: "fares",
        functions: 20,
        spread: Duration::ZERO,
        ago: Duration::ZERO,
    };
}

/// A request of failing server spans, each of its own trace, with a stack of ten frames.
pub fn request(number: u64, shape: &Shape) -> ExportTraceServiceRequest {
    let nanos = |duration: Duration| u64::try_from(duration.as_nanos()).expect("before 2554");
    let sent = nanos(SystemTime::now().duration_since(UNIX_EPOCH).expect("past 1970"));
    let text = |key: &str, value: String| KeyValue {
        key: key.to_owned(),
        value: Some(AnyValue {
            value: Some(any_value::Value::StringValue(value)),
        }),
        ..KeyValue::default()
    };
    let spans = (0..PER_REQUEST)
        .map(|at| {
            let id = number * PER_REQUEST + at + 1;
            let back = nanos(shape.ago) + nanos(shape.spread) / PER_REQUEST * at;
            let now = sent
                - if shape.spread.is_zero() {
                    back
                } else {
                    back % nanos(shape.spread)
                };
            let function = format!("quote_{}", id % shape.functions);
            let below: String = (0..9).map(library_frame).collect();
            let stack = format!(
                "Traceback (most recent call last):\n{below}  File \"/srv/skerry/fares/tariff.py\", line 88, in \
                 {function}\n    \
                 return base / share\nZeroDivisionError: division by zero"
            );
            Span {
                trace_id: (u128::from(id.wrapping_mul(0x9e37_79b9_7f4a_7c15)) << 64 | u128::from(id))
                    .to_be_bytes()
                    .to_vec(),
                span_id: id.to_be_bytes().to_vec(),
                name: "GET /v1/quotes/{sailing}".to_owned(),
                kind: 2,
                start_time_unix_nano: now - 5_000_000,
                end_time_unix_nano: now,
                attributes: vec![
                    text("http.request.method", "GET".to_owned()),
                    text("http.route", "/v1/quotes/{sailing}".to_owned()),
                    text("url.path", format!("/v1/quotes/{id}")),
                    text("user.id", format!("u-{}", id % 5_000)),
                    text("client.address", "203.0.113.7".to_owned()),
                    text("user_agent.original", "Skerry ticket machine 4.1 (ramp)".to_owned()),
                ],
                events: vec![Event {
                    name: "exception".to_owned(),
                    time_unix_nano: now,
                    attributes: vec![
                        text("exception.type", "ZeroDivisionError".to_owned()),
                        text("exception.message", "division by zero".to_owned()),
                        text("exception.stacktrace", stack),
                    ],
                    ..Event::default()
                }],
                status: Some(Status {
                    code: 2,
                    message: String::new(),
                }),
                ..Span::default()
            }
        })
        .collect();
    let resource = Resource {
        attributes: vec![
            text("service.name", shape.service.to_owned()),
            text("service.version", "2.4.0".to_owned()),
            text("deployment.environment.name", "production".to_owned()),
            text("service.instance.id", "fares-1.pier-3".to_owned()),
        ],
        ..Resource::default()
    };
    let of_scope = ScopeSpans {
        spans,
        ..ScopeSpans::default()
    };
    ExportTraceServiceRequest {
        resource_spans: vec![ResourceSpans {
            resource: Some(resource),
            scope_spans: vec![of_scope],
            ..ResourceSpans::default()
        }],
    }
}

fn resource() -> Resource {
    let text = |key: &str, value: &str| KeyValue {
        key: key.to_owned(),
        value: Some(AnyValue {
            value: Some(any_value::Value::StringValue(value.to_owned())),
        }),
        ..KeyValue::default()
    };
    Resource {
        attributes: vec![
            text("service.name", "fares"),
            text("service.version", "2.4.0"),
            text("deployment.environment.name", "production"),
            text("service.instance.id", "fares-1.pier-3"),
        ],
        ..Resource::default()
    }
}

pub fn said(key: &str, value: String) -> KeyValue {
    KeyValue {
        key: key.to_owned(),
        value: Some(AnyValue {
            value: Some(any_value::Value::StringValue(value)),
        }),
        ..KeyValue::default()
    }
}

fn nanos_now() -> u64 {
    u64::try_from(
        SystemTime::now()
            .duration_since(UNIX_EPOCH)
            .expect("past 1970")
            .as_nanos(),
    )
    .expect("before 2554")
}

fn trace_of(id: u64) -> Vec<u8> {
    (u128::from(id.wrapping_mul(0x9e37_79b9_7f4a_7c15)) << 64 | u128::from(id))
        .to_be_bytes()
        .to_vec()
}

/// Spans a trace of [`spans`].
const PER_TRACE: u64 = 10;

/// Requests that succeed: an entry span and nine queries below it each.
fn spans(number: u64) -> ExportTraceServiceRequest {
    let now = nanos_now();
    let spans = (0..PER_REQUEST)
        .map(|at| {
            let id = number * PER_REQUEST + at + 1;
            let entry = id - at % PER_TRACE;
            let is_entry = at % PER_TRACE == 0;
            let attributes = if is_entry {
                vec![
                    said("http.request.method", "GET".to_owned()),
                    said("http.route", "/v1/quotes/{sailing}".to_owned()),
                    said("url.path", format!("/v1/quotes/{id}")),
                    said("user.id", format!("u-{}", id % 5_000)),
                ]
            } else {
                vec![
                    said("db.system.name", "postgresql".to_owned()),
                    said("db.namespace", "tariffs".to_owned()),
                    said(
                        "db.query.text",
                        format!("SELECT rate FROM tariff WHERE id = {id} AND day = $1"),
                    ),
                    said("server.address", "pier-3.skerry.example".to_owned()),
                ]
            };
            Span {
                trace_id: trace_of(entry),
                span_id: id.to_be_bytes().to_vec(),
                parent_span_id: if is_entry { vec![] } else { entry.to_be_bytes().to_vec() },
                name: if is_entry {
                    "GET /v1/quotes/{sailing}"
                } else {
                    "SELECT tariff"
                }
                .to_owned(),
                kind: if is_entry { 2 } else { 3 },
                start_time_unix_nano: now - 5_000_000 + at * 1_000,
                end_time_unix_nano: now - at * 1_000,
                attributes,
                ..Span::default()
            }
        })
        .collect();
    let of_scope = ScopeSpans {
        spans,
        ..ScopeSpans::default()
    };
    ExportTraceServiceRequest {
        resource_spans: vec![ResourceSpans {
            resource: Some(resource()),
            scope_spans: vec![of_scope],
            ..ResourceSpans::default()
        }],
    }
}

/// Log lines of requests.
fn lines(number: u64) -> ExportLogsServiceRequest {
    let now = nanos_now();
    let records = (0..PER_REQUEST)
        .map(|at| {
            let id = number * PER_REQUEST + at + 1;
            LogRecord {
                time_unix_nano: now - at * 1_000,
                severity_number: 9,
                severity_text: "INFO".to_owned(),
                body: Some(AnyValue {
                    value: Some(any_value::Value::StringValue(format!(
                        "quote for sailing {id}: {} metres of deck",
                        id % 19
                    ))),
                }),
                attributes: vec![
                    said("user.id", format!("u-{}", id % 5_000)),
                    said("code.function.name", "quote".to_owned()),
                ],
                trace_id: trace_of(id),
                span_id: id.to_be_bytes().to_vec(),
                ..LogRecord::default()
            }
        })
        .collect();
    let of_scope = ScopeLogs {
        log_records: records,
        ..ScopeLogs::default()
    };
    ExportLogsServiceRequest {
        resource_logs: vec![ResourceLogs {
            resource: Some(resource()),
            scope_logs: vec![of_scope],
            ..ResourceLogs::default()
        }],
    }
}
