//! Tests of changes of grouping.

use chrono::Utc;

use super::change::*;
use super::make::*;
use super::rules::*;
use crate::asking::list_errors;
use crate::testing::{attributes, database, now, of, resource, spans, store, trace, writer};
use crate::{Database, Scope};

/// Which occurrences stand under which error: reference, title and count, and the references that lead elsewhere.
async fn grouped(database: &Database) -> Vec<String> {
    let to = Utc::now() + chrono::TimeDelta::minutes(1);
    let scope = Scope {
        service: None,
        environment: None,
        version: None,
        from: to - chrono::TimeDelta::hours(1),
        to,
        predicate: None,
    };
    let mut found: Vec<String> = vec![];
    for error in list_errors(database, &scope).await.unwrap() {
        let leads_to = standing(database, error.reference).await.unwrap();
        found.push(format!(
            "{} {} {} {leads_to}",
            error.reference, error.title, error.count
        ));
    }
    let joined: Vec<(i32, Option<i32>)> =
        sqlx::query_as("SELECT id, joined_into FROM error_group WHERE joined_into IS NOT NULL")
            .fetch_all(&database.pool)
            .await
            .unwrap();
    found.extend(joined.iter().map(|(from, to)| format!("{from} leads to {to:?}")));
    found.sort();
    found
}

#[tokio::test]
async fn a_change_that_is_made_and_undone_leaves_everything_as_it_was() {
    let database = database().await;
    let failing = |number: u64, kind: &str, deck: &str| {
        let mut span = crate::testing::failing(trace(number), number, None, now(), "");
        span.events[0].attributes = attributes(&[("exception.type", kind), ("exception.message", "no tariff")]);
        span.attributes = attributes(&[("deck", deck)]);
        span
    };
    let sent = vec![
        failing(1, "TariffMissing", "car"),
        failing(2, "TariffMissing", "car"),
        failing(3, "TariffMissing", "foot"),
        failing(4, "RampUp", "car"),
        failing(5, "GateShut", "foot"),
    ];
    store(&writer(&database), &[spans(vec![of(resource("fares"), sent)], now())]).await;
    let before = grouped(&database).await;
    assert_eq!(before.len(), 3, "{before:?}");
    let error = async |kind: &str| {
        let id: i32 = sqlx::query_scalar(
            "SELECT id FROM error_group WHERE type = $1 AND joined_into IS NULL ORDER BY id LIMIT 1",
        )
        .bind(kind)
        .fetch_one(&database.pool)
        .await
        .unwrap();
        id
    };
    let (tariff, ramp, gate) = (
        error("TariffMissing").await,
        error("RampUp").await,
        error("GateShut").await,
    );
    let service = service_of(&database, tariff).await.unwrap();
    let over = Over {
        from: Utc::now() - chrono::TimeDelta::hours(1),
        to: Utc::now() + chrono::TimeDelta::minutes(1),
    };
    let changes = [
        (
            Change::JoinErrors {
                into: ramp,
                errors: vec![gate, tariff],
            },
            1,
        ),
        (
            Change::JoinWhere {
                predicate: "type in (RampUp, GateShut)".to_owned(),
            },
            2,
        ),
        // What is stored keeps its error: a split tells apart what comes from now on.
        (
            Change::SplitBy {
                error: tariff,
                attribute: "deck".to_owned(),
            },
            3,
        ),
    ];
    for (change, expected) in changes {
        let trial = try_change(&database, service, &change, over).await.unwrap();
        assert_eq!(grouped(&database).await, before, "a trial writes nothing: {change:?}");
        let (id, made) = make(
            &database,
            Order {
                service,
                change: &change,
                over,
                by: "bosun@skerry.example",
            },
            |_| "a change".to_owned(),
        )
        .await
        .unwrap();
        assert_eq!(
            format!("{:?}", made.leaving),
            format!("{:?}", trial.leaving),
            "a trial says what is done: {change:?}"
        );
        let errors = grouped(&database)
            .await
            .iter()
            .filter(|line| !line.contains("leads to"))
            .count();
        assert_eq!(errors, expected, "{change:?}: {:?}", grouped(&database).await);
        undo(&database, id, "bosun@skerry.example").await.unwrap();
        let after: Vec<String> = grouped(&database)
            .await
            .into_iter()
            .filter(|line| !line.contains("leads to"))
            .collect();
        assert_eq!(after, before, "{change:?}");
        assert!(
            undo(&database, id, "bosun@skerry.example").await.is_err(),
            "undone once"
        );
    }
}
