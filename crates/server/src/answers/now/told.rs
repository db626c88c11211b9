//! What needs somebody, what somebody has in hand, and what has been known for hours.

use std::collections::HashMap;

use chrono::{DateTime, TimeDelta, Utc};
use outcrop_api::NowItem;
use outcrop_store::errors::handling::Handling;

use super::folded::{About, Found};

/// Errors flagged longer ago, and not followed by anything elsewhere, are only counted: whoever is on call has seen them.
const OLD: TimeDelta = TimeDelta::hours(4);

/// What is told, by who needs to hear of it.
pub(super) struct Told {
    pub items: Vec<NowItem>,
    pub handled: Vec<NowItem>,
    /// How many were flagged hours ago.
    pub older: i64,
}

/// Tells apart what needs somebody, what is handled, and what has been known for hours; what began last first.
pub(super) fn told(found: Vec<Found>, handled: &HashMap<i32, Handling>, at: DateTime<Utc>) -> Told {
    let mut told = Told {
        items: vec![],
        handled: vec![],
        older: 0,
    };
    for Found { mut item, about } in found {
        item.handled = match about {
            About::Error(error) => handled.get(&error).and_then(|handling| in_whose_hands(handling, at)),
            About::Endpoint(_) => None,
        };
        if item.handled.is_some() {
            told.handled.push(item);
        } else if matches!(about, About::Error(_)) && item.echoes.is_empty() && item.since < at - OLD {
            told.older += 1;
        } else {
            told.items.push(item);
        }
    }
    for items in [&mut told.items, &mut told.handled] {
        items.sort_by_key(|item| std::cmp::Reverse((item.since, item.weight)));
    }
    told
}

/// Who has an error, or why nobody needs to hear of it; `None` where neither was said.
fn in_whose_hands(handling: &Handling, at: DateTime<Utc>) -> Option<String> {
    let mut said = vec![];
    if let Some(who) = &handling.taken_by {
        said.push(format!("taken by {who}"));
    }
    if let Some(until) = handling.quiet_in_words(at) {
        said.push(format!("quiet until {until}"));
    }
    match (&handling.settled_in, &handling.settled_by) {
        (Some(version), _) if !version.is_empty() => said.push(format!("settled in {version}")),
        (Some(_), _) => said.push("settled".to_owned()),
        (None, Some(commit)) => said.push(format!("settled by commit {commit}")),
        (None, None) => {}
    }
    (!said.is_empty()).then(|| said.join(", "))
}

#[cfg(test)]
mod tests {
    use outcrop_api::NowEcho;
    use rstest::rstest;

    use super::*;

    fn found(error: i32, hours: i64, has_echo: bool) -> Found {
        let echo = NowEcho {
            kind: "failing".to_owned(),
            service: "gangway".to_owned(),
            what: "POST /quote".to_owned(),
            reference: None,
            why: String::new(),
        };
        Found {
            item: NowItem {
                kind: "error".to_owned(),
                service: "fares".to_owned(),
                what: format!("{error}"),
                reference: None,
                why: String::new(),
                since: now() - TimeDelta::hours(hours),
                weight: 70,
                echoes: if has_echo { vec![echo] } else { vec![] },
                handled: None,
            },
            about: About::Error(error),
        }
    }

    fn now() -> DateTime<Utc> {
        DateTime::UNIX_EPOCH + TimeDelta::days(20_000)
    }

    #[test]
    fn what_is_handled_comes_apart_and_what_is_hours_old_is_counted_unless_something_follows_from_it() {
        let taken = Handling {
            taken_by: Some("mate@skerry.example".to_owned()),
            ..Handling::default()
        };
        let all = vec![
            found(1, 3, false),
            found(2, 1, false),
            found(3, 20, false),
            found(4, 20, true),
            found(5, 20, true),
        ];
        let told = told(all, &HashMap::from([(2, taken.clone()), (5, taken)]), now());
        let names = |items: &[NowItem]| items.iter().map(|item| item.what.clone()).collect::<Vec<_>>();
        assert_eq!(names(&told.items), ["1", "4"]);
        assert_eq!(names(&told.handled), ["2", "5"]);
        assert_eq!(told.older, 1);
        assert_eq!(told.handled[0].handled.as_deref(), Some("taken by mate@skerry.example"));
    }

    #[rstest]
    #[case::nothing(Handling::default(), None)]
    #[case::a_version(
        Handling { settled_in: Some("2.4.1".to_owned()), ..Handling::default() },
        Some("settled in 2.4.1")
    )]
    #[case::from_now(Handling { settled_in: Some(String::new()), ..Handling::default() }, Some("settled"))]
    #[case::a_commit(
        Handling { settled_by: Some("9f3c1ab".to_owned()), taken_by: Some("mate".to_owned()), ..Handling::default() },
        Some("taken by mate, settled by commit 9f3c1ab")
    )]
    #[case::until_a_predicate(
        Handling { quiet_where: Some("users > 50".to_owned()), ..Handling::default() },
        Some("quiet until users > 50")
    )]
    #[case::no_longer_quiet(
        Handling { quiet_until: Some(now() - TimeDelta::hours(1)), ..Handling::default() },
        None
    )]
    fn whose_hands_it_is_in(#[case] handling: Handling, #[case] expected: Option<&str>) {
        assert_eq!(in_whose_hands(&handling, now()).as_deref(), expected);
    }
}
