use chrono::Utc;
use outcrop_core::Timestamp;
use proptest::prelude::*;

use super::*;

fn stored(reason: &str) -> Stored {
    Stored {
        id: 7,
        rule_id: Some(1),
        rule_name: "Fares".to_owned(),
        way: "mail".to_owned(),
        recipient: "purser@skerry.example".to_owned(),
        reason: reason.to_owned(),
        subject: "New in fares 2.4.0, production: KeyError".to_owned(),
        event_ids: vec![1],
        more: 0,
        body: None,
        made_at: Utc::now(),
        state: "waiting".to_owned(),
        attempts: 1,
        next_at: Utc::now(),
        ended_at: None,
        answer: String::new(),
    }
}

fn event(title: &str, error: Option<u32>) -> Event {
    Event {
        version: "2.4.0".to_owned(),
        title: title.to_owned(),
        evidence: "never seen before in production; first in fares 2.4.0".to_owned(),
        error: error.map(Reference::of_number),
        ..Event::of("fares", "production", EventKind::New, Timestamp(0))
    }
}

fn letter(notice: &Stored, events: &[Event], links: Option<&Links>) -> Letter {
    let mut settings = Settings::new("");
    settings.public_url = Some("https://outcrop.skerry.example".to_owned());
    let rule = NoticeRule {
        text: Some("Call the <pier>.".to_owned()),
        runbook: Some("https://wiki.skerry.example/fares".to_owned()),
        ..super::super::rules::for_tests()
    };
    Letter::of(&Parts {
        notice,
        events,
        rule: Some(&rule),
        echoes: &[(Reference::of_number(1), 2)].into(),
        settings: &settings,
        links,
    })
}

#[test]
fn a_letter_says_what_happened_why_where_to_look_and_what_can_be_done() {
    let links = Links::new(b"a key", "https://outcrop.skerry.example", Utc::now());
    let letter = letter(&stored("rule"), &[event("KeyError: no tariff", Some(1))], Some(&links));
    let text = letter.as_text();
    let reference = Reference::of_number(1);
    let link = format!("https://outcrop.skerry.example/errors/{reference}?environment=production");
    for line in [
        "New in fares 2.4.0, production",
        "KeyError: no tariff",
        "never seen before in production; first in fares 2.4.0",
        "2 errors in other services follow from it.",
        link.as_str(),
        "Call the <pier>.",
        "Runbook: https://wiki.skerry.example/fares",
        "You get this notice because of the rule “Fares”.",
    ] {
        assert!(text.lines().any(|known| known == line), "{line}\n{text}");
    }
    assert!(
        text.contains("Take: https://outcrop.skerry.example/notice-link#"),
        "{text}"
    );
    let html = letter.as_html();
    assert!(
        html.contains("Call the &lt;pier&gt;.") && html.contains(">Take</a>") && html.contains(">Quiet for 24 h</a>")
    );
    assert_eq!(
        (letter.page(), letter.thread()),
        (format!("/errors/{reference}?environment=production"), Some(reference))
    );
}

#[test]
fn each_kind_of_event_leads_to_its_page_and_a_bundle_to_all_notices() {
    let deploy = Event {
        kind: EventKind::DeployFlagged,
        ..event("fares 2.4.0", None)
    };
    let slow = Event {
        kind: EventKind::EndpointSlow,
        ..event("GET /v1/quotes", None)
    };
    let page = |event: &Event| letter(&stored("rule"), std::slice::from_ref(event), None).page();
    assert_eq!(page(&deploy), "/deploys/fares/2.4.0?environment=production");
    assert_eq!(page(&slow), "/traffic?service=fares&environment=production");
    let over = |kind| Event {
        kind,
        ..Event::of("", "", EventKind::Over, Timestamp(0))
    };
    let mut settings = Settings::new("");
    settings.public_url = Some("https://outcrop.skerry.example".to_owned());
    let counted = |kind| {
        let rule = NoticeRule {
            predicate: Some("kind = timeout".to_owned()),
            ..NoticeRule::default()
        };
        let parts = Parts {
            notice: &stored("rule"),
            events: &[over(kind)],
            rule: Some(&rule),
            echoes: &BTreeMap::new(),
            settings: &settings,
            links: None,
        };
        Letter::of(&parts).page()
    };
    assert_eq!(counted(EventKind::Over), "/errors?where=kind%20%3D%20timeout");
    assert_eq!(
        counted(EventKind::LogLine),
        "/traffic?view=logs&where=kind%20%3D%20timeout"
    );
    let both = letter(&stored("passed-on"), &[deploy, slow], None);
    assert_eq!((both.page().as_str(), both.thread()), ("/notices", None));
    assert!(both.as_text().contains("It is passed on to you"));
}

#[test]
fn a_digest_is_its_paragraphs_alone() {
    let mut notice = stored("digest");
    notice.body = Some(json!({"paragraphs": ["New\nno tariff in fares"]}));
    let letter = letter(&notice, &[event("KeyError: no tariff", Some(1))], None);
    assert_eq!((letter.items.len(), letter.paragraphs.len()), (0, 1));
    assert!(!letter.as_text().contains("KeyError") && letter.as_text().contains("no tariff in fares"));
}

#[test]
fn a_chat_is_told_in_a_few_lines() {
    let many: Vec<Event> = (1..=8)
        .map(|number| event(&format!("KeyError {number}"), Some(number)))
        .collect();
    let brief = letter(&stored("rule"), &many, None).in_brief();
    assert_eq!(brief.lines().filter(|line| line.starts_with("· KeyError")).count(), 5);
    assert!(
        brief.contains("and 3 more https://outcrop.skerry.example/notices"),
        "{brief}"
    );
}

proptest! {
    #[test]
    fn what_a_sender_sent_is_no_html(title in ".*") {
        let letter = letter(&stored("rule"), &[event(&title, Some(1))], None);
        // A line that is empty, or that the headline holds, is left out.
        prop_assume!(!letter.items[0].title.is_empty() && !letter.items[0].headline.contains(&letter.items[0].title));
        let plain = letter_with_plain_title(&letter);
        let tags = |html: &str| html.matches('<').count();
        prop_assert_eq!(tags(&letter.as_html()), tags(&plain.as_html()));
        prop_assert_eq!(letter.as_html().matches('"').count(), plain.as_html().matches('"').count());
    }
}

fn letter_with_plain_title(letter: &Letter) -> Letter {
    let mut plain = letter.clone();
    plain.items[0].title = "plain".to_owned();
    plain
}
