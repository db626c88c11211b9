use proptest::prelude::*;
use rstest::rstest;

use super::*;
use crate::notice::{Hours, Member, Pace, PassOn, Quiet, Spell, Target, Wishes};

const MINUTE: i64 = 60_000;

/// Minutes after midnight of 2026-11-30.
fn at(minutes: i64) -> Timestamp {
    Timestamp::from_millis(1_796_083_200_000 + minutes * MINUTE)
}

fn error(number: u32) -> Reference {
    Reference::of_number(number)
}

fn new(id: i64, number: impl TryInto<u32>, minutes: i64) -> Event {
    Event {
        error: number.try_into().ok().map(error),
        owner: Some("tariff desk".to_owned()),
        ..Event::for_tests(id, EventKind::New, at(minutes))
    }
}

fn directory() -> Directory {
    let member = |is_admin| Member {
        is_admin,
        ..Member::default()
    };
    Directory {
        members: [("mate", false), ("purser", true), ("steward", false)]
            .map(|(name, is_admin)| (format!("{name}@skerry.example"), member(is_admin)))
            .into(),
        teams: [(
            "tariff desk".to_owned(),
            vec!["mate@skerry.example".to_owned(), "steward@skerry.example".to_owned()],
        )]
        .into(),
    }
}

/// One rule, and the notices that its events come to: when, to whom, of what.
fn sent(rule: Rule, directory: &Directory, events: &[Event], until: i64) -> Vec<(i64, String, Vec<i64>)> {
    let mut plan = Plan::default();
    let rules = [rule];
    let mut notices = vec![];
    let mut rest = events;
    while let Some(first) = rest.first() {
        let together = rest.iter().take_while(|event| event.at == first.at).count();
        notices.extend(plan.step(first.at, &rest[..together], &rules, directory));
        rest = &rest[together..];
    }
    notices.extend(plan.step(at(until), &[], &rules, directory));
    let minutes = |time: Timestamp| (time.millis() - at(0).millis()) / MINUTE;
    notices
        .into_iter()
        .map(|notice| (minutes(notice.at), notice.stream.to, notice.events))
        .collect()
}

/// To a chat, which has no single recipient.
fn chat() -> Rule {
    Rule {
        by: vec!["ops-room".to_owned()],
        ..Rule::for_tests(1)
    }
}

fn times(sent: &[(i64, String, Vec<i64>)]) -> Vec<(i64, usize)> {
    sent.iter().map(|(at, _, events)| (*at, events.len())).collect()
}

#[test]
fn the_owner_is_told_at_once_each_of_a_team_by_themselves() {
    let sent = sent(Rule::for_tests(1), &directory(), &[new(1, 1, 0)], 10);
    let of = |to: &str| (0, format!("{to}@skerry.example"), vec![1]);
    assert_eq!(sent, [of("mate"), of("steward")]);
}

#[rstest]
#[case::the_admins(None, &["purser@skerry.example"])]
#[case::a_member(Some("steward@skerry.example"), &["steward@skerry.example"])]
#[case::a_team(Some("Tariff Desk"), &["mate@skerry.example", "steward@skerry.example"])]
fn where_nobody_owns_it_somebody_else_is_told(#[case] otherwise: Option<&str>, #[case] expected: &[&str]) {
    let rule = Rule {
        otherwise: otherwise.map(str::to_owned),
        ..Rule::for_tests(1)
    };
    let event = Event {
        owner: None,
        ..new(1, 1, 0)
    };
    let told: Vec<String> = sent(rule, &directory(), &[event], 10)
        .into_iter()
        .map(|(_, to, _)| to)
        .collect();
    assert_eq!(told, expected);
}

#[test]
fn many_at_once_come_together_and_what_comes_within_a_minute_comes_after_it() {
    let mut events: Vec<Event> = (1..=14).map(|id| new(id, id, 0)).collect();
    events.extend([new(15, 15, 1), new(16, 16, 1)]);
    let sent = sent(chat(), &directory(), &events, 10);
    assert_eq!(times(&sent), [(0, 14), (1, 2)]);
}

#[test]
fn at_most_once_an_hour_holds() {
    let rule = Rule {
        at_most: Some(60),
        ..chat()
    };
    let events: Vec<Event> = (0..200).map(|minute| new(minute + 1, minute, minute)).collect();
    assert_eq!(
        times(&sent(rule, &directory(), &events, 300)),
        [(0, 1), (60, 50), (120, 50), (180, 50), (240, 20)]
    );
}

#[test]
fn a_flood_is_capped_and_what_was_not_listed_is_counted() {
    let events: Vec<Event> = (0..600).map(|id| new(id + 1, id, id / 10)).collect();
    let mut plan = Plan::default();
    let rules = [chat()];
    let mut notices = vec![];
    for minute in 0..60 {
        let now: Vec<Event> = events.iter().filter(|event| event.at == at(minute)).cloned().collect();
        notices.extend(plan.step(at(minute), &now, &rules, &directory()));
    }
    assert_eq!(notices.len(), MOST_AN_HOUR);
    notices.extend(plan.step(at(200), &[], &rules, &directory()));
    assert_eq!(notices.len(), MOST_AN_HOUR + 1);
    let told: usize = notices
        .iter()
        .map(|notice| notice.events.len() + notice.more as usize)
        .sum();
    assert_eq!((told, notices.last().unwrap().events.len()), (600, LISTED));
}

#[test]
fn an_error_that_flaps_is_told_once_an_hour_and_a_quiet_one_not_at_all() {
    let mut events: Vec<Event> = (0..12).map(|id| new(id + 1, 7, id * 10)).collect();
    assert_eq!(times(&sent(chat(), &directory(), &events, 200)), [(0, 1), (60, 1)]);
    for event in &mut events {
        event.is_quiet = true;
    }
    assert_eq!(sent(chat(), &directory(), &events, 200), []);
}

#[test]
fn what_follows_from_an_error_that_is_told_is_not_told_beside_it() {
    let echo = |id, number, minutes| Event {
        origin: Some(error(1)),
        service: "gangway".to_owned(),
        ..new(id, number, minutes)
    };
    // Whichever was noticed first.
    let together = sent(chat(), &directory(), &[echo(1, 2, 0), new(2, 1, 0), echo(3, 3, 5)], 10);
    assert_eq!(
        together.iter().map(|(_, _, events)| events.clone()).collect::<Vec<_>>(),
        [[2]]
    );
    let alone = sent(chat(), &directory(), &[echo(1, 2, 0)], 10);
    assert_eq!(alone.len(), 1, "of its origin nothing was said");
    let later = sent(chat(), &directory(), &[new(1, 1, 0), echo(2, 2, 90)], 100);
    assert_eq!(later.len(), 2, "it was said of its origin long ago");
}

#[test]
fn a_flag_taken_back_goes_to_whoever_was_told_or_to_nobody() {
    let back = |id, of, minutes| Event {
        of: Some(of),
        ..Event::for_tests(id, EventKind::TakenBack, at(minutes))
    };
    let told = sent(chat(), &directory(), &[new(1, 1, 0), back(2, 1, 9)], 20);
    assert_eq!(told.iter().map(|(_, _, events)| events[0]).collect::<Vec<_>>(), [1, 2]);
    // The second waits for a minute to pass, and is taken back before.
    let waiting = Rule {
        at_most: Some(30),
        ..chat()
    };
    let events = [new(1, 1, 0), new(2, 2, 10), back(3, 2, 20)];
    assert_eq!(times(&sent(waiting, &directory(), &events, 60)), [(0, 1)]);
    assert_eq!(sent(chat(), &directory(), &[back(1, 9, 0)], 20), [], "nobody was told");
}

#[test]
fn a_night_holds_back_what_is_not_excepted() {
    let quiet = |except: Option<&str>| Rule {
        quiet: Some(Quiet {
            hours: Hours {
                spell: Spell::daily(22 * 60, 6 * 60),
                zone: "Europe/Oslo".parse().unwrap(),
            },
            except: except.map(|text| (text.to_owned(), crate::query::parse(text).unwrap())),
        }),
        ..chat()
    };
    // Oslo is an hour ahead: the night ends at 05:00 UTC.
    let events = [new(1, 1, 60), new(2, 2, 120)];
    assert_eq!(
        times(&sent(quiet(Some("service = gangway")), &directory(), &events, 600)),
        [(300, 2)]
    );
    assert_eq!(
        times(&sent(quiet(Some("service = fares")), &directory(), &events, 600)),
        [(60, 1), (120, 1)]
    );
}

#[test]
fn each_member_is_told_as_they_wish() {
    let mut directory = directory();
    let wishes = |change: &dyn Fn(&mut Wishes)| {
        let mut wishes = Wishes::default();
        change(&mut wishes);
        Member {
            wishes,
            ..Member::default()
        }
    };
    let mate = "mate@skerry.example".to_owned();
    let told = |directory: &Directory| -> Vec<(i64, String)> {
        let all = sent(Rule::for_tests(1), directory, &[new(1, 1, 60)], 3_000);
        all.into_iter()
            .map(|(at, to, _)| (at, to.split('@').next().unwrap().to_owned()))
            .collect()
    };
    let steward = (60, "steward".to_owned());
    for pace in [Pace::Daily, Pace::Nothing] {
        directory
            .members
            .insert(mate.clone(), wishes(&|wishes| wishes.pace = pace));
        assert_eq!(told(&directory), std::slice::from_ref(&steward));
    }
    let working = Hours {
        spell: Spell::daily(8 * 60, 17 * 60),
        zone: "Europe/Oslo".parse().unwrap(),
    };
    directory
        .members
        .insert(mate.clone(), wishes(&|wishes| wishes.hours = Some(working)));
    assert_eq!(told(&directory), [steward.clone(), (420, "mate".to_owned())]);
    let closed = Member {
        closed: ["fares".to_owned()].into(),
        ..Member::default()
    };
    directory.members.insert(mate.clone(), closed);
    assert_eq!(
        told(&directory),
        std::slice::from_ref(&steward),
        "who may not read the service hears nothing of it"
    );
    directory.teams.clear();
    directory.members.remove("steward@skerry.example");
    assert_eq!(told(&directory), [(60, "purser".to_owned())]);
}

#[test]
fn what_nobody_takes_is_passed_on_and_what_somebody_took_is_not() {
    let rule = Rule {
        pass_on: Some(PassOn {
            minutes: 30,
            to: vec![Target::Named("purser@skerry.example".to_owned())],
        }),
        tell: vec![Target::Named("mate@skerry.example".to_owned())],
        ..Rule::for_tests(1)
    };
    let taken = Event {
        error: Some(error(1)),
        ..Event::for_tests(3, EventKind::Handled, at(20))
    };
    let events = [new(1, 1, 0), new(2, 2, 5), taken];
    let sent: Vec<_> = sent(rule, &directory(), &events, 90)
        .into_iter()
        .map(|(at, to, events)| (at, to.len(), events))
        .collect();
    let (mate, purser) = ("mate@skerry.example".len(), "purser@skerry.example".len());
    assert_eq!(sent, [(0, mate, vec![1]), (5, mate, vec![2]), (35, purser, vec![2])]);
}

#[test]
fn two_rules_tell_somebody_once_by_the_sooner_of_them() {
    let slow = Rule {
        quiet: Some(Quiet {
            hours: Hours {
                spell: Spell::daily(0, 6 * 60),
                zone: crate::notice::Zone::UTC,
            },
            except: None,
        }),
        ..Rule::for_tests(1)
    };
    let mut plan = Plan::default();
    let notices = plan.step(at(0), &[new(1, 1, 0)], &[slow, Rule::for_tests(2)], &directory());
    let rules: Vec<i32> = notices.iter().map(|notice| notice.stream.rule).collect();
    assert_eq!((rules, plan.next()), (vec![2, 2], None));
}

#[test]
fn a_rule_that_is_gone_tells_nobody_of_what_waited() {
    let mut plan = Plan::default();
    let rules = [chat()];
    assert_eq!(plan.step(at(0), &[new(1, 1, 0)], &rules, &directory()).len(), 1);
    assert_eq!(
        plan.step(at(0).plus_millis(1), &[new(2, 2, 0)], &rules, &directory()),
        []
    );
    assert!(plan.next().is_some());
    assert_eq!(plan.step(at(5), &[], &[], &directory()), []);
    assert_eq!(plan.next(), None);
}

/// Events of some errors over six hours, some of which end others.
fn events() -> impl Strategy<Value = Vec<Event>> {
    let one = (0i64..360, 0u32..20, 0u8..10, any::<bool>());
    proptest::collection::vec(one, 0..80).prop_map(|mut drawn| {
        drawn.sort_by_key(|(minute, ..)| *minute);
        let mut events: Vec<Event> = vec![];
        for ((minute, number, kind, is_uncaught), id) in drawn.into_iter().zip(1i64..) {
            let mut event = new(id, number, minute);
            match kind {
                0 => event.kind = EventKind::TakenBack,
                1 => event.kind = EventKind::Handled,
                2 => event.kind = EventKind::Returned,
                3 => event.origin = Some(error(number.wrapping_sub(1))),
                _ => {}
            }
            event.of = (id > 1 && kind == 0).then_some(1 + i64::from(number) % (id - 1).max(1));
            event.cases = vec![crate::notice::EventCase {
                uncaught: is_uncaught,
                ..Default::default()
            }];
            events.push(event);
        }
        events
    })
}

fn rules() -> Vec<Rule> {
    let quiet = Quiet {
        hours: Hours {
            spell: Spell::daily(120, 240),
            zone: crate::notice::Zone::UTC,
        },
        except: Some(("uncaught".to_owned(), crate::query::parse("uncaught").unwrap())),
    };
    vec![
        Rule {
            at_most: Some(45),
            pass_on: Some(PassOn {
                minutes: 25,
                to: vec![Target::Named("purser@skerry.example".to_owned())],
            }),
            ..Rule::for_tests(1)
        },
        Rule {
            quiet: Some(quiet),
            by: vec!["mail".to_owned(), "ops-room".to_owned()],
            ..Rule::for_tests(2)
        },
    ]
}

proptest! {
    /// What a trial over the past says is what was sent: whenever the rounds were in between, and over
    /// a restart, which reads the state from what was stored.
    #[test]
    fn the_same_is_sent_however_often_it_is_looked(
        events in events(), looks in proptest::collection::vec(0i64..360, 0..40),
    ) {
        let (rules, directory) = (rules(), directory());
        let minutes: BTreeSet<i64> = events.iter().map(|event| (event.at.millis() - at(0).millis()) / MINUTE).collect();
        let run = |minutes: &BTreeSet<i64>, restarts: bool| {
            let mut plan = Plan::default();
            let mut notices = vec![];
            for minute in minutes {
                let now: Vec<Event> = events.iter().filter(|event| event.at == at(*minute)).cloned().collect();
                notices.extend(plan.step(at(*minute), &now, &rules, &directory));
                if restarts {
                    plan = serde_json::from_str(&serde_json::to_string(&plan).unwrap()).unwrap();
                }
            }
            notices.extend(plan.step(at(1_000), &[], &rules, &directory));
            notices.sort_by(|a, b| (a.at, &a.stream).cmp(&(b.at, &b.stream)));
            notices
        };
        let tried = run(&minutes, false);
        let more: BTreeSet<i64> = minutes.iter().copied().chain(looks).collect();
        prop_assert_eq!(&tried, &run(&more, true));
        // Nobody is told twice of one event by one way, unless it is passed on.
        let mut seen = BTreeSet::new();
        for notice in tried.iter().filter(|notice| notice.reason == Reason::Rule) {
            for event in &notice.events {
                prop_assert!(seen.insert((notice.stream.way.clone(), notice.stream.to.clone(), *event)), "{notice:?}");
            }
        }
    }
}
