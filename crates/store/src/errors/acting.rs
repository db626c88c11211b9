//! What people do about errors: take, settle, quiet, reopen, note, and undo.

use chrono::{DateTime, Utc};
use outcrop_core::Reference;

use super::commits::{Waiting, meet};
use super::kept::{HandlingError, Kept, held, keep, write_down, written};
use crate::Database;
use crate::boxed;

/// One thing done about an error.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Action {
    /// Somebody takes it.
    Take(String),
    /// Nobody has it any more.
    HandBack,
    /// It must not occur from then on.
    Settle(Settled),
    /// Nobody is told until a time.
    QuietUntil(DateTime<Utc>),
    /// Nobody is told until a predicate holds for it.
    QuietWhere(String),
    /// It is neither settled nor quiet.
    Reopen,
    /// Something worth knowing.
    Note(String),
}

/// From what on a settled error must not occur.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Settled {
    /// From a version on, deployed or not.
    In(String),
    /// From the first deploy on that holds a commit; its id in lower-case hex, 7 to 40 digits.
    By(String),
    /// From the moment on at which that is said, whatever the version.
    FromNow,
}

impl Action {
    fn told(&self) -> (&'static str, String) {
        match self {
            Self::Take(who) => ("take", who.clone()),
            Self::HandBack => ("hand back", String::new()),
            Self::Settle(Settled::In(version)) => ("settle", version.clone()),
            Self::Settle(Settled::By(commit)) => ("settle by", commit.clone()),
            Self::Settle(Settled::FromNow) => ("settle", String::new()),
            Self::QuietUntil(until) => ("quiet", written(*until)),
            Self::QuietWhere(predicate) => ("quiet", predicate.clone()),
            Self::Reopen => ("reopen", String::new()),
            Self::Note(text) => ("note", text.clone()),
        }
    }
}

impl Kept {
    /// After an action at a time.
    fn after(&self, action: &Action, at: DateTime<Utc>) -> Self {
        let kept = self.clone();
        match action {
            Action::Take(who) => Self {
                taken_by: Some(who.clone()),
                ..kept
            },
            Action::HandBack => Self { taken_by: None, ..kept },
            Action::Settle(Settled::By(commit)) => Self {
                settled_in: None,
                settled_by: Some(commit.clone()),
                settled_at: None,
                ..kept
            },
            Action::Settle(Settled::In(version)) => kept.settled_in(version, at),
            Action::Settle(Settled::FromNow) => kept.settled_in("", at),
            Action::QuietUntil(until) => Self {
                quiet_until: Some(*until),
                quiet_where: None,
                quiet_at: Some(at),
                ..kept
            },
            Action::QuietWhere(predicate) => Self {
                quiet_until: None,
                quiet_where: Some(predicate.clone()),
                quiet_at: Some(at),
                ..kept
            },
            Action::Reopen => Self {
                taken_by: kept.taken_by,
                ..Self::default()
            },
            Action::Note(_) => kept,
        }
    }

    /// What is told of going from one to the other: the verb, and to whom, in which version or until what.
    fn told(&self, next: &Self) -> (&'static str, String) {
        let quiet = |kept: &Self| kept.quiet_until.map(Action::QuietUntil).map(|action| action.told().1);
        let settled = |kept: &Self| (kept.settled_in.clone(), kept.settled_by.clone(), kept.settled_at);
        if settled(self) != settled(next) {
            return match (&next.settled_in, &next.settled_by) {
                (Some(version), _) => ("settle", version.clone()),
                (None, Some(commit)) => ("settle by", commit.clone()),
                (None, None) => ("reopen", String::new()),
            };
        }
        if self.quiet_at != next.quiet_at {
            let until = next.quiet_where.clone().or_else(|| quiet(next));
            return until.map_or(("reopen", String::new()), |until| ("quiet", until));
        }
        if self.taken_by == next.taken_by {
            return ("reopen", String::new());
        }
        let taken = next.taken_by.clone();
        taken.map_or(("hand back", String::new()), |who| ("take", who))
    }
}

/// Does something about errors at a time, and writes down who did: about all of them, or none. `known`: the last change
/// that whoever acts has seen of each, where that matters.
///
/// # Errors
/// [`HandlingError::Meanwhile`] where something was done since; [`HandlingError::Store`].
#[boxed]
pub async fn act(
    database: &Database,
    errors: &[Reference],
    action: &Action,
    (by, at): (&str, DateTime<Utc>),
    known: Option<i64>,
) -> Result<(), HandlingError> {
    let mut errors = errors.to_vec();
    // Always in the same order: two that act on the same errors wait for each other, and neither for ever.
    errors.sort_unstable();
    errors.dedup();
    let mut transaction = database.pool.begin().await?;
    for error in errors {
        let before = held(&mut transaction, error, known).await?;
        let number = crate::ids::number(error);
        keep(&mut transaction, number, &before.after(action, at)).await?;
        let (verb, what) = action.told();
        let before = (!matches!(action, Action::Note(_))).then_some(&before);
        write_down(&mut transaction, number, (by, at), (verb, &what), before).await?;
        if matches!(action, Action::Settle(Settled::By(_))) {
            meet(&mut transaction, Waiting::Error(number), at).await?;
        }
    }
    transaction.commit().await?;
    Ok(())
}

/// Undoes a change of an error, the last one that changed how it is handled: it is again as it was before.
///
/// # Errors
/// [`HandlingError::NoChange`] where there is none of that number; [`HandlingError::Meanwhile`] where another came after
/// it; [`HandlingError::Store`].
#[boxed]
pub async fn undo(
    database: &Database,
    error: Reference,
    change: i64,
    by: &str,
    at: DateTime<Utc>,
) -> Result<(), HandlingError> {
    let number = crate::ids::number(error);
    let mut transaction = database.pool.begin().await?;
    let now = held(&mut transaction, error, Some(change)).await?;
    let before: Option<Option<sqlx::types::Json<Kept>>> =
        sqlx::query_scalar("SELECT before FROM handling_change WHERE id = $1 AND error_id = $2")
            .bind(change)
            .bind(number)
            .fetch_optional(&mut *transaction)
            .await?;
    let Some(sqlx::types::Json(before)) = before.flatten() else {
        return Err(HandlingError::NoChange(change));
    };
    keep(&mut transaction, number, &before).await?;
    let (verb, what) = now.told(&before);
    write_down(&mut transaction, number, (by, at), (verb, &what), Some(&now)).await?;
    transaction.commit().await?;
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::errors::handling;
    use crate::testing::{database, failing, now, number, of, resource, spans, store, trace, writer};

    async fn one_error(database: &Database) -> Reference {
        let failure = failing(trace(1), 1, None, now(), "no tariff");
        let sent = spans(vec![of(resource("fares"), vec![failure])], now());
        store(&writer(database), &[sent]).await;
        crate::ids::reference(
            number(database, "SELECT id::bigint FROM error_group")
                .await
                .try_into()
                .unwrap(),
        )
    }

    /// What a plain reading of the actions says: the three facts.
    #[derive(Clone, Debug, Default, PartialEq)]
    struct Model {
        taken: Option<String>,
        settled: Option<String>,
        quiet: Option<String>,
    }

    impl Model {
        fn after(&self, action: &Action) -> Self {
            let mut next = self.clone();
            match action {
                Action::Take(who) => next.taken = Some(who.clone()),
                Action::HandBack => next.taken = None,
                Action::Settle(Settled::In(version)) => next.settled = Some(format!("settled in {version}")),
                Action::Settle(Settled::By(commit)) => next.settled = Some(format!("settled by commit {commit}")),
                Action::Settle(Settled::FromNow) => next.settled = Some("settled from then on".to_owned()),
                Action::QuietWhere(text) => next.quiet = Some(text.clone()),
                Action::QuietUntil(until) => next.quiet = Some(until.timestamp().to_string()),
                Action::Reopen => (next.settled, next.quiet) = (None, None),
                Action::Note(_) => {}
            }
            next
        }
    }

    async fn facts(database: &Database, error: Reference) -> Model {
        let number = crate::ids::number(error);
        let handling = handling::of(database, Some(&[number]))
            .await
            .unwrap()
            .remove(&number)
            .unwrap_or_default();
        Model {
            taken: handling.taken_by.clone(),
            settled: match handling.settled_in.as_deref() {
                Some("") => Some("settled from then on".to_owned()),
                _ => handling.settled_in_words(),
            },
            quiet: handling
                .quiet_where
                .or_else(|| handling.quiet_until.map(|until| until.timestamp().to_string())),
        }
    }

    /// A fixed walk of actions, different for each step and with every pair of kinds among them.
    fn walk() -> Vec<Action> {
        let at = |hours: i64| DateTime::from_timestamp(1_796_000_000 + hours * 3_600, 0).unwrap();
        let kinds = |n: usize| match n % 9 {
            0 => Action::Take(format!("crew {n}")),
            1 => Action::Settle(Settled::In(format!("2.4.{n}"))),
            2 => Action::QuietUntil(at(i64::try_from(n).unwrap())),
            3 => Action::Reopen,
            4 => Action::QuietWhere(format!("users > {n}")),
            5 => Action::HandBack,
            6 => Action::Settle(Settled::By(format!("{n:07x}"))),
            7 => Action::Settle(Settled::FromNow),
            _ => Action::Note(format!("note {n}")),
        };
        (0..81).map(|n| kinds(n * (1 + n / 9))).collect()
    }

    #[tokio::test]
    async fn handling_is_what_a_plain_reading_of_the_actions_says_and_each_is_undone() {
        let database = database().await;
        let error = one_error(&database).await;
        let (mut model, mut hours) = (Model::default(), 0);
        let mut at = || {
            hours += 1;
            DateTime::from_timestamp(1_790_000_000 + hours * 3_600, 0).unwrap()
        };
        for action in walk() {
            let next = model.after(&action);
            act(&database, &[error], &action, ("purser", at()), None).await.unwrap();
            assert_eq!(facts(&database, error).await, next, "{action:?}");
            let last = handling::changes(&database, error).await.unwrap().remove(0);
            if matches!(action, Action::Note(_)) {
                let refused = undo(&database, error, last.id, "purser", at()).await;
                assert!(matches!(refused, Err(HandlingError::NoChange(_))), "{refused:?}");
                continue;
            }
            undo(&database, error, last.id, "purser", at()).await.unwrap();
            assert_eq!(facts(&database, error).await, model, "{action:?} undone");
            let again = undo(&database, error, last.id, "purser", at()).await;
            assert!(matches!(again, Err(HandlingError::Meanwhile { .. })), "{again:?}");
            act(&database, &[error], &action, ("purser", at()), None).await.unwrap();
            model = next;
        }
    }

    /// What the history says, read from the oldest change on.
    fn told(history: &[handling::Change]) -> Model {
        let mut model = Model::default();
        for change in history.iter().rev() {
            let what = change.what.clone();
            match change.verb.as_str() {
                "take" => model.taken = Some(what),
                "hand back" => model.taken = None,
                "settle" if what.is_empty() => model.settled = Some("settled from then on".to_owned()),
                "settle" => model.settled = Some(format!("settled in {what}")),
                "settle by" => model.settled = Some(format!("settled by commit {what}")),
                "quiet" => {
                    let until = what.parse::<DateTime<Utc>>().map(|at| at.timestamp().to_string());
                    model.quiet = Some(until.unwrap_or(what));
                }
                "reopen" => (model.settled, model.quiet) = (None, None),
                _ => {}
            }
        }
        model
    }

    #[tokio::test]
    async fn of_many_who_act_at_once_the_history_says_what_became_of_it() {
        let database = database().await;
        let error = one_error(&database).await;
        let now = DateTime::from_timestamp(1_796_000_000, 0).unwrap();
        let actions = walk();
        let acting = actions.chunks(9).enumerate().map(|(who, actions)| {
            let (database, by) = (&database, format!("crew {who}"));
            async move {
                for action in actions {
                    act(database, &[error], action, (&by, now), None).await.unwrap();
                }
            }
        });
        futures_util::future::join_all(acting).await;
        let history = handling::changes(&database, error).await.unwrap();
        assert_eq!(history.len(), actions.len(), "none is lost");
        assert_eq!(told(&history), facts(&database, error).await);
    }

    #[tokio::test]
    async fn of_two_who_act_at_once_on_what_both_have_seen_one_is_told() {
        let database = database().await;
        let error = one_error(&database).await;
        let now = DateTime::from_timestamp(1_796_000_000, 0).unwrap();
        act(
            &database,
            &[error],
            &Action::Take("purser".to_owned()),
            ("purser", now),
            None,
        )
        .await
        .unwrap();
        let seen = handling::changes(&database, error).await.unwrap()[0].id;
        let settle = Action::Settle(Settled::In("2.4.1".to_owned()));
        let quiet = Action::QuietWhere("users > 50".to_owned());
        let errors = [error];
        let (one, other) = tokio::join!(
            act(&database, &errors, &settle, ("purser", now), Some(seen)),
            act(&database, &errors, &quiet, ("mate", now), Some(seen)),
        );
        let refused: Vec<_> = [one, other].into_iter().filter_map(Result::err).collect();
        assert_eq!(refused.len(), 1);
        assert!(matches!(refused[0], HandlingError::Meanwhile { .. }), "{refused:?}");
        let model = facts(&database, error).await;
        assert!(model.settled.is_some() != model.quiet.is_some(), "{model:?}");
        // A note is no change of how it is handled.
        let last = handling::changes(&database, error).await.unwrap()[0].id;
        act(
            &database,
            &[error],
            &Action::Note("asked".to_owned()),
            ("mate", now),
            None,
        )
        .await
        .unwrap();
        act(&database, &[error], &Action::HandBack, ("purser", now), Some(last))
            .await
            .unwrap();
    }

    #[tokio::test]
    async fn the_same_is_done_about_all_errors_or_about_none() {
        let database = database().await;
        let error = one_error(&database).await;
        let unknown: Reference = "kobal-tirun".parse().unwrap();
        let now = DateTime::from_timestamp(1_796_000_000, 0).unwrap();
        let take = Action::Take("deck team".to_owned());
        act(&database, &[error, unknown], &take, ("purser", now), None)
            .await
            .unwrap_err();
        assert_eq!(facts(&database, error).await, Model::default());
        act(&database, &[error, error], &take, ("purser", now), None)
            .await
            .unwrap();
        assert_eq!(
            handling::changes(&database, error).await.unwrap().len(),
            1,
            "named twice, it is done once"
        );
    }
}
