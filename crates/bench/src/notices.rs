//! Processor time that notices take a minute: rules read, events planned, the plan written down as it is stored.

use std::hint::black_box;
use std::time::Instant;

use outcrop_core::notice::{Directory, Event, EventCase, EventKind, Member, Plan, Rule, Target};
use outcrop_core::query::parse;
use outcrop_core::{Reference, Timestamp};

use crate::results;

/// The aim, in milliseconds of one core a minute.
const AIM_MS: f64 = 100.0;
/// Rounds a minute, as the service makes them, and those in which something happened.
const ROUNDS: i64 = 30;
const WITH_EVENTS: i64 = 6;
/// What happens in such a round: ten changes a minute or so is a bad day of a large fleet.
const EVENTS: i64 = 2;
const MEMBERS: u32 = 50;

pub fn run(rules: u32, services: u32, minutes: i64) {
    let texts: Vec<String> = (0..rules).map(|rule| predicate(rule, services)).collect();
    let directory = directory();
    let (mut plan, mut id, mut sent) = (Plan::default(), 0, 0);
    // A plan that has been at it for a day.
    let (mut spent, mut floor) = (0.0, 0.0);
    for minute in 0..minutes {
        for round in 0..ROUNDS {
            let at = Timestamp::from_millis((minute * 60 + round * 2) * 1_000);
            let count = if round < WITH_EVENTS { EVENTS } else { 0 };
            let events: Vec<Event> = (0..count)
                .map(|_| {
                    id += 1;
                    event(id, services, at)
                })
                .collect();
            let start = Instant::now();
            if !events.is_empty() || plan.next().is_some_and(|due| due <= at) {
                // Rules are read from what is stored whenever there is something to plan.
                let rules: Vec<Rule> = (1..).zip(&texts).map(|(number, text)| rule(number, text)).collect();
                sent += plan.step(at, &events, &rules, &directory).len();
                black_box(serde_json::to_vec(&plan).expect("a plan can be written"));
            }
            spent += start.elapsed().as_secs_f64() * 1_000.0;
            // What cannot be less: each rule's service held against each event's.
            let start = Instant::now();
            for event in &events {
                black_box(texts.iter().filter(|text| text.contains(&event.service)).count());
            }
            floor += start.elapsed().as_secs_f64() * 1_000.0;
        }
    }
    let (a_minute, floor) = (spent / minutes as f64, floor / minutes as f64);
    results::time("notices planned, a minute", a_minute, floor);
    println!(
        "{rules} rules over {services} services, {} events a minute: {a_minute:.1} ms of one core a minute, {:.2} of the aim \
         of {AIM_MS:.0} ms, {:.0} times the floor ({floor:.2} ms: each rule's text searched for each event's service); \
         {sent} notices",
        WITH_EVENTS * EVENTS,
        a_minute / AIM_MS,
        a_minute / floor
    );
}

fn predicate(rule: u32, services: u32) -> String {
    let service = |number: u32| format!("service-{}", number % services);
    match rule % 10 {
        0..7 => format!("service = {}", service(rule)),
        7 | 8 => format!(
            "service in ({}, {}) and uncaught and endpoint like \"GET *\"",
            service(rule),
            service(rule + 1)
        ),
        _ => format!("season = winter and not service = {}", service(rule)),
    }
}

fn rule(number: i32, text: &str) -> Rule {
    Rule {
        id: number,
        name: format!("rule {number}"),
        when: vec![EventKind::New, EventKind::Surging, EventKind::Returned],
        environment: Some("prod*".to_owned()),
        predicate: Some((text.to_owned(), parse(text).expect("a predicate"))),
        measure: None,
        metric: None,
        expected: None,
        tell: vec![Target::Owner],
        otherwise: None,
        by: vec!["mail".to_owned(), "browser".to_owned()],
        at_most: Some(15),
        quiet: None,
        pass_on: None,
    }
}

fn email(number: u32) -> String {
    format!("mate-{number}@skerry.example")
}

fn directory() -> Directory {
    let members = (0..MEMBERS).map(|number| (email(number), Member::default())).collect();
    let teams = (0..10).map(|team| {
        (
            format!("team {team}"),
            (0..5).map(|one| email(team * 5 + one)).collect(),
        )
    });
    Directory {
        members,
        teams: teams.collect(),
    }
}

fn event(id: i64, services: u32, at: Timestamp) -> Event {
    let number = u32::try_from(id % i64::from(services)).unwrap_or_default();
    let attributes = [
        ("season".to_owned(), "winter".into()),
        ("http.route".to_owned(), "/v1/quotes".into()),
    ];
    let case = EventCase {
        type_name: "KeyError".to_owned(),
        message: "no tariff for 12 m".to_owned(),
        endpoint: "GET /v1/quotes".to_owned(),
        uncaught: true,
        attributes: attributes.into_iter().collect(),
        ..EventCase::default()
    };
    Event {
        id,
        version: "2.4.0".to_owned(),
        title: "KeyError: no tariff for {n} m".to_owned(),
        error: Some(Reference::of_number(u32::try_from(id).unwrap_or_default())),
        owner: Some(format!("team {}", number % 10)),
        cases: vec![case.clone(), case.clone(), case],
        ..Event::of(&format!("service-{number}"), "production", EventKind::New, at)
    }
}
