//! Lists and pages at the size of a fleet: how long they take, what they cost, and what the service costs when nobody asks.

use std::time::{Duration, Instant};

use outcrop_testkit::{Durability, Postgres, Running, Service};
use sqlx::{Connection, PgConnection};

use crate::fill::{self, Size};
use crate::processor;
use crate::query::millis;
use crate::results;

/// Reads before each figure, and for each.
const WARM_UP: usize = 12;
const READS: usize = 40;

/// A thing to read: its name, its path, the aim for 95 of 100 reads in milliseconds.
struct Read {
    name: String,
    path: String,
    aim: f64,
}

fn read(name: &str, path: impl Into<String>, aim: f64) -> Read {
    Read {
        name: name.to_owned(),
        path: path.into(),
        aim,
    }
}

/// The floor: two days of tallies summed in SQL, and the fifty largest.
const FLOOR: &str =
    "SELECT cause_id, sum(n) FROM tally_day WHERE day >= now() - interval '2 days' GROUP BY 1 ORDER BY 2 DESC LIMIT 50";

pub async fn run(binary: &str, size: Size, also: f64, (alone, rules): (u64, u32)) {
    let mut sizes = vec![size];
    if also > 0.0 && also < 1.0 {
        sizes.insert(0, size.part(also));
    }
    for size in sizes {
        let postgres = Postgres::start_with(&std::env::temp_dir(), Durability::Volatile, STATEMENTS);
        let url = postgres.database();
        let mut service = Service::new(binary, url.clone()).start().await;
        let mut connection = PgConnection::connect(&url).await.expect("the database answers");
        sqlx::raw_sql("CREATE EXTENSION pg_stat_statements")
            .execute(&mut connection)
            .await
            .expect("Debian's PostgreSQL has it");
        // It is away meanwhile, as if it had never looked: else it would work out flags of an empty week.
        service.kill();
        fill::fill(&url, size).await;
        service.kill_and_restart().await;
        settled(&service).await;
        let floor = floor(&mut connection).await;
        println!(
            "{:<44} {:>8} {:>8} {:>6} {:>9} {:>9}",
            "", "median", "95th", "aim", "service", "database"
        );
        for read in reads(&service).await {
            let median = measure(&service, &postgres, &read).await;
            results::time(&read.name, median, floor);
        }
        if alone > 0 {
            enforce(&mut connection, size, rules).await;
            left_alone(&service, &postgres, &mut connection, alone).await;
        }
    }
}

/// What PostgreSQL is started with, to say which statements cost what.
const STATEMENTS: &[&str] = &[
    "shared_preload_libraries=pg_stat_statements",
    "pg_stat_statements.track=all",
];

/// Waits until jobs have nothing left of what was filled in.
async fn settled(service: &Running) {
    let began = Instant::now();
    let mut before = processor::micros(service.pid());
    loop {
        tokio::time::sleep(Duration::from_secs(5)).await;
        let now = processor::micros(service.pid());
        let is_at_rest = now - before < 1_000_000.0;
        if is_at_rest || began.elapsed() > Duration::from_mins(10) {
            let state = if is_at_rest { "at rest" } else { "still at work" };
            return println!("jobs are {state} after {:.0} s", began.elapsed().as_secs_f64());
        }
        before = now;
    }
}

async fn floor(connection: &mut PgConnection) -> f64 {
    let mut reads = vec![];
    for _ in 0..READS {
        let start = Instant::now();
        sqlx::query(FLOOR)
            .fetch_all(&mut *connection)
            .await
            .expect("the floor's query runs");
        reads.push(millis(start));
    }
    reads.sort_by(f64::total_cmp);
    println!("floor: two days of tallies summed in SQL: {:.1} ms", reads[READS / 2]);
    reads[READS / 2]
}

async fn reads(service: &Running) -> Vec<Read> {
    let (status, page) = service.get("/api/v1/errors?since=7d&limit=50").await;
    assert_eq!(status, 200, "{page}");
    let first = page["items"][0]["ref"].as_str().expect("a first error").to_owned();
    let last = page["items"][49]["ref"].as_str().expect("fifty errors").to_owned();
    let back = |days: i64| {
        let at = chrono::Utc::now() - chrono::TimeDelta::days(days) - chrono::TimeDelta::minutes(23);
        at.format("%Y-%m-%dT%H:%M:00Z").to_string()
    };
    let odd = format!("/api/v1/errors?strip=48&from={}&to={}", back(5), back(2));
    let name = "where=service%20%3D%20harbour-0003";
    let mut reads = vec![];
    for since in ["3h", "24h", "7d"] {
        let path = format!("/api/v1/errors?strip=48&by_part=true&since={since}");
        reads.push(read(&format!("errors, {since}"), path.clone(), 10.0));
        reads.push(read(
            &format!("errors, {since}, of a service by a predicate"),
            format!("{path}&{name}"),
            10.0,
        ));
        reads.push(read(
            &format!("errors, {since}, of a service"),
            format!("{path}&service=harbour-0003"),
            10.0,
        ));
        reads.push(read(
            &format!("errors, {since}, of production"),
            format!("{path}&environment=production"),
            10.0,
        ));
    }
    reads.push(read("errors, three days long ago", odd.clone(), 150.0));
    reads.push(read("the same, by a predicate", format!("{odd}&{name}"), 150.0));
    for (which, reference) in [("most", &first), ("fewer", &last)] {
        for part in ["", "/timeline", "/occurrences", "/stands-out", "/why", "/handling"] {
            let path = format!("/api/v1/errors/{reference}{part}?since=24h");
            let (status, _) = service.get(&path).await;
            if status == 200 {
                reads.push(read(&format!("error with {which}{part}"), path, 60.0));
            }
        }
    }
    for (name, path) in [
        ("now", "/api/v1/now"),
        ("deploys, 7 days", "/api/v1/deploys?since=7d"),
        ("markers, 7 days", "/api/v1/markers?since=7d"),
        ("services", "/api/v1/services?since=24h"),
        ("endpoints, 24 h", "/api/v1/endpoints?since=24h"),
    ] {
        reads.push(read(name, path, 50.0));
    }
    reads
}

/// Measures a read, prints its figures, and returns its median in milliseconds.
async fn measure(service: &Running, postgres: &Postgres, read: &Read) -> f64 {
    let once = Instant::now();
    let (status, answer) = service.get(&read.path).await;
    assert_eq!(status, 200, "{}: {answer}", read.path);
    // What takes seconds is not read a hundred times to say so.
    let (warm_up, count) = if once.elapsed() > Duration::from_secs(1) {
        (0, 5)
    } else {
        (WARM_UP, READS)
    };
    for _ in 0..warm_up {
        service.get(&read.path).await;
    }
    let before = (processor::micros(service.pid()), processor::micros(postgres.pid()));
    let mut reads = vec![];
    for _ in 0..count {
        let start = Instant::now();
        let (status, _) = service.get(&read.path).await;
        reads.push(millis(start));
        assert_eq!(status, 200, "{}", read.path);
    }
    let of = |before: f64, now: f64| (now - before) / 1_000.0 / count as f64;
    let spent = (
        of(before.0, processor::micros(service.pid())),
        of(before.1, processor::micros(postgres.pid())),
    );
    reads.sort_by(f64::total_cmp);
    println!(
        "{:<44} {:>8.1} {:>8.1} {:>6.0} {:>9.1} {:>9.1}",
        read.name,
        reads[count / 2],
        reads[count * 95 / 100],
        read.aim,
        spent.0,
        spent.1
    );
    reads[count / 2]
}

/// Of so many rules one has a threshold, which is counted every minute.
const RULES_A_THRESHOLD: i32 = 20;

/// Puts so many rules of notices in force, each about one service.
async fn enforce(connection: &mut PgConnection, size: Size, rules: u32) {
    sqlx::query(
        "INSERT INTO notice_rule (name, setting, is_on, changed_by, changed_at) SELECT 'rule ' || n, one.setting || \
         jsonb_build_object('name', 'rule ' || n, 'where', 'service = harbour-' || lpad((n % $2)::text, 4, '0')) || CASE \
         WHEN n % $3 = 0 THEN '{\"when\": [\"over\"], \"threshold\": {\"of\": \"share\", \"above\": 90, \"minutes\": 5}}'::jsonb \
         ELSE '{}' END, true, 'purser@skerry.example', now() \
         FROM (SELECT setting FROM notice_rule ORDER BY id LIMIT 1) one, generate_series(1, $1) n",
    )
    .bind(i32::try_from(rules).expect("few"))
    .bind(i32::try_from(size.services).expect("few"))
    .bind(RULES_A_THRESHOLD)
    .execute(connection)
    .await
    .expect("rules are stored");
}

/// What a minute costs in which nobody asks and nothing is sent, and which statements cost most.
async fn left_alone(service: &Running, postgres: &Postgres, connection: &mut PgConnection, seconds: u64) {
    sqlx::raw_sql("SELECT pg_stat_statements_reset()")
        .execute(&mut *connection)
        .await
        .expect("counters begin anew");
    let before = (processor::micros(service.pid()), processor::micros(postgres.pid()));
    tokio::time::sleep(Duration::from_secs(seconds)).await;
    let of = |before: f64, now: f64| (now - before) / 1_000.0 * 60.0 / seconds as f64;
    println!(
        "left alone for {seconds} s, a minute: {:.0} ms of the service, {:.0} ms of the database; by statement:",
        of(before.0, processor::micros(service.pid())),
        of(before.1, processor::micros(postgres.pid()))
    );
    let statements: Vec<(String, i64, f64)> = sqlx::query_as(
        "SELECT left(regexp_replace(query, '\\s+', ' ', 'g'), 100), calls, total_exec_time + total_plan_time \
         FROM pg_stat_statements ORDER BY 3 DESC LIMIT 20",
    )
    .fetch_all(connection)
    .await
    .expect("statements");
    for (text, calls, took) in statements {
        println!(
            "{:>9.1} ms a minute in {calls:>4} calls: {text}",
            took * 60.0 / seconds as f64
        );
    }
}
