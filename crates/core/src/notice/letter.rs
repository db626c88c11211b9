//! The words of a notice: its subject, and a sentence for each event.

use super::{Event, EventKind, Reason};

/// Longest subject, in characters: mail programs show less.
const SUBJECT: usize = 120;
/// Longest title within a sentence, in characters.
const TITLE: usize = 200;

/// What an event says, without what it is of: `New in fares 2.4.0, production`.
#[must_use]
pub fn headline(event: &Event) -> String {
    let (what, place) = (state(event.kind), place(event));
    match event.kind {
        EventKind::DeployFlagged | EventKind::DeployClear | EventKind::DeployTooEarly => {
            format!("Deploy of {place}: {what}")
        }
        _ => format!("{} in {place}", state_first(event.kind)),
    }
}

/// The same with a capital.
fn state_first(kind: EventKind) -> String {
    let what = state(kind);
    let (first, rest) = what.split_at_checked(1).unwrap_or_default();
    first.to_uppercase() + rest
}

/// What became of what an event is of, as a word or two.
fn state(kind: EventKind) -> &'static str {
    match kind {
        EventKind::New => "new",
        EventKind::Surging => "surging",
        EventKind::Returned => "returned",
        EventKind::BackToNormal => "back to normal",
        EventKind::TakenBack => "taken back",
        EventKind::DeployFlagged => "flagged",
        EventKind::DeployClear => "clear",
        EventKind::DeployTooEarly => "too early to judge",
        EventKind::EndpointFailing => "failing",
        EventKind::EndpointSlow => "slow",
        EventKind::Over => "over its threshold",
        EventKind::LogLine => "logged",
        EventKind::Silent => "silent",
        EventKind::Reporting => "reporting again",
        EventKind::Handled => "handled",
    }
}

/// Service, version and environment: `fares 2.4.0, production`.
fn place(event: &Event) -> String {
    let mut place = event.service.clone();
    if place.is_empty() {
        place.push_str("all services");
    }
    if !event.version.is_empty() {
        place.push(' ');
        place.push_str(&event.version);
    }
    if !event.environment.is_empty() {
        place.push_str(", ");
        place.push_str(&event.environment);
    }
    place
}

/// The one line that says what a notice is about; it has no line breaks, whatever senders sent.
#[must_use]
pub fn subject(events: &[Event], more: u32, reason: Reason) -> String {
    let count = events.len() + more as usize;
    let said = match events {
        [] => "Nothing".to_owned(),
        [event] if more == 0 => match event.kind {
            EventKind::DeployFlagged | EventKind::DeployClear | EventKind::DeployTooEarly => headline(event),
            EventKind::Over => format!("{}: {}", event.title, event.evidence),
            EventKind::Silent | EventKind::Reporting => format!("{}: {}", state_first(event.kind), event.title),
            _ => format!("{}: {}", headline(event), event.title),
        },
        [first, rest @ ..] => {
            let is_same = |same: &dyn Fn(&Event) -> bool| rest.iter().all(same);
            let noun = noun(first.kind);
            let things = if is_same(&|event| self::noun(event.kind) == noun) {
                format!("{noun} are")
            } else {
                "changes:".to_owned()
            };
            let what = if is_same(&|event| event.kind == first.kind) {
                state(first.kind).to_owned()
            } else {
                kinds(events)
            };
            format!("{count} {things} {what} in {}", places(events))
        }
    };
    let said = match reason {
        Reason::PassedOn => format!("Nobody has taken: {said}"),
        Reason::Rule => said,
    };
    one_line(&said, SUBJECT)
}

/// What many events of a kind are of.
const fn noun(kind: EventKind) -> &'static str {
    match kind {
        EventKind::DeployFlagged | EventKind::DeployClear | EventKind::DeployTooEarly => "deploys",
        EventKind::EndpointFailing | EventKind::EndpointSlow => "endpoints",
        EventKind::Over | EventKind::LogLine => "counts",
        EventKind::Silent | EventKind::Reporting => "senders",
        _ => "errors",
    }
}

/// What the events are, each once: `new or surging`.
fn kinds(events: &[Event]) -> String {
    let mut words: Vec<&str> = vec![];
    for event in events {
        if !words.contains(&state(event.kind)) {
            words.push(state(event.kind));
        }
    }
    words.join(" or ")
}

/// Where the events are: one version, one service, or a few.
fn places(events: &[Event]) -> String {
    let mut of: Vec<String> = events.iter().map(place).collect();
    of.dedup();
    if let [only] = of.as_slice() {
        return only.clone();
    }
    let mut services: Vec<&str> = vec![];
    for event in events {
        if !services.contains(&event.service.as_str()) {
            services.push(&event.service);
        }
    }
    match services.as_slice() {
        [one, two, three, rest @ ..] if !rest.is_empty() => {
            format!("{one}, {two}, {three} and {} more services", rest.len())
        }
        all => all.join(", "),
    }
}

/// Whether a character breaks lines or turns the direction of text.
const fn is_mark(c: char) -> bool {
    matches!(c, '\u{2028}' | '\u{2029}' | '\u{200e}'..='\u{200f}' | '\u{202a}'..='\u{202e}' | '\u{2066}'..='\u{2069}')
}

/// Text on one line: breaks and other controls become blanks, what is too long is cut, in characters.
///
/// # Example
/// ```
/// use outcrop_core::notice::one_line;
/// assert_eq!(one_line("no tariff\r\nBcc: all@skerry.example", 40), "no tariff Bcc: all@skerry.example");
/// ```
#[must_use]
pub fn one_line(text: &str, longest: usize) -> String {
    let is_control = |c: char| c.is_control() || is_mark(c);
    let blank = text.replace(is_control, " ");
    let words: Vec<&str> = blank.split_whitespace().collect();
    let line = words.join(" ");
    if line.chars().count() <= longest {
        return line;
    }
    let mut cut: String = line.chars().take(longest.saturating_sub(1)).collect();
    cut.push('…');
    cut
}

/// What an event is of, on one line.
#[must_use]
pub fn title(event: &Event) -> String {
    one_line(&event.title, TITLE)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use rstest::rstest;

    use super::*;
    use crate::{Reference, Timestamp};

    fn event(kind: EventKind, service: &str, version: &str) -> Event {
        Event {
            service: service.to_owned(),
            version: version.to_owned(),
            error: Some(Reference::of_number(1)),
            ..Event::for_tests(1, kind, Timestamp(0))
        }
    }

    #[test]
    fn one_error_is_named_and_many_are_counted() {
        let new = event(EventKind::New, "fares", "2.4.0");
        assert_eq!(
            subject(std::slice::from_ref(&new), 0, Reason::Rule),
            "New in fares 2.4.0, production: KeyError: no tariff"
        );
        assert_eq!(
            subject(std::slice::from_ref(&new), 0, Reason::PassedOn),
            "Nobody has taken: New in fares 2.4.0, production: KeyError: no tariff"
        );
        let many = vec![event(EventKind::New, "gangway", "5.0.0"); 10];
        assert_eq!(
            subject(&many, 4, Reason::Rule),
            "14 errors are new in gangway 5.0.0, production"
        );
        let mixed = [
            new,
            event(EventKind::Surging, "gangway", "5.0.0"),
            event(EventKind::New, "fares", "2.3.0"),
        ];
        assert_eq!(
            subject(&mixed, 0, Reason::Rule),
            "3 errors are new or surging in fares, gangway"
        );
    }

    #[rstest]
    #[case(EventKind::DeployFlagged, "Deploy of fares 2.4.0, production: flagged")]
    #[case(EventKind::Surging, "Surging in fares 2.4.0, production: KeyError: no tariff")]
    #[case(
        EventKind::BackToNormal,
        "Back to normal in fares 2.4.0, production: KeyError: no tariff"
    )]
    #[case(EventKind::Silent, "Silent: KeyError: no tariff")]
    #[case(EventKind::Over, "KeyError: no tariff: never seen before")]
    fn what_became_of_it_comes_first(#[case] kind: EventKind, #[case] said: &str) {
        assert_eq!(subject(&[event(kind, "fares", "2.4.0")], 0, Reason::Rule), said);
    }

    #[test]
    fn many_deploys_are_deploys_and_what_is_of_several_kinds_are_changes() {
        let flagged = [("fares", "2.4.0"), ("sailings", "3.4.0")]
            .map(|(service, version)| event(EventKind::DeployFlagged, service, version));
        assert_eq!(
            subject(&flagged, 0, Reason::Rule),
            "2 deploys are flagged in fares, sailings"
        );
        let [flagged, _] = flagged;
        let both = [flagged, event(EventKind::New, "fares", "2.4.0")];
        assert_eq!(
            subject(&both, 0, Reason::Rule),
            "2 changes: flagged or new in fares 2.4.0, production"
        );
    }

    #[test]
    fn many_services_are_counted() {
        let events = ["fares", "gangway", "stowage", "ledger", "berths"].map(|name| event(EventKind::New, name, ""));
        assert_eq!(
            subject(&events, 0, Reason::Rule),
            "5 errors are new in fares, gangway, stowage and 2 more services"
        );
    }

    proptest! {
        #[test]
        fn a_subject_is_one_short_line_whatever_was_sent(title in ".*", service in ".*", count in 1usize..4) {
            let mut event = event(EventKind::New, &service, "2.4.0");
            event.title = title;
            let subject = subject(&vec![event; count], 0, Reason::Rule);
            prop_assert!(subject.chars().count() <= SUBJECT && !subject.contains(char::is_control), "{subject:?}");
        }
    }
}
