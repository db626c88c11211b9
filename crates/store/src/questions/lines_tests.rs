//! Log lines by their template, and the numbers in it.

use chrono::{TimeDelta, Utc};
use outcrop_core::question::read;
use rstest::rstest;

use super::{Cell, answer};
use crate::testing::{database, logged, logs, of, resource_of, store, text, writer};
use crate::{Database, Scope, from_utc};

const DRAINED: &str = "drained after {duration}, {n} left";

async fn with_lines(lines: &[&str]) -> Database {
    let database = database().await;
    let at = from_utc(Utc::now() - TimeDelta::minutes(5));
    let fares = resource_of(&[("service.name", "fares"), ("service.version", "2.4.0")]);
    let lines = lines.iter().map(|line| {
        let mut record = logged(at, line);
        record.severity = 9;
        record.body = text(line);
        record
    });
    let batch = [logs(vec![of(fares, lines.collect())], at)];
    store(&writer(&database), &batch).await;
    database
}

async fn asked(database: &Database, question: &str) -> Vec<Vec<Cell>> {
    let question = read(question).unwrap_or_else(|mistake| panic!("{}", mistake.marked(question)));
    let now = Utc::now();
    let scope = Scope {
        predicate: question
            .matching
            .as_ref()
            .map(|matching| matching.predicate.clone().into()),
        ..super::requests_tests::scope(now - TimeDelta::hours(1), now + TimeDelta::minutes(1))
    };
    let answer = answer(database, &question, &scope).await.unwrap();
    answer.rows.into_iter().map(|row| row.values).collect()
}

#[tokio::test]
async fn numbers_are_measured_and_tested_by_their_place() {
    let lines = [
        "drained after 250ms, 1,204 left",
        "drained after 1.5s, 3 left",
        "drained after 2 min, 3 left",
        "sailing 7 has no tariff",
    ];
    let database = with_lines(&lines).await;
    let question =
        format!("count, least number_1, most number_1, sum number_2 of lines where template = \"{DRAINED}\"");
    // `2 min` is two words: its line has another template.
    assert_eq!(
        asked(&database, &question).await,
        [[
            Cell::Count(2),
            Cell::Number(250.0),
            Cell::Number(1_500.0),
            Cell::Number(1_207.0)
        ]]
    );
    let above = format!("count of lines where template = \"{DRAINED}\" and number_1 > 1000");
    assert_eq!(asked(&database, &above).await, [[Cell::Count(1)]]);
    let grouped = format!("count of lines by number_2 where template = \"{DRAINED}\"");
    assert_eq!(asked(&database, &grouped).await.len(), 2);
}

#[rstest]
#[case("template contains drained", 1)]
#[case("template != \"sailing {n} has no tariff\"", 1)]
#[case("template in (\"sailing {n} has no tariff\", gone)", 1)]
#[case("template is set", 2)]
#[case("template = \"gone {n}\"", 0)]
#[tokio::test]
async fn lines_are_narrowed_by_their_template(#[case] test: &str, #[case] count: i64) {
    let database = with_lines(&["drained after 250ms, 3 left", "sailing 7 has no tariff"]).await;
    let question = format!("count of lines where {test}");
    assert_eq!(asked(&database, &question).await, [[Cell::Count(count)]]);
}

#[rstest]
#[case("took 12 of it", "12")]
#[case("took -5 of it", "-5")]
#[case("took +5 of it", "5")]
#[case("took 1,204 of it", "1204")]
#[case("took 1.204.500 of it", "1204500")]
#[case("took 1.204,5 of it", "1204.5")]
#[case("took 3,25 of it", "3.25")]
#[case("took 13 401,41 of it", "13401.41")]
#[case("took 1.2e-7 of it", "0.00000012")]
#[case("took 12us of it", "0.012")]
#[case("took 12 s of it", "12000")]
#[case("took 1.5h of it", "5400000")]
#[case("took 123456789012345678 of it", "none")]
#[tokio::test]
async fn numbers_are_read_as_people_and_runtimes_write_them(#[case] line: &str, #[case] number: &str) {
    let template = outcrop_core::grouping::template(line);
    let found = outcrop_core::grouping::number_at(&template, 1).unwrap();
    let database = database().await;
    let read: Option<String> = sqlx::query_scalar("SELECT number_of_line($1, $2)")
        .bind(line)
        .bind(found.pattern)
        .fetch_one(&database.pool)
        .await
        .unwrap();
    assert_eq!(read.as_deref().unwrap_or("none"), number);
}

#[tokio::test]
async fn every_pattern_is_one_that_the_database_reads() {
    let database = database().await;
    let lines = [
        "GET \"/v1/quotes?a=1\" (200) in 12ms {\"berth\": 7} [1, 2] <3>",
        "a*b+c?d^e$f|g.h\\i 7 ~!@#%&_-=,;:/ 8",
        "berth 'North' of 192.0.2.7:443 at 2026-11-23 04:40:07 in zone Tern 9",
    ];
    for line in lines {
        let template = outcrop_core::grouping::template(line);
        let numbers = outcrop_core::grouping::numbers_of(&template);
        assert!(numbers > 0, "{template}");
        for place in 1..=numbers {
            let found = outcrop_core::grouping::number_at(&template, place).unwrap();
            let read: Option<String> = sqlx::query_scalar("SELECT number_of_line($1, $2)")
                .bind(line)
                .bind(&found.pattern)
                .fetch_one(&database.pool)
                .await
                .unwrap();
            assert!(read.is_some(), "{} in {line}", found.pattern);
        }
    }
}
