//! Reading, at a given number of stored occurrences: the list's API, against counting the
//! occurrences on each read, and the page.

use std::time::{Duration, Instant};

use opentelemetry_proto::tonic::collector::trace::v1::ExportTraceServiceRequest;
use outcrop_testkit::{Browser, Durability, PASSWORD, Postgres, Running, Service};
use prost::Message;
use sqlx::{Connection, PgConnection};

use crate::requests::{PER_REQUEST, Shape, request};

/// The aims: the list's API, the page from a cold load, what stands out.
const API_AIM_MS: f64 = 30.0;
const PAGE_AIM_MS: f64 = 1_000.0;
const STANDS_OUT_AIM_MS: f64 = 1_000.0;
/// The aim for a year of tallies of one error.
const YEAR_AIM_MS: f64 = 20.0;
/// The days the occurrences lie in.
const DAYS: u64 = 6;
/// Reads before each figure.
pub const WARM_UP: usize = 100;
/// Reads per figure.
pub const READS: usize = 60;

/// What the list would ask if nothing were folded: the floor.
const WALK: &str = "SELECT cause.error_id, count(*), count(DISTINCT occurrence.user_hash), array_agg(DISTINCT \
    occurrence.endpoint_id) \
                    FROM occurrence JOIN cause ON cause.id = occurrence.cause_id GROUP BY 1";

/// The same occurrences again at the same times, with ids of their own.
const COPY: &str = "INSERT INTO occurrence (id, service_id, cause_id, environment_id, version_id, endpoint_id, \
    trace_id, span_id, resource, stack, \
    user_hash, uncaught, severity, received_at, type, message, attributes) \
    SELECT (left(id::text, 13) || substr(gen_random_uuid()::text, 14))::uuid, service_id, cause_id, environment_id, \
    version_id, endpoint_id, \
    gen_random_uuid(), span_id, resource, stack, user_hash, uncaught, severity, received_at, type, message, attributes \
    FROM occurrence, generate_series(1, $1)";

pub async fn run(binary: &str, occurrences: u64, errors: u64, copies: u64) {
    let postgres = Postgres::start(Durability::Volatile);
    let url = postgres.database();
    let service = Service::new(binary, url.clone()).start().await;
    fill(&service, occurrences, errors).await;
    let mut connection = PgConnection::connect(&url).await.expect("the database answers");
    if copies > 0 {
        sqlx::query(COPY)
            .bind(i64::try_from(copies).expect("few"))
            .execute(&mut connection)
            .await
            .expect("rows can be copied");
    }
    sqlx::raw_sql("VACUUM ANALYZE")
        .execute(&mut connection)
        .await
        .expect("statistics are made");
    let (stored, errors): (i64, i64) =
        sqlx::query_as("SELECT (SELECT count(*) FROM occurrence), (SELECT count(*) FROM error_group)")
            .fetch_one(&mut connection)
            .await
            .expect("counts");
    println!(
        "{stored} occurrences of {errors} errors over {DAYS} days; median and 95th percentile of {READS} reads, ms"
    );

    if copies > 0 {
        return stands_out(&service).await;
    }
    let mut walks = vec![];
    for _ in 0..READS {
        let start = Instant::now();
        sqlx::query(WALK)
            .fetch_all(&mut connection)
            .await
            .expect("the floor's query runs");
        walks.push(millis(start));
    }
    let floor = print("floor: counting occurrences in SQL", &mut walks, None);
    for (name, path) in [
        ("errors, 24 h", "/api/v1/errors?since=24h&strip=48"),
        ("errors, 7 days", "/api/v1/errors?since=7d&strip=48"),
        (
            "errors, 7 days, one service",
            "/api/v1/errors?since=7d&service=fares&strip=48",
        ),
    ] {
        // Connections plan their first few queries anew: a service that has been running has done so.
        for _ in 0..WARM_UP {
            service.get(path).await;
        }
        let mut reads = vec![];
        for _ in 0..READS {
            let start = Instant::now();
            let (status, _) = service.get(path).await;
            reads.push(millis(start));
            assert_eq!(status, 200, "{path}");
        }
        let median = print(name, &mut reads, Some(API_AIM_MS));
        println!("{:<36} {:>8.2} of the floor", "", median / floor);
    }
    stands_out(&service).await;
    year(&service, &mut connection).await;
    page(&service).await;
}

/// A year of one error, in a hundred versions: its tallies in one query over the hours, folded and
/// unfolded, and the chart that is drawn of them.
async fn year(service: &Running, connection: &mut PgConnection) {
    for statement in [
        "INSERT INTO version (service_id, label, label_hash) SELECT service_id, 'year-' || n, gen_random_uuid() \
             FROM (SELECT service_id FROM cause ORDER BY id LIMIT 1) of_cause, generate_series(0, 99) n",
        "INSERT INTO tally_hour (hour, environment_id, cause_id, version_id, n) \
             SELECT h, (SELECT min(id) FROM environment), (SELECT min(id) FROM cause), version.id, 3 \
             FROM generate_series(date_trunc('day', now()) - interval '365 days', date_trunc('day', now()) - interval \
             '8 days', interval '1 hour') h \
             JOIN version ON version.label = 'year-' || (extract(epoch FROM h)::bigint / 345600 % 100) ON CONFLICT DO \
             NOTHING",
        "INSERT INTO tally_day (day, environment_id, cause_id, version_id, n) SELECT date_trunc('day', hour, 'UTC'), \
         environment_id, cause_id, version_id, sum(n) \
             FROM tally_hour WHERE hour < now() - interval '8 days' GROUP BY 1, 2, 3, 4 ON CONFLICT DO NOTHING",
        "ANALYZE",
    ] {
        sqlx::raw_sql(statement)
            .execute(&mut *connection)
            .await
            .unwrap_or_else(|error| panic!("{statement}: {error}"));
    }
    for (name, table, aim) in [
        ("a year of one error, by the hour", "tally_hour", None),
        ("a year of one error, folded by the day", "tally_day", Some(YEAR_AIM_MS)),
    ] {
        let statement = format!(
            "SELECT * FROM {table} WHERE cause_id = (SELECT min(id) FROM cause) AND environment_id = (SELECT min(id) \
             FROM environment)"
        );
        let mut reads = vec![];
        for _ in 0..READS {
            let start = Instant::now();
            sqlx::query(sqlx::AssertSqlSafe(statement.clone()))
                .fetch_all(&mut *connection)
                .await
                .expect("tallies are read");
            reads.push(millis(start));
        }
        print(name, &mut reads, aim);
    }
    let (error,): (i32,) = sqlx::query_as("SELECT error_id FROM cause ORDER BY id LIMIT 1")
        .fetch_one(&mut *connection)
        .await
        .expect("an error");
    let path = format!(
        "/api/v1/errors/{}/timeline?since=365d&steps=60",
        outcrop_core::Reference::of_number(u32::from_ne_bytes(error.to_ne_bytes()))
    );
    let mut reads = vec![];
    for _ in 0..READS {
        let start = Instant::now();
        let (status, answer) = service.get(&path).await;
        reads.push(millis(start));
        assert_eq!(status, 200, "{answer}");
    }
    print("its chart over a year, whole answer", &mut reads, None);
}

/// What stands out among the occurrences of the error with most of them.
async fn stands_out(service: &Running) {
    let (_, page) = service.get("/api/v1/errors?since=7d&limit=500").await;
    let most = page["items"]
        .as_array()
        .and_then(|items| items.iter().max_by_key(|item| item["count"].as_u64()));
    let Some(reference) = most.and_then(|item| item["ref"].as_str()) else {
        return;
    };
    let path = format!("/api/v1/errors/{reference}/stands-out?since=7d");
    let mut reads = vec![];
    for _ in 0..READS {
        let start = Instant::now();
        let (status, _) = service.get(&path).await;
        reads.push(millis(start));
        assert_eq!(status, 200, "{path}");
    }
    print("stands out of one error, 7 days", &mut reads, Some(STANDS_OUT_AIM_MS));
}

/// The Errors page from an empty cache, until its first row stands there.
async fn page(service: &Running) {
    let browser = Browser::start(1280, 800, "light").await;
    browser.open(&format!("{}/errors", service.url)).await;
    browser.sign_in(&service.email, PASSWORD).await;
    browser.find("nav[aria-label=Pages]").await;
    let mut loads = vec![];
    for _ in 0..10 {
        browser.driver.goto("about:blank").await.expect("an empty page");
        browser
            .driver
            .cdp()
            .send_raw("Network.clearBrowserCache", serde_json::json!({}))
            .await
            .expect("the cache can be emptied");
        let start = Instant::now();
        browser.open(&format!("{}/errors?since=7d", service.url)).await;
        browser.find("main li a").await;
        loads.push(millis(start));
    }
    print("Errors page, cold, first row shown", &mut loads, Some(PAGE_AIM_MS));
}

/// Sends occurrences through the intake, spread over services, errors, users and days, and waits until they are folded.
async fn fill(service: &Running, occurrences: u64, errors: u64) {
    let http = reqwest::Client::new();
    let services = [
        "gangway",
        "sailings",
        "fares",
        "stowage",
        "boarding",
        "berths",
        "bulletins",
        "ledger",
    ];
    let services = &services[..services.len().min(usize::try_from(errors).unwrap_or(services.len()))];
    for number in 0..occurrences.div_ceil(PER_REQUEST) {
        let body: ExportTraceServiceRequest = request(
            number,
            &Shape {
                service: services[usize::try_from(number).unwrap_or_default() % services.len()],
                functions: errors / services.len() as u64,
                spread: Duration::from_secs(DAYS * 86_400),
                // A leap through the window, so that each request lies in other hours.
                ago: Duration::from_secs(number.wrapping_mul(7_919) % (DAYS * 86_400)),
            },
        );
        let sent = http
            .post(format!("{}/v1/traces", service.url))
            .bearer_auth(&service.key)
            .header("content-type", "application/x-protobuf")
            .body(body.encode_to_vec())
            .send()
            .await
            .expect("the service answers");
        assert_eq!(sent.status(), 200);
    }
    while service.service().row("SELECT count(*)::text FROM touched").await != [Some("0".to_owned())] {
        tokio::time::sleep(Duration::from_millis(200)).await;
    }
}

pub fn millis(start: Instant) -> f64 {
    start.elapsed().as_secs_f64() * 1_000.0
}

/// Prints a figure and returns its median.
pub fn print(name: &str, measured: &mut [f64], aim: Option<f64>) -> f64 {
    measured.sort_by(f64::total_cmp);
    let (median, high) = (measured[measured.len() / 2], measured[measured.len() * 95 / 100]);
    let aim = aim.map(|aim| format!("   aim {aim:.0}")).unwrap_or_default();
    println!("{name:<36} {median:>8.1} {high:>8.1}{aim}");
    median
}
