//! Tests of questions.

use outcrop_core::query::{Case, parse};
use proptest::prelude::*;
use proptest::strategy::ValueTree;
use serde_json::{Map, Value as Json};
use sqlx::QueryBuilder;

use super::resolve::*;
use crate::Scope;
use crate::testing::{database, logs, now, of, resource_of, store, text, writer};

/// What an occurrence of the test is made of.
#[derive(Clone, Debug)]
struct Sent {
    service: &'static str,
    namespace: &'static str,
    environment: &'static str,
    message: String,
    severity: u8,
    season: Option<&'static str>,
    pier: Option<&'static str>,
    host: &'static str,
}

fn sent() -> impl Strategy<Value = Sent> {
    let season = prop::option::of(prop::sample::select(vec![
        "winter", "summer", "Winter", "50%_off", "a\\b",
    ]));
    let pier = prop::option::of(prop::sample::select(vec!["3", "12", "12.5", "-1", "north", "1e3", ""]));
    let message = prop::sample::select(vec![
        "no tariff",
        "No Tariff for *",
        "ramp_up 100%",
        "gate 'A' is \"shut\"",
        "ünïcode ⚓",
        "",
    ]);
    let place = (
        prop::sample::select(vec!["fares", "berths"]),
        prop::sample::select(vec!["", "skerry"]),
    );
    let rest = (
        prop::sample::select(vec!["production", "staging"]),
        prop::sample::select(vec![9_u8, 13, 17, 21]),
    );
    (
        place,
        rest,
        message,
        season,
        pier,
        prop::sample::select(vec!["pier-3", "pier-4"]),
    )
        .prop_map(
            |((service, namespace), (environment, severity), message, season, pier, host)| Sent {
                service,
                namespace,
                environment,
                message: message.to_owned(),
                severity,
                season,
                pier,
                host,
            },
        )
}

/// Tests of fields that a single occurrence has, put together by `and`, `or` and `not`.
fn asked() -> impl Strategy<Value = String> {
    let field = prop::sample::select(vec![
        "service",
        "namespace",
        "environment",
        "message",
        "season",
        "pier",
        "host.name",
        "type",
        "severity",
    ]);
    let value = prop::sample::select(vec![
        "fares",
        "skerry",
        "production",
        "no tariff",
        "tariff",
        "winter",
        "50%_off",
        "a\\\\b",
        "3",
        "12",
        "12.5",
        "-1",
        "1e3",
        "",
        "pier-3",
        "BerthTaken",
        "error",
        "warn",
        "%",
        "_",
        "ünïcode",
        "*",
    ]);
    let test = (field, 0..9_usize, value.clone(), value).prop_map(|(field, form, a, b)| match (form, field) {
        // Severities are words of a list; `contains` and `like` are for texts.
        (_, "severity") => {
            format!(
                "severity {} {}",
                ["=", "!=", "<", "<=", ">", ">="][form % 6],
                ["info", "warn", "error", "fatal"][form % 4]
            )
        }
        (0, _) => format!("{field} = \"{a}\""),
        (1, _) => format!("{field} != \"{a}\""),
        (2, _) => format!("{field} in (\"{a}\", \"{b}\")"),
        (3, _) => format!("{field} not in (\"{a}\", \"{b}\")"),
        (4, _) => format!("{field} contains \"{a}\""),
        (5, _) => format!("{field} like \"*{a}?\""),
        (6, _) => format!("{field} is set"),
        (7, "pier") => format!("pier > {}", ["3", "12", "-1", "0.5"][b.len() % 4]),
        (8, "pier") => format!("pier from {} to 12", ["3", "-1"][b.len() % 2]),
        (7, _) => format!("{field} not like \"{a}*\""),
        _ => format!("{field} is not set"),
    });
    test.prop_recursive(3, 12, 3, |inner| {
        prop_oneof![
            (inner.clone(), inner.clone()).prop_map(|(a, b)| format!("({a} and {b})")),
            (inner.clone(), inner.clone()).prop_map(|(a, b)| format!("({a} or {b})")),
            inner.prop_map(|a| format!("not ({a})")),
        ]
    })
}

fn object(entries: &[(&str, Option<&str>)]) -> Map<String, Json> {
    entries
        .iter()
        .filter_map(|(name, value)| Some(((*name).to_owned(), Json::String((*value)?.to_owned()))))
        .collect()
}

#[tokio::test]
async fn a_condition_in_sql_holds_for_what_its_predicate_holds_for() {
    let database = database().await;
    let mut runner = proptest::test_runner::TestRunner::deterministic();
    let sent: Vec<Sent> = (0..60)
        .map(|_| sent().new_tree(&mut runner).unwrap().current())
        .collect();
    let groups = sent.iter().zip(0_u8..).map(|(sent, number)| {
        let resource = [
            ("service.name", sent.service),
            ("service.namespace", sent.namespace),
            ("deployment.environment.name", sent.environment),
            ("host.name", sent.host),
        ];
        let mut record = crate::testing::logged(now(), &sent.message);
        record.severity = sent.severity.into();
        for (name, value) in [
            ("season", sent.season),
            ("pier", sent.pier),
            ("number", Some(number.to_string().as_str())),
        ] {
            record
                .attributes
                .0
                .extend(value.map(|value| (name.to_owned(), text(value))));
        }
        of(resource_of(&resource), vec![record])
    });
    store(&writer(&database), &[logs(groups.collect(), now())]).await;
    let to = chrono::Utc::now() + chrono::TimeDelta::minutes(1);
    let scope = Scope {
        service: None,
        environment: None,
        version: None,
        from: to - chrono::TimeDelta::hours(1),
        to,
        predicate: None,
    };
    let (mut some, mut all) = (0, 0);
    for _ in 0..300 {
        let asked = asked().new_tree(&mut runner).unwrap().current();
        let predicate = parse(&asked).unwrap_or_else(|mistake| panic!("{asked}: {mistake}"));
        let condition = resolve(&database, &predicate, &scope).await.unwrap();
        let mut sql = QueryBuilder::new("SELECT o.attributes ->> 'number' FROM occurrence o WHERE ");
        condition.write(&mut sql);
        let found: Vec<(String,)> = sql.build_query_as().fetch_all(&database.pool).await.unwrap();
        let mut found: Vec<usize> = found.into_iter().map(|(number,)| number.parse().unwrap()).collect();
        found.sort_unstable();
        let expected: Vec<usize> = sent
            .iter()
            .enumerate()
            .filter(|(_, sent)| {
                predicate.holds(&Case {
                    namespace: sent.namespace,
                    service: sent.service,
                    environment: sent.environment,
                    version: "",
                    type_name: "BerthTaken",
                    message: &sent.message,
                    title: "",
                    severity: sent.severity.into(),
                    trace: "",
                    stack: None,
                    attributes: &object(&[("season", sent.season), ("pier", sent.pier)]),
                    resource: &object(&[("host.name", Some(sent.host))]),
                    known: None,
                })
            })
            .map(|(number, _)| number)
            .collect();
        assert_eq!(found, expected, "{asked}");
        some += usize::from(!found.is_empty() && found.len() < sent.len());
        all += 1;
    }
    assert!(some * 4 > all, "of {all} questions only {some} tell occurrences apart");
}
