//! Reading among many stored spans: one trace, a week of endpoints, who calls whom.

use std::time::{Duration, Instant, SystemTime, UNIX_EPOCH};

use opentelemetry_proto::tonic::collector::trace::v1::ExportTraceServiceRequest;
use opentelemetry_proto::tonic::resource::v1::Resource;
use opentelemetry_proto::tonic::trace::v1::{ResourceSpans, ScopeSpans, Span, Status};
use outcrop_testkit::{Browser, Durability, PASSWORD, Postgres, Running, Service};
use prost::Message;
use sqlx::{AssertSqlSafe, Connection, PgConnection};

use crate::query::{READS, WARM_UP, millis, print};
use crate::requests::said;

const AIM_MS: f64 = 50.0;
/// Services and endpoints of each: 500 endpoints.
const SERVICES: u64 = 50;
const ENDPOINTS: u64 = 10;
/// Requests sent to each endpoint, over the last hour.
const REQUESTS: u64 = 60;
/// Spans of the trace that is read, and of each of the others.
const LONG: u64 = 1_000;
const PER_TRACE: u64 = 10;
/// Spans of the trace whose page is opened.
const WIDE: u64 = 10_000;
/// The days over which what is kept lies.
const DAYS: i64 = 7;

pub async fn run(binary: &str, spans: u64) {
    let postgres = Postgres::start(Durability::Volatile);
    let url = postgres.database();
    let service = Service::new(binary, url.clone()).start().await;
    let mut connection = PgConnection::connect(&url).await.expect("the database answers");
    fill(&service).await;
    let long = long_trace(&service, 9_999_999, LONG).await;
    println!("copying what was sent over {DAYS} days, and to {spans} spans");
    copy_counts(&mut connection).await;
    let stored = copy_spans(&mut connection, spans).await;
    sqlx::raw_sql("VACUUM ANALYZE")
        .execute(&mut connection)
        .await
        .expect("statistics are made");
    let (endpoints, hours): (i64, i64) =
        sqlx::query_as("SELECT (SELECT count(*) FROM endpoint), (SELECT count(*) FROM traffic_hour)")
            .fetch_one(&mut connection)
            .await
            .expect("counts");
    println!(
        "{stored} spans stored; {endpoints} endpoints, {hours} of their hours; median and 95th percentile of {READS} \
         reads, ms"
    );

    let mut floors = vec![];
    for _ in 0..READS {
        let start = Instant::now();
        sqlx::query("SELECT endpoint_id, sum(requests), sum(failed) FROM traffic_hour GROUP BY 1")
            .fetch_all(&mut connection)
            .await
            .expect("the floor's query runs");
        floors.push(millis(start));
    }
    let floor = print("floor: summing their hours in SQL", &mut floors, None);
    for (name, path) in [
        (format!("trace of {LONG} spans"), format!("/api/v1/traces/{long}")),
        (
            "endpoints, 7 days".to_owned(),
            "/api/v1/endpoints?since=7d&limit=500".to_owned(),
        ),
        (
            "endpoints, 24 h".to_owned(),
            "/api/v1/endpoints?since=24h&limit=500".to_owned(),
        ),
        ("calls, 24 h".to_owned(), "/api/v1/calls?since=24h".to_owned()),
        ("calls, 7 days".to_owned(), "/api/v1/calls?since=7d".to_owned()),
        ("statements, 24 h".to_owned(), "/api/v1/statements?since=24h".to_owned()),
    ] {
        for _ in 0..WARM_UP / 4 {
            service.get(&path).await;
        }
        let mut reads = vec![];
        for _ in 0..READS {
            let start = Instant::now();
            let (status, answer) = service.get(&path).await;
            reads.push(millis(start));
            assert_eq!(status, 200, "{path}: {answer}");
        }
        let median = print(&name, &mut reads, Some(AIM_MS));
        println!("{:<36} {:>8.2} of the floor", "", median / floor);
    }
    page(&service).await;
}

/// The page of a trace of 10,000 spans, from an empty cache until its first row stands there, and
/// the longest and the median frame while it scrolls from end to end.
async fn page(service: &Running) {
    let id = long_trace(service, 9_999_998, WIDE).await;
    let browser = Browser::start(1280, 800, "light").await;
    browser.open(&format!("{}/errors", service.url)).await;
    browser.sign_in(&service.email, PASSWORD).await;
    browser.find("nav[aria-label=Pages]").await;
    let mut loads = vec![];
    for _ in 0..5 {
        browser.driver.goto("about:blank").await.expect("an empty page");
        browser
            .driver
            .cdp()
            .send_raw("Network.clearBrowserCache", serde_json::json!({}))
            .await
            .expect("the cache can be emptied");
        let start = Instant::now();
        browser.open(&format!("{}/traces/{id}", service.url)).await;
        browser.find("[role=listbox] [role=option]").await;
        loads.push(millis(start));
    }
    print(&format!("page of {WIDE} spans, cold, first row"), &mut loads, None);
    let script = "const done = arguments[arguments.length - 1]; const box = document.querySelector('[role=listbox]'); \
        const times = []; let last = performance.now(); let at = 0; \
        const step = (now) => { times.push(now - last); last = now; at += 1; box.scrollTop = (box.scrollHeight * at) \
        / 240; at < 240 ? requestAnimationFrame(step) : done(times.slice(1)); }; requestAnimationFrame(step);";
    let frames = browser
        .driver
        .execute_async(script, vec![])
        .await
        .expect("the page scrolls");
    let mut frames: Vec<f64> = frames
        .json()
        .as_array()
        .into_iter()
        .flatten()
        .filter_map(serde_json::Value::as_f64)
        .collect();
    print("frames while scrolling through it", &mut frames, None);
    println!(
        "{:<36} {:>8.1} the longest",
        "",
        frames.last().copied().unwrap_or_default()
    );
}

fn nanos(back: Duration) -> u64 {
    let now = SystemTime::now().duration_since(UNIX_EPOCH).expect("past 1970");
    u64::try_from(now.saturating_sub(back).as_nanos()).expect("before 2554")
}

fn name(service: u64) -> String {
    format!("harbour-{service:02}")
}

fn request(service: u64, spans: Vec<Span>) -> ExportTraceServiceRequest {
    let attributes = vec![
        said("service.name", name(service)),
        said("service.version", "2.4.0".to_owned()),
        said("deployment.environment.name", "production".to_owned()),
        said("service.instance.id", format!("{}-1.pier-3", name(service))),
    ];
    let resource = Resource {
        attributes,
        ..Resource::default()
    };
    let of_scope = ScopeSpans {
        spans,
        ..ScopeSpans::default()
    };
    let of_resource = ResourceSpans {
        resource: Some(resource),
        scope_spans: vec![of_scope],
        ..ResourceSpans::default()
    };
    ExportTraceServiceRequest {
        resource_spans: vec![of_resource],
    }
}

/// A request to an endpoint: an entry span, queries and a call of the next service below it.
fn spans_of(trace: u64, service: u64, endpoint: u64, count: u64, back: Duration) -> Vec<Span> {
    let start = nanos(back);
    let took = 5_000_000 + trace % 40 * 1_000_000;
    let status = match trace % 25 {
        0 => "500",
        1 => "404",
        _ => "200",
    };
    (0..count)
        .map(|at| {
            let id = trace * 10_000 + at + 1;
            let (kind, name, mut attributes) = match at {
                0 => (
                    2,
                    format!("GET /v1/piers/{endpoint}/{{berth}}"),
                    vec![said("http.route", format!("/v1/piers/{endpoint}/{{berth}}"))],
                ),
                1 => {
                    let next = name((service + 1) % SERVICES);
                    (
                        3,
                        "GET".to_owned(),
                        vec![said("server.address", format!("{next}.skerry.example"))],
                    )
                }
                _ => {
                    let text = format!("SELECT berth FROM pier_{} WHERE id = {id}", at % 5);
                    (
                        3,
                        "SELECT pier".to_owned(),
                        vec![
                            said("db.system.name", "postgresql".to_owned()),
                            said("db.query.text", text),
                        ],
                    )
                }
            };
            if at < 2 {
                attributes.push(said("http.request.method", "GET".to_owned()));
                attributes.push(said("http.response.status_code", status.to_owned()));
            }
            Span {
                trace_id: (u128::from(trace.wrapping_mul(0x9e37_79b9_7f4a_7c15)) << 64 | u128::from(trace))
                    .to_be_bytes()
                    .to_vec(),
                span_id: id.to_be_bytes().to_vec(),
                parent_span_id: if at == 0 {
                    vec![]
                } else {
                    (trace * 10_000 + 1).to_be_bytes().to_vec()
                },
                name,
                kind,
                start_time_unix_nano: start + took / count * at,
                end_time_unix_nano: if at == 0 {
                    start + took
                } else {
                    start + took / count * (at + 1)
                },
                attributes,
                status: (at == 0 && status == "500").then(|| Status {
                    code: 2,
                    message: String::new(),
                }),
                ..Span::default()
            }
        })
        .collect()
}

async fn send(service: &Running, body: ExportTraceServiceRequest) {
    let post = service
        .post("/v1/traces")
        .header("content-type", "application/x-protobuf")
        .body(body.encode_to_vec());
    let answer = post.send().await.expect("the service answers");
    assert_eq!(answer.status(), 200);
}

/// Requests of the last hour to all endpoints, and one in each day before, so that its partitions are there.
async fn fill(service: &Running) {
    let mut trace = 1;
    for day in 1..=DAYS.unsigned_abs() {
        trace += 1;
        send(
            service,
            request(0, spans_of(trace, 0, 0, PER_TRACE, Duration::from_secs(day * 86_400))),
        )
        .await;
    }
    for of in 0..SERVICES {
        for endpoint in 0..ENDPOINTS {
            let mut spans = vec![];
            for at in 0..REQUESTS {
                trace += 1;
                spans.extend(spans_of(trace, of, endpoint, PER_TRACE, Duration::from_secs(at * 60)));
            }
            send(service, request(of, spans)).await;
        }
    }
    while service.service().row("SELECT count(*)::text FROM latency_part").await != [Some("0".to_owned())] {
        tokio::time::sleep(Duration::from_millis(200)).await;
    }
}

async fn long_trace(service: &Running, number: u64, count: u64) -> String {
    let spans = spans_of(number, 3, 1, count, Duration::from_mins(1));
    let id = u128::from_be_bytes(spans[0].trace_id.as_slice().try_into().expect("16 bytes"));
    send(service, request(3, spans)).await;
    format!("{id:032x}")
}

/// The counts of the last hours again in every hour before, as a service of a week has them.
async fn copy_counts(connection: &mut PgConnection) {
    let hours = DAYS * 24;
    let statements = [
        format!(
            "INSERT INTO traffic_hour SELECT t.hour - h * interval '1 hour', service_id, endpoint_id, environment_id, \
             version_id, requests, failed \
             FROM traffic_hour t, generate_series(2, {hours}) h WHERE t.hour = date_trunc('hour', now() - interval '1 \
             hour') ON CONFLICT DO NOTHING"
        ),
        format!(
            "INSERT INTO status_hour SELECT t.hour - h * interval '1 hour', service_id, endpoint_id, environment_id, \
             version_id, status, n, kept \
             FROM status_hour t, generate_series(2, {hours}) h WHERE t.hour = date_trunc('hour', now() - interval '1 \
             hour') ON CONFLICT DO NOTHING"
        ),
        "INSERT INTO latency_hour SELECT t.hour - h * interval '1 hour', service_id, endpoint_id, environment_id, \
         version_id, sketch \
             FROM latency_hour t, generate_series(2, 48) h WHERE t.hour = date_trunc('hour', now() - interval '1 \
             hour') ON CONFLICT DO NOTHING"
            .to_owned(),
        format!(
            "INSERT INTO latency_day SELECT t.hour - d * interval '1 day', service_id, endpoint_id, environment_id, \
             version_id, sketch \
             FROM latency_day t, generate_series(1, {DAYS}) d WHERE t.hour = (SELECT max(hour) FROM latency_day) ON \
             CONFLICT DO NOTHING"
        ),
        format!(
            "INSERT INTO called_hour SELECT t.hour - h * interval '1 hour', called_id, environment_id, version_id, n, \
             failed, total_us, longest_us \
             FROM called_hour t, generate_series(2, {}) h WHERE t.hour = date_trunc('hour', now() - interval '1 \
             hour') ON CONFLICT DO NOTHING",
            2 * hours
        ),
    ];
    let days = [
        (
            "traffic",
            "service_id, endpoint_id, environment_id, version_id",
            "sum(requests), sum(failed)",
        ),
        (
            "status",
            "service_id, endpoint_id, environment_id, version_id, status",
            "sum(n), sum(kept)",
        ),
        (
            "called",
            "called_id, environment_id, version_id",
            "sum(n), sum(failed), sum(total_us), max(longest_us)",
        ),
    ];
    let days = days.map(|(name, key, sums)| {
        format!(
            "INSERT INTO {name}_day SELECT date_trunc('day', hour, 'UTC'), {key}, {sums} FROM {name}_hour GROUP \
            BY date_trunc('day', hour, 'UTC'), {key} ON CONFLICT DO NOTHING"
        )
    });
    for statement in statements.into_iter().chain(days) {
        sqlx::query(AssertSqlSafe(statement.clone()))
            .execute(&mut *connection)
            .await
            .unwrap_or_else(|error| panic!("{statement}: {error}"));
    }
}

/// The chunks that were sent again under other traces: a fifth in the hot tables, the rest kept over the days.
async fn copy_spans(connection: &mut PgConnection, spans: u64) -> i64 {
    let (hot,): (String,) = sqlx::query_as(
        "SELECT 'hot_' || to_char(max(begins) FILTER (WHERE begins <= now()) AT TIME ZONE 'UTC', 'YYYYMMDDHH24MI') \
         FROM hot_table",
    )
    .fetch_one(&mut *connection)
    .await
    .expect("a hot table");
    let chunks = i64::try_from(spans / PER_TRACE).expect("few");
    let columns = "gen_random_uuid(), service_id, received_at, first_at, last_at, marks, spans, body";
    let few = format!("(SELECT * FROM {hot} WHERE spans = {PER_TRACE} LIMIT 1000) of_few");
    for _ in 0..chunks / 5 / 100_000 {
        let statement = format!("INSERT INTO {hot} SELECT {columns} FROM {few}, generate_series(1, 100)");
        sqlx::query(AssertSqlSafe(statement))
            .execute(&mut *connection)
            .await
            .expect("chunks can be copied");
    }
    let back = columns.replace("received_at", &format!("received_at - (g % {DAYS}) * interval '1 day'"));
    for _ in 0..chunks * 4 / 5 / 100_000 {
        let statement = format!("INSERT INTO kept_chunk SELECT {back} FROM {few}, generate_series(1, 100) g");
        sqlx::query(AssertSqlSafe(statement))
            .execute(&mut *connection)
            .await
            .expect("chunks can be copied");
    }
    let (stored,): (i64,) = sqlx::query_as(AssertSqlSafe(format!(
        "SELECT coalesce((SELECT sum(spans) FROM {hot}), 0) + coalesce((SELECT sum(spans) FROM kept_chunk), 0)"
    )))
    .fetch_one(connection)
    .await
    .expect("a sum");
    stored
}
