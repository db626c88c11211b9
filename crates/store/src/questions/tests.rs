//! What the database answers is what a plain evaluation over the same records answers.

use std::cmp::Ordering;
use std::collections::{BTreeMap, BTreeSet};

use chrono::{DateTime, DurationRound, TimeDelta, Utc};
use outcrop_core::query::{Case, Field};
use outcrop_core::question::{Column, Group, Measure, Question, read};
use proptest::prelude::*;
use proptest::strategy::ValueTree;
use serde_json::{Map, Value as Json};

use super::{Answer, Cell, Row, answer};
use crate::testing::{database, failing, logged, logs, of, resource_of, spans, store, text, trace, writer};
use crate::{Database, Scope, from_utc};

/// A record of the test.
#[derive(Clone, Debug)]
struct Record {
    service: &'static str,
    version: &'static str,
    host: &'static str,
    season: Option<&'static str>,
    pier: Option<&'static str>,
    message: &'static str,
    severity: u8,
    minutes_ago: i64,
}

fn records() -> impl Strategy<Value = Record> {
    let named = (
        prop::sample::select(vec!["fares", "berths", "ledger"]),
        prop::sample::select(vec!["2.10.0", "2.9.0"]),
        prop::sample::select(vec!["pier-3", "pier-4"]),
    );
    let sent = (
        prop::option::of(prop::sample::select(vec![
            "winter",
            "summer",
            "Winter",
            "'; DROP TABLE occurrence; --",
        ])),
        prop::option::of(prop::sample::select(vec!["3", "12", "12.5", "-1", "north", ""])),
        prop::sample::select(vec!["no tariff", "gate is \"shut\"", "ünïcode ⚓"]),
    );
    (named, sent, prop::sample::select(vec![17_u8, 21]), 1..600_i64).prop_map(
        |((service, version, host), (season, pier, message), severity, minutes_ago)| Record {
            service,
            version,
            host,
            season,
            pier,
            message,
            severity,
            minutes_ago,
        },
    )
}

fn questions() -> impl Strategy<Value = String> {
    let measure = prop::sample::select(vec![
        "count",
        "services",
        "distinct season",
        "sum pier",
        "mean pier",
        "least pier",
        "most pier",
        "p50 pier",
        "p90 pier",
        "latest season",
        "first",
        "last",
        "distinct host",
        "errors",
    ]);
    let group = prop::sample::subsequence(
        vec![
            "service",
            "season",
            "pier",
            "host",
            "severity",
            "version",
            "hour_of_day",
        ],
        0..4,
    );
    let predicate = prop::option::of(prop::sample::select(vec![
        "service = fares",
        "season is set",
        "not season = winter",
        "pier > 2",
        "severity = fatal or host = pier-3",
    ]));
    let rest = (
        prop::sample::select(vec!["", " each 1h", " each 150m"]),
        prop::option::of(1..6_usize),
        any::<(bool, bool)>(),
    );
    (prop::collection::vec(measure, 1..4), group, predicate, rest).prop_map(
        |(measures, groups, predicate, (each, top, (up, against)))| {
            let by = if groups.is_empty() {
                String::new()
            } else {
                format!(" by {}", groups.join(", "))
            };
            let matching = predicate.map_or_else(String::new, |text| format!(" where {text}"));
            let top = top
                .filter(|_| !groups.is_empty())
                .map_or_else(String::new, |top| format!(" top {top}"));
            let order = if up {
                format!(" order by {} up", measures[0])
            } else {
                String::new()
            };
            let against = if against { " against before" } else { "" };
            format!(
                "{} of occurrences{by}{matching}{each}{order}{top} over 5h{against}",
                measures.join(", ")
            )
        },
    )
}

fn scope(question: &Question, now: DateTime<Utc>) -> Scope {
    let without_steps = Question {
        each: None,
        ..question.clone()
    };
    let (from, to) = without_steps.window_at(from_utc(now));
    super::requests_tests::scope(crate::to_utc(from), crate::to_utc(to))
}

async fn sent(database: &Database, records: &[Record], now: DateTime<Utc>) {
    let groups = records.iter().map(|record| {
        let resource = [
            ("service.name", record.service),
            ("service.version", record.version),
            ("host.name", record.host),
        ];
        let mut line = logged(from_utc(now - TimeDelta::minutes(record.minutes_ago)), record.message);
        line.severity = record.severity.into();
        for (name, value) in [("season", record.season), ("pier", record.pier)] {
            line.attributes
                .0
                .extend(value.map(|value| (name.to_owned(), text(value))));
        }
        of(resource_of(&resource), vec![line])
    });
    store(&writer(database), &[logs(groups.collect(), from_utc(now))]).await;
}

impl Record {
    fn holds(&self, question: &Question) -> bool {
        let object = |entries: &[(&str, Option<&str>)]| -> Map<String, Json> {
            let set = entries
                .iter()
                .filter_map(|(name, value)| Some(((*name).to_owned(), Json::from((*value)?))));
            set.collect()
        };
        question.matching.as_ref().is_none_or(|matching| {
            matching.predicate.holds(&Case {
                namespace: "",
                service: self.service,
                environment: "",
                version: self.version,
                type_name: "BerthTaken",
                message: self.message,
                title: "",
                severity: self.severity.into(),
                trace: "",
                stack: None,
                attributes: &object(&[("season", self.season), ("pier", self.pier)]),
                resource: &object(&[("host.name", Some(self.host))]),
                known: None,
            })
        })
    }

    fn value(&self, field: &Field) -> String {
        match field {
            Field::Service => self.service.to_owned(),
            Field::Version => self.version.to_owned(),
            Field::Severity => (if self.severity == 17 { "error" } else { "fatal" }).to_owned(),
            // Errors are told apart by their messages' templates and services, since none has a stack.
            Field::Error => format!("{} {}", self.service, self.message),
            Field::Attribute(name) if name == "season" => self.season.unwrap_or_default().to_owned(),
            Field::Attribute(name) if name == "pier" => self.pier.unwrap_or_default().to_owned(),
            _ => self.host.to_owned(),
        }
    }

    fn key(&self, group: &Group, now: DateTime<Utc>) -> String {
        match group {
            Group::Field(field) => self.value(field),
            _ => (now - TimeDelta::minutes(self.minutes_ago)).format("%H").to_string(),
        }
    }
}

/// A measure of records, worked out one by one.
fn measured(measure: &Measure, records: &[&Record], now: DateTime<Utc>) -> Cell {
    let at = |record: &&Record| now - TimeDelta::minutes(record.minutes_ago);
    let at = |record: &&Record| DateTime::from_timestamp_millis(at(record).timestamp_millis()).unwrap();
    let mut numbers: Vec<f64> = (measure.field().into_iter())
        .flat_map(|field| records.iter().filter_map(|record| record.value(field).parse().ok()))
        .collect();
    numbers.sort_by(f64::total_cmp);
    let number = |value: Option<f64>| value.map_or(Cell::Nothing, Cell::Number);
    let count = |count: usize| Cell::Count(i64::try_from(count).unwrap());
    #[expect(clippy::cast_precision_loss, reason = "a hundred records")]
    let length = numbers.len() as f64;
    match measure {
        Measure::Failed | Measure::Share => unreachable!("of requests alone"),
        Measure::Count => count(records.len()),
        Measure::Distinct(field) => {
            let values: BTreeSet<String> = records.iter().map(|record| record.value(field)).collect();
            count(values.iter().filter(|value| !value.is_empty()).count())
        }
        Measure::Sum(_) => number((!numbers.is_empty()).then(|| numbers.iter().sum())),
        Measure::Mean(_) => number((!numbers.is_empty()).then(|| numbers.iter().sum::<f64>() / length)),
        Measure::Least(_) => number(numbers.first().copied()),
        Measure::Most(_) => number(numbers.last().copied()),
        Measure::Percentile(tenths, _) => number((!numbers.is_empty()).then(|| {
            let place = f64::from(*tenths) / 1_000.0 * (length - 1.0);
            #[expect(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "within the list")]
            let (low, high) = (place.floor() as usize, place.ceil() as usize);
            numbers[low] + (numbers[high] - numbers[low]) * place.fract()
        })),
        Measure::First => records.iter().map(at).min().map_or(Cell::Nothing, Cell::Time),
        Measure::Last => records.iter().map(at).max().map_or(Cell::Nothing, Cell::Time),
        Measure::Latest(field) => {
            let newest = records
                .iter()
                .filter(|record| !record.value(field).is_empty())
                .min_by_key(|record| record.minutes_ago);
            newest.map_or(Cell::Nothing, |record| Cell::Text(record.value(field)))
        }
    }
}

fn row(
    question: &Question,
    keys: Vec<String>,
    records: &[&Record],
    (from, steps): (i64, usize),
    now: DateTime<Utc>,
) -> Row {
    let all = |records: &[&Record]| -> Vec<Cell> {
        question
            .measures
            .iter()
            .map(|measure| measured(measure, records, now))
            .collect()
    };
    let step_minutes = question.each.unwrap_or(1) / 60_000;
    let of_step = |step: usize| -> Vec<Cell> {
        let within: Vec<&Record> = (records.iter().copied())
            .filter(|record| (from - record.minutes_ago) / step_minutes == i64::try_from(step).unwrap())
            .collect();
        if within.is_empty() { vec![] } else { all(&within) }
    };
    Row {
        keys,
        values: all(records),
        steps: (0..steps).map(of_step).collect(),
        margin: None,
        before: None,
    }
}

/// The groups of a window that begins so many minutes ago, by their keys.
fn grouped<'r>(
    question: &Question,
    records: &'r [Record],
    (from, to): (i64, i64),
    now: DateTime<Utc>,
) -> BTreeMap<Vec<String>, Vec<&'r Record>> {
    let mut groups: BTreeMap<Vec<String>, Vec<&Record>> = BTreeMap::new();
    for record in records
        .iter()
        .filter(|record| record.minutes_ago <= from && record.minutes_ago > to && record.holds(question))
    {
        let keys = question.by.iter().map(|group| record.key(group, now)).collect();
        groups.entry(keys).or_default().push(record);
    }
    groups
}

/// How two values are ordered, the least first; where there is none comes last either way.
fn ordered(one: &Cell, other: &Cell, up: bool) -> Ordering {
    let by_value = match (one, other) {
        (Cell::Nothing, Cell::Nothing) => return Ordering::Equal,
        (Cell::Nothing, _) => return Ordering::Greater,
        (_, Cell::Nothing) => return Ordering::Less,
        (Cell::Count(one), Cell::Count(other)) => one.cmp(other),
        (Cell::Number(one), Cell::Number(other)) => one.total_cmp(other),
        (Cell::Time(one), Cell::Time(other)) => one.cmp(other),
        (Cell::Text(one), Cell::Text(other)) => one.cmp(other),
        _ => panic!("{one:?} and {other:?} are of one measure"),
    };
    if up { by_value } else { by_value.reverse() }
}

fn plain(question: &Question, records: &[Record], now: DateTime<Utc>) -> Answer {
    let steps = question.each.map_or(0, |step| {
        usize::try_from((300 + step / 60_000 - 1) / (step / 60_000)).unwrap()
    });
    let groups = grouped(question, records, (300, 0), now);
    let of = |keys: Vec<String>, records: &[&Record]| row(question, keys, records, (300, steps), now);
    let mut rows: Vec<Row> = groups.iter().map(|(keys, records)| of(keys.clone(), records)).collect();
    let order = question.ordered();
    assert_eq!(order.column, Column::Measure(0));
    rows.sort_by(|one, other| {
        ordered(&one.values[0], &other.values[0], order.up).then_with(|| one.keys.cmp(&other.keys))
    });
    let everything: Vec<&Record> = groups.values().flatten().copied().collect();
    let hidden = rows.split_off(rows.len().min(usize::try_from(question.shown()).unwrap()));
    let rest: Vec<&Record> = hidden
        .iter()
        .flat_map(|row| groups[&row.keys].iter().copied())
        .collect();
    let count = if question.by.is_empty() {
        i64::from(!everything.is_empty())
    } else {
        i64::try_from(groups.len()).unwrap()
    };
    let mut answer = Answer {
        others: (!hidden.is_empty()).then(|| of(vec![], &rest)),
        total: of(vec![], &everything),
        groups: count,
        steps,
        rows,
    };
    if question.by.is_empty() && answer.rows.is_empty() {
        answer.rows.push(answer.total.clone());
    }
    if question.against.is_some() {
        let then = grouped(question, records, (600, 300), now);
        let values = |records: &[&Record]| row(question, vec![], records, (0, 0), now).values;
        let shown: BTreeSet<Vec<String>> = answer.rows.iter().map(|row| row.keys.clone()).collect();
        for row in &mut answer.rows {
            row.before = Some(values(then.get(&row.keys).map_or(&[], Vec::as_slice)));
        }
        let rest: Vec<&Record> = (then
            .iter()
            .filter(|(keys, _)| !shown.contains(*keys))
            .flat_map(|(_, records)| records.iter().copied()))
        .collect();
        if !rest.is_empty() && answer.others.is_none() && !question.by.is_empty() {
            answer.others = Some(row(question, vec![], &[], (0, steps), now));
        }
        if let Some(others) = &mut answer.others {
            others.before = Some(values(&rest));
        }
        answer.total.before = Some(values(&then.values().flatten().copied().collect::<Vec<_>>()));
    }
    answer
}

fn is_near(one: &Cell, other: &Cell) -> bool {
    match (one, other) {
        (Cell::Number(one), Cell::Number(other)) => (one - other).abs() < 1e-9,
        _ => one == other,
    }
}

fn assert_same(found: &Answer, expected: &Answer, text: &str) {
    let cells = |row: &Row| -> Vec<Cell> {
        let steps = row.steps.iter().flatten();
        row.values
            .iter()
            .chain(steps)
            .chain(row.before.iter().flatten())
            .cloned()
            .collect()
    };
    let all = |answer: &Answer| -> Vec<Row> {
        answer
            .rows
            .iter()
            .chain(&answer.others)
            .chain([&answer.total])
            .cloned()
            .collect()
    };
    assert_eq!(
        (found.groups, found.rows.len()),
        (expected.groups, expected.rows.len()),
        "{text}"
    );
    for (one, other) in all(found).iter().zip(&all(expected)) {
        let is_same = cells(one).len() == cells(other).len()
            && cells(one)
                .iter()
                .zip(&cells(other))
                .all(|(one, other)| is_near(one, other));
        let shape = |row: &Row| row.steps.iter().map(Vec::len).collect::<Vec<_>>();
        assert!(
            is_same && shape(one) == shape(other),
            "{text}\nfound {one:?}\nplain {other:?}"
        );
    }
    let keys = |answer: &Answer| answer.rows.iter().map(|row| row.keys.clone()).collect::<Vec<_>>();
    assert_eq!(keys(found), keys(expected), "{text}");
}

/// Questions that ask for nothing else than what is counted.
const FOLDED: [&str; 5] = [
    "count of occurrences over 5h",
    "count, errors of occurrences by service top 2 over 5h",
    "count, services of occurrences by version, service where service in (fares, ledger) over 5h against before",
    "errors, count of occurrences by version order by errors up over 5h",
    "count of occurrences by service where not version = 2.9.0 top 1 over 5h against before",
];

#[tokio::test]
async fn an_answer_in_sql_is_that_of_a_plain_evaluation() {
    let database = database().await;
    let mut runner = proptest::test_runner::TestRunner::deterministic();
    // No record lies on the border of a step: the window ends now.
    // Counts are by the minute: in whole ones they are what a plain evaluation comes to.
    let now = Utc::now().duration_trunc(TimeDelta::minutes(1)).unwrap() + TimeDelta::seconds(30);
    let mut known = BTreeSet::new();
    let records: Vec<Record> = (0..90)
        .map(|_| records().new_tree(&mut runner).unwrap().current())
        .filter(|record| known.insert(record.minutes_ago))
        .collect();
    sent(&database, &records, now - TimeDelta::seconds(30)).await;
    let mut telling = 0;
    // Those that are answered from counts are so seldom drawn that they are named.
    let drawn: Vec<String> = (0..150)
        .map(|_| questions().new_tree(&mut runner).unwrap().current())
        .collect();
    for text in drawn.iter().map(String::as_str).chain(FOLDED) {
        let question = read(text).unwrap_or_else(|mistake| panic!("{}", mistake.marked(text)));
        assert!(!FOLDED.contains(&text) || super::is_folded(&question, now), "{text}");
        let found = answer(&database, &question, &scope(&question, now - TimeDelta::seconds(30)))
            .await
            .unwrap();
        let expected = plain(&question, &records, now - TimeDelta::seconds(30));
        assert_same(&found, &expected, text);
        telling += usize::from(found.rows.len() > 1);
    }
    assert!(telling > 60, "{telling} questions had more than one group");
}

#[tokio::test]
async fn an_error_its_kind_and_its_own_code_group_occurrences_and_lines_have_templates() {
    let database = database().await;
    let now = Utc::now();
    let at = from_utc(now - TimeDelta::minutes(5));
    let fares = resource_of(&[("service.name", "fares"), ("service.version", "2.4.0")]);
    let mut failures = vec![];
    for number in 0..6 {
        failures.push(failing(trace(number), number, None, at, "division by zero"));
    }
    let mut line = logged(at, "quoting sailing 7");
    line.severity = 9;
    line.body = text("quoting sailing 7");
    line.attributes = crate::testing::attributes(&[("season", "winter")]);
    let batch = [
        spans(vec![of(fares.clone(), failures)], from_utc(now)),
        logs(vec![of(fares, vec![line])], from_utc(now)),
    ];
    store(&writer(&database), &batch).await;
    let ask = async |text: &str| {
        let question = read(text).unwrap_or_else(|mistake| panic!("{}", mistake.marked(text)));
        answer(&database, &question, &scope(&question, now)).await.unwrap()
    };
    let by_error = ask("count of occurrences by error, kind, function, trace top 1").await;
    assert_eq!(by_error.groups, 6, "one a trace: {by_error:?}");
    let error = &by_error.rows[0].keys[0];
    assert!(error.parse::<outcrop_core::Reference>().is_ok(), "{error}");
    let narrowed = ask(&format!(
        "count, errors, users of occurrences by error where error = {error} against before"
    ))
    .await;
    assert_eq!(narrowed.rows[0].values[..2], [Cell::Count(6), Cell::Count(1)]);
    assert_eq!(narrowed.rows[0].before.as_ref().unwrap()[0], Cell::Count(0));
    let lines = ask("count of lines by template, severity where season = winter").await;
    assert_eq!(
        lines.rows.iter().map(|row| row.keys[1].as_str()).collect::<Vec<_>>(),
        ["info"]
    );
    assert!(lines.rows[0].keys[0].starts_with("quoting sailing"), "{lines:?}");
    let days = ask("count of occurrences by day_of_week").await;
    let day: u32 = days.rows[0].keys[0].parse().unwrap();
    assert!((1..=7).contains(&day));
    assert_ne!(
        super::shown(&Group::DayOfWeek, &days.rows[0].keys[0]),
        days.rows[0].keys[0]
    );
}
