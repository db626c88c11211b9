//! Occurrences per second, committed to disk: the service against one connection that does nothing but COPY.

use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::{Duration, Instant, SystemTime, UNIX_EPOCH};

use opentelemetry_proto::tonic::collector::trace::v1::ExportTraceServiceRequest;
use opentelemetry_proto::tonic::common::v1::{AnyValue, KeyValue, any_value};
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
/// The aim: the product's rows per second over the floor's.
const AIM: f64 = 0.6;

struct Measured {
    rate: f64,
    server_micros: f64,
    client_micros: f64,
}

pub async fn run(binary: &str, prefill: u64, rounds: usize, seconds: u64) {
    let postgres = Postgres::start(Durability::Durable);
    let floor_url = postgres.database();
    let mut floor = Floor::new(&floor_url).await;
    println!("reference table: {prefill} rows first");
    floor.fill(prefill).await;
    let service = Service::new(binary, postgres.database()).start().await;
    let number = Arc::new(AtomicU64::new(1));
    product(&postgres, &service, &number, 2).await;
    println!("fsync of one commit: {:.2} ms", floor.commit_millis().await);
    println!("{:<8} {:>10} {:>14} {:>14}", "", "rows/s", "database µs/row", "client µs/row");
    let mut ratios = vec![];
    for _ in 0..rounds {
        let of_floor = floor.measure(&postgres, seconds).await;
        print("floor", &of_floor);
        let of_product = product(&postgres, &service, &number, seconds).await;
        print("product", &of_product);
        ratios.push(of_product.rate / of_floor.rate);
    }
    ratios.sort_by(f64::total_cmp);
    let median = ratios[ratios.len() / 2];
    println!("ratio {median:.2} (median of {rounds}, {:.2} to {:.2}); aim {AIM}", ratios[0], ratios[ratios.len() - 1]);
    println!("the product's client µs/row are the service's; the senders' own come on top and share the cores");
}

fn print(name: &str, measured: &Measured) {
    println!("{name:<8} {:>10.0} {:>14.1} {:>14.1}", measured.rate, measured.server_micros, measured.client_micros);
}

/// One connection, binary COPY, the reference row: 660 bytes of jsonb, a time-ordered key, two indexes more.
struct Floor {
    connection: PgConnection,
    next: u64,
    json: Vec<u8>,
}

const HEADER: &[u8] = b"PGCOPY\n\xff\r\n\0\0\0\0\0\0\0\0\0";

impl Floor {
    async fn new(url: &str) -> Self {
        let mut connection = PgConnection::connect(url).await.expect("the database answers");
        for statement in [
            "CREATE TABLE reference (id uuid PRIMARY KEY, cause_id bigint NOT NULL, trace_id uuid NOT NULL, attributes jsonb NOT NULL)",
            "CREATE INDEX ON reference (cause_id, id)",
            "CREATE INDEX ON reference USING hash (trace_id)",
        ] {
            sqlx::query(statement).execute(&mut connection).await.expect("the reference table can be made");
        }
        let attributes: serde_json::Map<String, serde_json::Value> =
            (0..16).map(|at| (format!("skerry.attribute.{at:02}"), format!("value {at:016}").into())).collect();
        // jsonb's wire form is a version byte and the text.
        let json = [vec![1], serde_json::to_vec(&attributes).expect("a map encodes")].concat();
        Self { connection, next: 0, json }
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
            field(&mut bytes, &(u128::from(self.next) << 64 | u128::from(mixed)).to_be_bytes());
            field(&mut bytes, &(mixed % 500).to_be_bytes());
            field(&mut bytes, &(u128::from(mixed) << 64 | u128::from(self.next)).to_be_bytes());
            let json = std::mem::take(&mut self.json);
            field(&mut bytes, &json);
            self.json = json;
        }
        bytes.extend((-1_i16).to_be_bytes());
        let mut copy = self.connection.copy_in_raw("COPY reference FROM STDIN (FORMAT binary)").await.expect("COPY begins");
        copy.send(bytes).await.expect("COPY takes rows");
        copy.finish().await.expect("COPY commits");
    }

    async fn fill(&mut self, rows: u64) {
        while self.next < rows {
            self.batch().await;
        }
        sqlx::query("CHECKPOINT").execute(&mut self.connection).await.expect("a checkpoint");
    }

    /// What one commit of one row costs: the disk's answer.
    async fn commit_millis(&mut self) -> f64 {
        sqlx::query("CREATE TABLE one (n int)").execute(&mut self.connection).await.expect("a table");
        let start = Instant::now();
        for _ in 0..50 {
            sqlx::query(AssertSqlSafe("INSERT INTO one VALUES (1)")).execute(&mut self.connection).await.expect("a row");
        }
        start.elapsed().as_secs_f64() * 1_000.0 / 50.0
    }

    async fn measure(&mut self, postgres: &Postgres, seconds: u64) -> Measured {
        let before = (self.next, processor::micros(postgres.pid()), processor::micros(std::process::id()));
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

async fn product(postgres: &Postgres, service: &outcrop_testkit::Running, number: &Arc<AtomicU64>, seconds: u64) -> Measured {
    let before = (processor::micros(postgres.pid()), processor::micros(service.pid()));
    let start = Instant::now();
    let until = start + Duration::from_secs(seconds);
    let rows = Arc::new(AtomicU64::new(0));
    let senders: Vec<_> = (0..SENDERS)
        .map(|_| {
            let (number, rows) = (number.clone(), rows.clone());
            let url = format!("{}/v1/traces", service.url);
            let key = service.key.clone();
            tokio::spawn(async move {
                let http = reqwest::Client::new();
                while Instant::now() < until {
                    let body = request(number.fetch_add(1, Ordering::Relaxed), &Shape::NOW).encode_to_vec();
                    let sent = http.post(&url).bearer_auth(&key).header("content-type", "application/x-protobuf").body(body).send().await;
                    if sent.is_ok_and(|answer| answer.status() == 200) {
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
    format!("  File \"/srv/skerry/venv/lib/python3.11/site-packages/web/app.py\", line {at}, in call_{at}\n    return next(request)\n")
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
    pub const NOW: Self = Self { service: "fares", functions: 20, spread: Duration::ZERO, ago: Duration::ZERO };
}

/// A request of failing server spans, each of its own trace, with a stack of ten frames.
pub fn request(number: u64, shape: &Shape) -> ExportTraceServiceRequest {
    let nanos = |duration: Duration| u64::try_from(duration.as_nanos()).expect("before 2554");
    let sent = nanos(SystemTime::now().duration_since(UNIX_EPOCH).expect("past 1970"));
    let text = |key: &str, value: String| KeyValue {
        key: key.to_owned(),
        value: Some(AnyValue { value: Some(any_value::Value::StringValue(value)) }),
        ..KeyValue::default()
    };
    let spans = (0..PER_REQUEST)
        .map(|at| {
            let id = number * PER_REQUEST + at + 1;
            let back = nanos(shape.ago) + nanos(shape.spread) / PER_REQUEST * at;
            let now = sent - if shape.spread.is_zero() { back } else { back % nanos(shape.spread) };
            let function = format!("quote_{}", id % shape.functions);
            let below: String = (0..9).map(library_frame).collect();
            let stack = format!(
                "Traceback (most recent call last):\n{below}  File \"/srv/skerry/fares/tariff.py\", line 88, in {function}\n    \
                 return base / share\nZeroDivisionError: division by zero"
            );
            Span {
                trace_id: (u128::from(id.wrapping_mul(0x9e37_79b9_7f4a_7c15)) << 64 | u128::from(id)).to_be_bytes().to_vec(),
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
                status: Some(Status { code: 2, message: String::new() }),
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
    let of_scope = ScopeSpans { spans, ..ScopeSpans::default() };
    ExportTraceServiceRequest {
        resource_spans: vec![ResourceSpans { resource: Some(resource), scope_spans: vec![of_scope], ..ResourceSpans::default() }],
    }
}
