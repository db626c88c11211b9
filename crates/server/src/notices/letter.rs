//! A letter: what a notice tells, before it is put into the form of its way. Text from senders is
//! escaped for the medium that it goes to.

use std::collections::BTreeMap;
use std::fmt::Write as _;

use outcrop_api::NoticeRule;
use outcrop_core::Reference;
use outcrop_core::notice::{Event, EventKind, headline, one_line, title};
use outcrop_store::notices::outbox::Stored;
use serde_json::{Value, json};

use super::links::{Links, Verb};
use crate::html::escaped;
use crate::settings::Settings;

/// Longest evidence of one event, in characters.
const EVIDENCE: usize = 400;

/// What is told of one event.
#[derive(Clone, Debug, Default, PartialEq)]
pub(super) struct Item {
    /// What happened where: `New in fares 2.4.0, production`.
    pub headline: String,
    /// What it happened to.
    pub title: String,
    /// The message of its newest occurrence, where that says more.
    pub message: String,
    /// Why, in words and numbers.
    pub evidence: String,
    /// The error.
    pub error: Option<Reference>,
    /// The page that it is about, from the root on.
    pub page: String,
    /// That page with the installation's address.
    pub link: Option<String>,
    /// Links that take and quiet the error, for a single person.
    pub actions: Vec<(&'static str, String)>,
    /// Errors of other services that follow from it.
    pub echoes: usize,
    /// The facts, for programs.
    pub facts: Value,
}

/// What a notice tells.
#[derive(Clone, Debug, Default, PartialEq)]
pub(super) struct Letter {
    /// The notice's number.
    pub id: i64,
    /// What it is about, on one line.
    pub subject: String,
    /// The events.
    pub items: Vec<Item>,
    /// How many more there were.
    pub more: i32,
    /// What to do, by the rule.
    pub text: Option<String>,
    /// The rule's runbook.
    pub runbook: Option<String>,
    /// Why it is sent, as a sentence.
    pub because: String,
    /// Paragraphs in place of events: a digest, or a test.
    pub paragraphs: Vec<String>,
    /// The page that paragraphs are about, from the root on.
    pub page: Option<String>,
    /// The page of all notices.
    pub link: Option<String>,
}

/// What a letter is made of.
pub(super) struct Parts<'p> {
    pub notice: &'p Stored,
    pub events: &'p [Event],
    /// The rule, where it is still there.
    pub rule: Option<&'p NoticeRule>,
    /// How many errors follow from those of the events.
    pub echoes: &'p BTreeMap<Reference, usize>,
    pub settings: &'p Settings,
    /// What makes links that act; none where the recipient may not, or is nobody.
    pub links: Option<&'p Links>,
}

impl Letter {
    /// Makes the letter of a notice.
    pub(super) fn of(parts: &Parts<'_>) -> Self {
        let notice = parts.notice;
        let name = one_line(&notice.rule_name, EVIDENCE);
        let because = match notice.reason.as_str() {
            "passed-on" => format!("It is passed on to you by the rule “{name}”, because nobody has taken it."),
            "digest" => "You get this digest because you asked for one a day.".to_owned(),
            "close-up" => "You get this notice because you asked for the close-up.".to_owned(),
            "test" => format!("This is a test of the rule “{name}”."),
            _ => format!("You get this notice because of the rule “{name}”."),
        };
        let paragraphs = notice
            .body
            .as_ref()
            .and_then(|body| body["paragraphs"].as_array())
            .map(|paragraphs| paragraphs.iter().filter_map(Value::as_str).map(str::to_owned).collect());
        let paragraphs: Vec<String> = paragraphs.unwrap_or_default();
        // What a digest tells stands in its paragraphs; its events only say what it is of.
        let events = if paragraphs.is_empty() { parts.events } else { &[] };
        Self {
            id: notice.id,
            subject: one_line(&notice.subject, 200),
            items: events.iter().map(|event| item(event, parts)).collect(),
            more: notice.more,
            text: parts.rule.and_then(|rule| rule.text.clone()),
            runbook: parts.rule.and_then(|rule| rule.runbook.clone()),
            because,
            paragraphs,
            page: (notice.body.as_ref()).and_then(|body| body["page"].as_str().map(str::to_owned)),
            link: parts.settings.page(&["notices"], &[]),
        }
    }

    /// The one error that it is about, as far as it is about one.
    pub(super) fn thread(&self) -> Option<Reference> {
        let mut errors: Vec<Reference> = self.items.iter().filter_map(|item| item.error).collect();
        errors.dedup();
        match errors.as_slice() {
            [only] => Some(*only),
            _ => None,
        }
    }

    /// Where it leads: to the one thing that it is about, or to the page of notices.
    pub(super) fn page(&self) -> String {
        match self.items.as_slice() {
            [only] => only.page.clone(),
            _ => self.page.clone().unwrap_or_else(|| "/notices".to_owned()),
        }
    }

    /// The letter as plain text.
    pub(super) fn as_text(&self) -> String {
        let mut text = String::new();
        for paragraph in &self.paragraphs {
            let _ = writeln!(text, "{paragraph}\n");
        }
        for item in &self.items {
            let _ = writeln!(text, "{}", item.headline);
            for line in item.lines() {
                let _ = writeln!(text, "{line}");
            }
            if let Some(link) = &item.link {
                let _ = writeln!(text, "{link}");
            }
            for (verb, link) in &item.actions {
                let _ = writeln!(text, "{verb}: {link}");
            }
            text.push('\n');
        }
        if let Some(more) = self.more() {
            let _ = writeln!(text, "{more}\n");
        }
        if let Some(own) = &self.text {
            let _ = writeln!(text, "{own}\n");
        }
        if let Some(runbook) = &self.runbook {
            let _ = writeln!(text, "Runbook: {runbook}\n");
        }
        let _ = writeln!(text, "-- \n{}", self.because);
        if let Some(link) = &self.link {
            let _ = writeln!(text, "{link}");
        }
        text
    }

    /// The letter as HTML, without anything that a mail program would load.
    pub(super) fn as_html(&self) -> String {
        let mut html = String::from(
            "<!doctype html><html lang=\"en\"><meta charset=\"utf-8\"><body style=\"font:15px/1.5 sans-serif;color:#1f2328\">",
        );
        for paragraph in &self.paragraphs {
            let lines = escaped(paragraph).replace('\n', "<br>");
            let _ = write!(html, "<p>{lines}</p>");
        }
        for item in &self.items {
            let _ = write!(html, "<p><b>{}</b>", escaped(&item.headline));
            for line in item.lines() {
                let _ = write!(html, "<br>{}", escaped(&line));
            }
            let name = item.error.map_or_else(|| "Open".to_owned(), |error| error.to_string());
            let mut links: Vec<String> = item.link.iter().map(|link| anchor(link, &name)).collect();
            links.extend(item.actions.iter().map(|(verb, link)| anchor(link, verb)));
            if !links.is_empty() {
                let _ = write!(html, "<br>{}", links.join(" · "));
            }
            html.push_str("</p>");
        }
        if let Some(more) = self.more() {
            let _ = write!(html, "<p>{more}</p>");
        }
        if let Some(own) = &self.text {
            let _ = write!(html, "<p>{}</p>", escaped(own).replace('\n', "<br>"));
        }
        if let Some(runbook) = &self.runbook {
            let _ = write!(html, "<p>{}</p>", anchor(runbook, "Runbook"));
        }
        let _ = write!(html, "<p style=\"color:#59636e\">{}", escaped(&self.because));
        if let Some(link) = &self.link {
            let _ = write!(html, " {}", anchor(link, "All notices"));
        }
        html.push_str("</p></body></html>");
        html
    }

    /// The letter in a few lines, for a chat.
    pub(super) fn in_brief(&self) -> String {
        const LINES: usize = 5;
        let mut lines = vec![self.subject.clone()];
        lines.extend(self.paragraphs.iter().cloned());
        if let [only] = self.items.as_slice() {
            lines.extend(only.lines().into_iter().filter(|line| *line != only.title));
            lines.extend(only.link.clone());
        } else {
            for item in self.items.iter().take(LINES) {
                lines.push(format!("· {} {}", item.title, item.link.clone().unwrap_or_default()));
            }
            let rest = self.items.len().saturating_sub(LINES) + usize::try_from(self.more).unwrap_or_default();
            if rest > 0 {
                lines.push(format!("and {rest} more {}", self.link.clone().unwrap_or_default()));
            }
        }
        lines.extend(self.text.clone());
        lines.extend(self.runbook.clone());
        lines.retain(|line| !line.is_empty());
        lines.iter().map(|line| line.trim_end()).collect::<Vec<_>>().join("\n")
    }

    /// What a page shows below the subject: the evidence of one event, the titles of several.
    pub(super) fn on_a_page(&self) -> String {
        let lines: Vec<&str> = match self.items.as_slice() {
            [] => self.paragraphs.iter().map(String::as_str).collect(),
            [only] => vec![&only.evidence],
            items => items.iter().take(3).map(|item| item.title.as_str()).collect(),
        };
        lines.join("\n")
    }

    /// The letter as the data of a CloudEvent.
    pub(super) fn as_data(&self, notice: &Stored) -> Value {
        json!({
            "subject": self.subject,
            "reason": notice.reason,
            "rule": notice.rule_name,
            "events": self.items.iter().map(|item| item.facts.clone()).collect::<Vec<_>>(),
            "more": self.more,
            "text": self.text,
            "runbook": self.runbook,
            "paragraphs": self.paragraphs,
        })
    }

    fn more(&self) -> Option<String> {
        (self.more > 0).then(|| format!("And {} more, which are not listed here.", self.more))
    }
}

impl Item {
    /// What is said below the headline.
    fn lines(&self) -> Vec<String> {
        let mut lines = vec![self.title.clone(), self.message.clone(), self.evidence.clone()];
        lines.extend(self.echoes());
        // Of a deploy the headline names all there is to name.
        lines.retain(|line| !line.is_empty() && !self.headline.contains(line.as_str()));
        lines
    }

    fn echoes(&self) -> Option<String> {
        match self.echoes {
            0 => None,
            1 => Some("1 error in another service follows from it.".to_owned()),
            n => Some(format!("{n} errors in other services follow from it.")),
        }
    }
}

fn item(event: &Event, parts: &Parts<'_>) -> Item {
    let reference = event.error.map(|error| error.to_string());
    let predicate = parts
        .rule
        .and_then(|rule| rule.predicate.as_deref())
        .unwrap_or_default();
    let (environment, service) = (
        ("environment", event.environment.as_str()),
        ("service", event.service.as_str()),
    );
    let (path, mut query): (Vec<&str>, Vec<(&str, &str)>) = match (&reference, event.kind) {
        (Some(reference), _) => (vec!["errors", reference], vec![environment]),
        (None, EventKind::DeployFlagged | EventKind::DeployClear | EventKind::DeployTooEarly) => {
            (vec!["deploys", &event.service, &event.version], vec![environment])
        }
        (None, EventKind::Over) => (vec!["errors"], vec![("where", predicate)]),
        (None, EventKind::LogLine) => (vec!["traffic"], vec![("view", "logs"), ("where", predicate)]),
        _ => (vec!["traffic"], vec![service, environment]),
    };
    query.retain(|(_, value)| !value.is_empty());
    let page = Settings::address(&path, &query);
    let link = parts.settings.page(&path, &query);
    let can_act = event
        .error
        .filter(|_| !event.kind.follows() && event.kind != EventKind::BackToNormal);
    let actions = parts.links.zip(can_act).map(|(links, error)| {
        let to = parts.notice.recipient.as_str();
        [Verb::Take, Verb::Quiet]
            .into_iter()
            .filter_map(|verb| Some((verb.label(), links.to(to, verb, error)?)))
            .collect()
    });
    Item {
        headline: one_line(&headline(event), EVIDENCE),
        title: title(event),
        message: message(event),
        evidence: one_line(&event.evidence, EVIDENCE),
        error: event.error,
        facts: json!({
            "kind": event.kind.word(),
            "at": outcrop_store::to_utc(event.at),
            "since": outcrop_store::to_utc(event.since),
            "service": event.service,
            "namespace": event.namespace,
            "environment": event.environment,
            "version": event.version,
            "endpoint": event.endpoint,
            "ref": reference,
            "title": event.title,
            "evidence": event.evidence,
            "owner": event.owner,
            "taken_by": event.taken_by,
            "link": link,
        }),
        page,
        link,
        actions: actions.unwrap_or_default(),
        echoes: event
            .error
            .and_then(|error| parts.echoes.get(&error))
            .copied()
            .unwrap_or_default(),
    }
}

/// The message of the newest occurrence, where the title does not hold it whole.
fn message(event: &Event) -> String {
    let message = event
        .cases
        .first()
        .map(|case| one_line(&case.message, EVIDENCE))
        .unwrap_or_default();
    if event.title.contains(&message) {
        String::new()
    } else {
        message
    }
}

fn anchor(link: &str, text: &str) -> String {
    format!("<a href=\"{}\">{}</a>", escaped(link), escaped(text))
}

#[cfg(test)]
impl Letter {
    /// A letter of one new error with a title, for tests.
    pub(super) fn for_tests(subject: &str) -> Self {
        Self {
            id: 7,
            subject: one_line(subject, 200),
            items: vec![Item {
                headline: "New in fares 2.4.0, production".to_owned(),
                title: one_line(subject, 200),
                evidence: "never seen before".to_owned(),
                error: "kobal-tirun".parse().ok(),
                page: "/errors/kobal-tirun".to_owned(),
                ..Item::default()
            }],
            because: "You get this notice because of the rule “Fares”.".to_owned(),
            ..Self::default()
        }
    }
}

#[cfg(test)]
mod tests;
