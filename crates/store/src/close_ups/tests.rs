use chrono::{DateTime, TimeDelta, Utc};
use outcrop_core::close_up::State;
use outcrop_core::{Reference, Timestamp};

use super::{Asking, NewCloseUp, Watched, ask, end, list, look, one, taken, told, untold, watched};
use crate::asking::list_errors;
use crate::people::add_member;
use crate::testing::{database, failing, now, number, of, resource, spans, store, trace, writer};
use crate::{Database, Scope, to_utc};

const MATE: &str = "mate@skerry.example";

/// A failure of `fares`, received at a time.
async fn fail(database: &Database, numbers: std::ops::RangeInclusive<u64>, at: Timestamp) {
    let failures = numbers.map(|id| failing(trace(id), id, None, at, "no tariff"));
    store(
        &writer(database),
        &[spans(vec![of(resource("fares"), failures.collect())], at)],
    )
    .await;
}

async fn known_error() -> (Database, Reference, Timestamp) {
    let database = database().await;
    add_member(&database, MATE, "engineer", "a hash").await.unwrap();
    let at = now();
    fail(&database, 1..=1, at.plus_millis(-60_000)).await;
    let scope = Scope {
        service: None,
        environment: None,
        version: None,
        from: to_utc(at) - TimeDelta::hours(1),
        to: to_utc(at) + TimeDelta::hours(1),
        predicate: None,
    };
    let error = list_errors(&database, &scope).await.unwrap()[0].reference;
    (database, error, at)
}

fn of_error(error: Reference, wanted: u32, at: Timestamp) -> NewCloseUp<'static> {
    NewCloseUp {
        error: Some(error),
        predicate: None,
        wanted,
        until: to_utc(at) + TimeDelta::hours(1),
        tells: true,
        by: MATE,
    }
}

async fn asked(database: &Database, new: &NewCloseUp<'_>, at: DateTime<Utc>) -> i32 {
    match ask(database, new, at).await.unwrap() {
        Asking::Done(id) => id,
        Asking::Full => panic!("there is room"),
    }
}

#[tokio::test]
async fn the_next_occurrences_are_taken_and_told_once() {
    let (database, error, at) = known_error().await;
    let id = asked(&database, &of_error(error, 2, at), to_utc(at)).await;
    let later = to_utc(at) + TimeDelta::seconds(10);
    assert_eq!(look(&database, later).await.unwrap(), 0, "what was before is not taken");
    fail(&database, 2..=2, at.plus_millis(1_000)).await;
    assert_eq!(look(&database, later).await.unwrap(), 1);
    let open = one(&database, id).await.unwrap().unwrap();
    assert_eq!((open.state(), open.counts()), (State::Open, (1, 2)));
    assert!(untold(&database).await.unwrap().is_empty());
    fail(&database, 3..=5, at.plus_millis(2_000)).await;
    assert_eq!(look(&database, later).await.unwrap(), 1, "two are wanted");
    let done = one(&database, id).await.unwrap().unwrap();
    assert_eq!((done.state(), done.counts()), (State::Complete, (2, 2)));
    let rows = taken(&database, id).await.unwrap();
    assert_eq!(rows.iter().map(super::Taken::error).collect::<Vec<_>>(), [error, error]);
    assert_eq!(untold(&database).await.unwrap()[0].asked_by, MATE);
    assert!(told(&database, id, later).await.unwrap() && !told(&database, id, later).await.unwrap());
    assert!(untold(&database).await.unwrap().is_empty());
}

#[tokio::test]
async fn two_instances_at_once_take_exactly_what_was_asked_for() {
    let (database, error, at) = known_error().await;
    let id = asked(&database, &of_error(error, 7, at), to_utc(at)).await;
    fail(&database, 2..=30, at.plus_millis(1_000)).await;
    let later = to_utc(at) + TimeDelta::seconds(10);
    let looks = futures_util::future::join_all((0..6).map(|_| look(&database, later))).await;
    assert_eq!(looks.into_iter().map(Result::unwrap).sum::<usize>(), 7);
    assert_eq!(taken(&database, id).await.unwrap().len(), 7);
}

#[tokio::test]
async fn a_predicate_takes_of_any_error_but_nothing_that_is_closed_to_who_asked() {
    let (database, _, at) = known_error().await;
    let new = NewCloseUp {
        error: None,
        predicate: Some("message contains tariff"),
        ..of_error(Reference::of_number(1), 10, at)
    };
    let id = asked(&database, &new, to_utc(at)).await;
    for service in ["fares", "ledger"] {
        let at = at.plus_millis(1_000);
        let n = u64::try_from(service.len()).unwrap() * 10;
        let failures = vec![
            failing(trace(n), n, None, at, "no tariff"),
            failing(trace(n + 1), n + 1, None, at, "no berth"),
        ];
        store(&writer(&database), &[spans(vec![of(resource(service), failures)], at)]).await;
    }
    crate::people::teams::limit(&database, "ledger", true, ("purser", Utc::now()))
        .await
        .unwrap();
    assert_eq!(look(&database, to_utc(at) + TimeDelta::seconds(10)).await.unwrap(), 1);
    let rows = taken(&database, id).await.unwrap();
    assert_eq!(rows[0].row.service, "fares");
    assert!(list(&database, None).await.unwrap()[0].error().is_none());
}

#[tokio::test]
async fn it_ends_by_its_time_by_hand_and_with_its_asker() {
    let (database, error, at) = known_error().await;
    let begun = to_utc(at);
    let short = NewCloseUp {
        until: begun + TimeDelta::minutes(1),
        ..of_error(error, 2, at)
    };
    let ids = [
        asked(&database, &short, begun).await,
        asked(&database, &of_error(error, 2, at), begun).await,
        asked(
            &database,
            &NewCloseUp {
                by: "gone@skerry.example",
                ..of_error(error, 2, at)
            },
            begun,
        )
        .await,
    ];
    assert!(end(&database, ids[1], "purser", begun).await.unwrap());
    assert!(
        !end(&database, ids[1], "purser", begun).await.unwrap(),
        "it ended before"
    );
    fail(&database, 2..=2, at.plus_millis(90_000)).await;
    assert_eq!(look(&database, begun + TimeDelta::minutes(2)).await.unwrap(), 0);
    for (id, state) in ids.into_iter().zip([State::Over, State::Ended, State::Ended]) {
        assert_eq!(one(&database, id).await.unwrap().unwrap().state(), state);
    }
    assert_eq!(watched(&database).await.unwrap(), Watched::default());
    assert_eq!(list(&database, Some(error)).await.unwrap().len(), 3);
}

#[tokio::test]
async fn what_turns_out_to_be_part_of_another_leaves_room_for_one_more() {
    let (database, error, at) = known_error().await;
    let id = asked(&database, &of_error(error, 2, at), to_utc(at)).await;
    fail(&database, 2..=3, at.plus_millis(1_000)).await;
    let later = to_utc(at) + TimeDelta::seconds(10);
    assert_eq!(look(&database, later).await.unwrap(), 2);
    let first = &taken(&database, id).await.unwrap()[0];
    sqlx::query("DELETE FROM occurrence WHERE id = $1")
        .bind(crate::ids::id_uuid(first.row.id()))
        .execute(&database.pool)
        .await
        .unwrap();
    assert_eq!(look(&database, later).await.unwrap(), 0);
    assert_eq!(one(&database, id).await.unwrap().unwrap().state(), State::Open);
    fail(&database, 4..=9, at.plus_millis(2_000)).await;
    assert_eq!(look(&database, later).await.unwrap(), 1);
}

#[tokio::test]
async fn of_what_is_watched_nothing_is_sampled_and_only_so_many_are_under_way() {
    let (database, error, at) = known_error().await;
    let at_work = writer(&database).keeping_bodies(2);
    let sent = |from: u64| {
        let failures = (from..from + 30).map(|id| failing(trace(id), id, None, at, "no tariff"));
        spans(vec![of(resource("fares"), failures.collect())], at)
    };
    let bodies = "SELECT count(*) FROM payload";
    let before = number(&database, bodies).await;
    store(&at_work, &[sent(100)]).await;
    let sampled = number(&database, bodies).await - before;
    assert!(sampled < 5, "{sampled}");
    for _ in 0..outcrop_core::close_up::MOST_OPEN {
        asked(&database, &of_error(error, 1, at), to_utc(at)).await;
    }
    assert_eq!(
        ask(&database, &of_error(error, 1, at), to_utc(at)).await.unwrap(),
        Asking::Full
    );
    at_work.read_close_ups().await.unwrap();
    store(&at_work, &[sent(200)]).await;
    assert_eq!(number(&database, bodies).await - before - sampled, 30);
}
