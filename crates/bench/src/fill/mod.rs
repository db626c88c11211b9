//! Fills a database as a fleet of a given size would have filled it, by COPY, in minutes.
//!
//! Counts are folded here as the service's jobs fold them, so that what is read is what a running service would read.
//! What is drawn comes from one seed: two fills of a size hold the same.

mod copy;
mod draw;
mod folded;
mod size;

use std::collections::BTreeMap;
use std::time::Instant;

use chrono::{DateTime, DurationRound, TimeDelta, Utc};
use sqlx::{AssertSqlSafe, Connection, PgConnection};

use copy::Copy;
use draw::{Draws, Named, Occurrence, attributes, type_name, uuid};
use folded::Folded;
pub use size::Size;
use size::{AT_ONCE, DAYS, ENDPOINTS, Names};

/// Fills a migrated database, and folds its counts.
pub async fn fill(url: &str, size: Size) {
    let began = Instant::now();
    let mut connection = PgConnection::connect(url).await.expect("the database answers");
    let now = Utc::now();
    partitions(&mut connection, now).await;
    let draws = Draws::new(size, now);
    let names = names(&mut connection, &draws, size, now).await;
    let mut folded = Folded::default();
    let mut occurrences = Copy::new(
        "occurrence (id, service_id, cause_id, environment_id, version_id, endpoint_id, trace_id, span_id, resource, stack, \
         user_hash, uncaught, severity, received_at, type, message, attributes)",
    );
    for (at, number) in draws.in_order_of_time().into_iter().zip(0..) {
        let drawn = draws.occurrence(number, at);
        write(&mut occurrences, &names, &drawn);
        folded.add(&names, &drawn);
        if occurrences.rows() >= AT_ONCE {
            occurrences.send(&mut connection).await;
        }
    }
    occurrences.send(&mut connection).await;
    let stored = began.elapsed().as_secs_f64();
    folded.write(&mut connection).await;
    around(&mut connection, now).await;
    sqlx::raw_sql("VACUUM ANALYZE")
        .execute(&mut connection)
        .await
        .expect("statistics are made");
    println!(
        "{} services, {} errors, {} occurrences over {DAYS} days: occurrences after {stored:.0} s, all after {:.0} s, {} MB",
        size.services,
        size.errors,
        size.occurrences,
        began.elapsed().as_secs_f64(),
        megabytes(&mut connection).await
    );
}

async fn megabytes(connection: &mut PgConnection) -> i64 {
    sqlx::query_scalar("SELECT pg_database_size(current_database()) / 1048576")
        .fetch_one(connection)
        .await
        .expect("its size")
}

/// Makes the partitions of all days as they are: a day that telemetry came of has them.
async fn partitions(connection: &mut PgConnection, now: DateTime<Utc>) {
    for day in 0..=i64::from(DAYS) {
        let date = (now - TimeDelta::days(day)).date_naive();
        let (begins, ends) = (
            date.and_hms_opt(0, 0, 0),
            (date + TimeDelta::days(1)).and_hms_opt(0, 0, 0),
        );
        let (begins, ends) = (begins.expect("midnight").and_utc(), ends.expect("midnight").and_utc());
        for (table, by_id) in [
            ("occurrence", true),
            ("log_record", true),
            ("payload", true),
            ("request", true),
            ("group_part", false),
            ("kept_chunk", false),
            ("served_minute", false),
            ("status_minute", false),
            ("tally_minute", false),
            ("traffic_minute", false),
        ] {
            let bound = |at: DateTime<Utc>| {
                if by_id {
                    format!("(first_id_at('{}'))", at.to_rfc3339())
                } else {
                    format!("('{}')", at.to_rfc3339())
                }
            };
            let name = format!("{table}_{}", date.format("%Y%m%d"));
            let statement = format!(
                "CREATE TABLE IF NOT EXISTS {name} PARTITION OF {table} FOR VALUES FROM {} TO {}",
                bound(begins),
                bound(ends)
            );
            sqlx::query(AssertSqlSafe(statement.clone()))
                .execute(&mut *connection)
                .await
                .unwrap_or_else(|error| panic!("{statement}: {error}"));
        }
    }
}

/// Stores services, their versions and endpoints, errors with a cause each, and reads their numbers back.
async fn names(connection: &mut PgConnection, draws: &Draws, size: Size, now: DateTime<Utc>) -> Names {
    let values = [
        ("$services", size.services.to_string()),
        ("$endpoints", ENDPOINTS.to_string()),
        ("$days", DAYS.to_string()),
        ("$now", time(now)),
    ];
    run(connection, include_str!("names.sql"), &values).await;
    let services: Vec<i32> = sqlx::query_scalar("SELECT id FROM service WHERE name LIKE 'harbour-%' ORDER BY name")
        .fetch_all(&mut *connection)
        .await
        .expect("services");
    errors(connection, draws, size, &services).await;
    let mut by_service = async |statement: &'static str| {
        let rows: Vec<(i32, i32)> = sqlx::query_as(statement)
            .fetch_all(&mut *connection)
            .await
            .expect("names of services");
        let mut of: BTreeMap<i32, Vec<i32>> = BTreeMap::new();
        for (service, id) in rows {
            of.entry(service).or_default().push(id);
        }
        services
            .iter()
            .map(|service| of.remove(service).unwrap_or_default())
            .collect()
    };
    let versions = by_service("SELECT service_id, id FROM version ORDER BY service_id, label").await;
    let endpoints = by_service("SELECT service_id, id FROM endpoint ORDER BY service_id, name").await;
    let environments =
        sqlx::query_scalar("SELECT id FROM environment WHERE name IN ('production', 'staging') ORDER BY name")
            .fetch_all(&mut *connection)
            .await
            .expect("environments");
    let causes = sqlx::query_scalar("SELECT id FROM cause ORDER BY error_id")
        .fetch_all(&mut *connection)
        .await
        .expect("causes");
    Names {
        services,
        versions,
        endpoints,
        environments,
        causes,
    }
}

/// Errors with a cause each, their stacks, and the resources of four instances a service.
async fn errors(connection: &mut PgConnection, draws: &Draws, size: Size, services: &[i32]) {
    let mut groups = Copy::new("error_group (service_id, title, type, own_frame)");
    let mut stacks = Copy::new("stack (hash, frames, used_day)");
    let mut resources = Copy::new("resource (hash, body, used_day)");
    let today = Utc::now().timestamp() / 86_400;
    for error in 0..size.errors {
        let type_name = type_name(error);
        groups.field(services[draws.service(error) as usize]);
        groups.field(format!("{type_name}: no berth for vessel <n> in row <n>"));
        groups.field(type_name);
        groups.last(format!("berth_{error} (berths/plan_{}.py:88)", error % 500));
        let below: String = (0..9).map(crate::requests::library_frame).collect();
        let text = format!(
            "Traceback (most recent call last):\n{below}  File \"/srv/skerry/berths/plan_{}.py\", line 88, in berth_{error}\n    \
             return plan[row]\n{type_name}: no berth",
            error % 500
        );
        let read = outcrop_core::stack::read(&text).expect("a traceback");
        let frames = serde_json::to_vec(&read).expect("a stack encodes");
        stacks.field(uuid(Named::Stack, error.into()));
        stacks.bytes(&frames);
        stacks.last(today);
    }
    for service in 0..size.services {
        for instance in 0..4 {
            let name = format!("harbour-{service:04}");
            let body = serde_json::json!({
                "service.name": name, "deployment.environment.name": "production",
                "service.instance.id": format!("{name}-{instance}.pier-3"), "host.name": "pier-3.skerry.example",
            });
            resources.field(uuid(Named::Instance, u64::from(service) * 64 + instance));
            resources.field(body);
            resources.last(today);
        }
    }
    groups.send(connection).await;
    stacks.send(connection).await;
    resources.send(connection).await;
    sqlx::query(
        "INSERT INTO cause (service_id, key, algorithm, error_id) SELECT service_id, md5('cause ' || id)::uuid, 2, id FROM \
         error_group ORDER BY id",
    )
    .execute(connection)
    .await
    .expect("causes are stored");
}

fn write(copy: &mut Copy, names: &Names, drawn: &Occurrence) {
    let service = drawn.service as usize;
    copy.field(drawn.id());
    copy.field(names.services[service]);
    copy.field(names.causes[drawn.error as usize]);
    copy.field(names.environments[drawn.environment as usize]);
    copy.field(names.versions[service][drawn.day as usize]);
    copy.field(names.endpoints[service][drawn.endpoint as usize]);
    copy.field(uuid(Named::Trace, u64::from(drawn.number)));
    copy.field(drawn.number);
    copy.field(uuid(
        Named::Instance,
        u64::from(drawn.service) * 64 + u64::from(drawn.instance),
    ));
    copy.field(uuid(Named::Stack, u64::from(drawn.error)));
    match drawn.user {
        Some(user) => copy.field(user),
        None => copy.field("\\N"),
    }
    copy.field(drawn.uncaught);
    copy.field(17);
    copy.field(drawn.at.to_rfc3339());
    copy.field(type_name(drawn.error));
    copy.field(format!(
        "no berth for vessel {} in row {}",
        drawn.number % 977,
        drawn.error
    ));
    copy.last(attributes(drawn));
}

/// Runs the statements of a file with values in the place of names.
async fn run(connection: &mut PgConnection, file: &str, values: &[(&str, String)]) {
    for statement in file.split(";\n").filter(|statement| !statement.trim().is_empty()) {
        let text = (values.iter()).fold(statement.to_owned(), |text, (name, value)| text.replace(name, value));
        sqlx::query(AssertSqlSafe(text.clone()))
            .execute(&mut *connection)
            .await
            .unwrap_or_else(|error| panic!("{text}: {error}"));
    }
}

fn time(at: DateTime<Utc>) -> String {
    format!("'{}'::timestamptz", at.to_rfc3339())
}

/// Requests by the minute for a day and a bit, by the hour and the day for all of it; flags, and what people did.
async fn around(connection: &mut PgConnection, now: DateTime<Utc>) {
    let hour = now.duration_trunc(TimeDelta::hours(1)).unwrap_or(now);
    let values = [("$days", DAYS.to_string()), ("$hour", time(hour)), ("$now", time(now))];
    run(connection, include_str!("around.sql"), &values).await;
}
