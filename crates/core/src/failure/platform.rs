//! What the platform that runs services says of them, where it comes as log records: a container
//! killed, a unit that ended.

use super::OccurrenceId;
use crate::telemetry::{LogRecord, Resource, Value};
use crate::{Hasher, Timestamp};

/// Longest reason, name and message kept, in bytes.
const MAX_NAME: usize = 200;
const MAX_MESSAGE: usize = 1_000;

/// Something that the platform did to an instance, or saw of it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PlatformEvent {
    /// The same whenever the same event is sent again.
    pub id: OccurrenceId,
    /// What it happened to: a pod, a node, a host.
    pub object: String,
    /// Where that runs; may be empty.
    pub node: String,
    /// In a word, as the platform says it: `OOMKilling`, `BackOff`, `fares.service`.
    pub reason: String,
    /// In the platform's words.
    pub message: String,
    /// Whether the platform calls it a warning, or worse.
    pub is_warning: bool,
}

/// Reads an event of a container platform as the OpenTelemetry collector sends them (attributes
/// `k8s.event.*`, or the whole object as the body), or what systemd says of a unit (the journal's
/// fields). `None` for what is no such event.
pub(super) fn event(record: &LogRecord, resource: &Resource, at: Timestamp) -> Option<PlatformEvent> {
    of_attributes(record, resource)
        .or_else(|| of_object(&record.body))
        .or_else(|| of_unit(record))
        .map(|event| {
            let bounded = |text: &str, most: usize| crate::text::prefix(text.trim(), most).to_owned();
            let Said {
                object,
                node,
                reason,
                message,
                is_warning,
            } = event;
            let content = Hasher::default()
                .part(object.as_bytes())
                .part(node.as_bytes())
                .part(reason.as_bytes())
                .part(message.as_bytes())
                .finish();
            PlatformEvent {
                id: OccurrenceId::new(at, content),
                object: bounded(&object, MAX_NAME),
                node: bounded(&node, MAX_NAME),
                reason: bounded(&reason, MAX_NAME),
                message: bounded(&message, MAX_MESSAGE),
                is_warning,
            }
        })
}

struct Said {
    object: String,
    node: String,
    reason: String,
    message: String,
    is_warning: bool,
}

fn of_attributes(record: &LogRecord, resource: &Resource) -> Option<Said> {
    let reason = record.attributes.text(&["k8s.event.reason"])?;
    let text = |names: &[&str]| {
        record
            .attributes
            .text(names)
            .or_else(|| resource.attributes.text(names))
            .unwrap_or_default()
            .to_owned()
    };
    let object = text(&["k8s.object.name", "k8s.pod.name", "k8s.event.name"]);
    let is_warning = record.severity >= 13 || record.severity_text.eq_ignore_ascii_case("warning");
    let message = record.body.to_text().into_owned();
    (!object.is_empty()).then(|| Said {
        object,
        node: text(&["k8s.node.name"]),
        reason: reason.to_owned(),
        message,
        is_warning,
    })
}

fn entry<'v>(value: &'v Value, names: &[&str]) -> Option<&'v Value> {
    let Value::Map(entries) = value else { return None };
    entries
        .iter()
        .find(|(name, _)| names.contains(&name.as_str()))
        .map(|(_, value)| value)
}

fn words(value: Option<&Value>) -> String {
    value.map(|value| value.to_text().into_owned()).unwrap_or_default()
}

/// The platform's own object of kind Event, alone or as a watch wraps it.
fn of_object(body: &Value) -> Option<Said> {
    let object = entry(body, &["object"]).unwrap_or(body);
    if words(entry(object, &["kind"])) != "Event" {
        return None;
    }
    let about = entry(object, &["involvedObject", "regarding"])?;
    let source = entry(object, &["source"]);
    Some(Said {
        object: words(entry(about, &["name"])),
        node: words(source.and_then(|source| entry(source, &["host"]))),
        reason: words(entry(object, &["reason"])),
        message: words(entry(object, &["message", "note"])),
        is_warning: words(entry(object, &["type"])).eq_ignore_ascii_case("warning"),
    })
}

/// What systemd itself says of a unit: the journal's fields, as the body or as attributes.
fn of_unit(record: &LogRecord) -> Option<Said> {
    let field = |name: &str| words(entry(&record.body, &[name]).or_else(|| record.attributes.get(name)));
    let unit = field("UNIT");
    if unit.is_empty() || field("SYSLOG_IDENTIFIER") != "systemd" {
        return None;
    }
    let said = field("MESSAGE");
    let message = if said.is_empty() {
        record.body.to_text().into_owned()
    } else {
        said
    };
    let message = message
        .strip_prefix(&format!("{unit}: "))
        .map_or(message.clone(), str::to_owned);
    let is_warning = field("PRIORITY").parse::<u8>().is_ok_and(|priority| priority <= 4);
    Some(Said {
        object: field("_HOSTNAME"),
        node: String::new(),
        reason: unit,
        message,
        is_warning,
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::telemetry::Attributes;

    fn text(content: &str) -> Value {
        Value::String(content.to_owned())
    }

    fn map(entries: &[(&str, Value)]) -> Value {
        Value::Map(
            entries
                .iter()
                .map(|(name, value)| ((*name).to_owned(), value.clone()))
                .collect(),
        )
    }

    fn record(body: Value, attributes: &[(&str, &str)]) -> LogRecord {
        let attributes = attributes
            .iter()
            .map(|(name, value)| ((*name).to_owned(), text(value)))
            .collect();
        LogRecord {
            body,
            attributes: Attributes(attributes),
            ..LogRecord::default()
        }
    }

    #[test]
    fn events_of_platforms_are_told_from_lines_of_services() {
        let none = Resource::default();
        let of_pod = Resource {
            attributes: Attributes(vec![("k8s.object.name".to_owned(), text("fares-7c9"))]),
        };
        let killed = LogRecord {
            severity: 13,
            ..record(
                text("Memory cgroup out of memory"),
                &[("k8s.event.reason", "OOMKilling")],
            )
        };
        let object = map(&[(
            "object",
            map(&[
                ("kind", text("Event")),
                ("reason", text("BackOff")),
                ("note", text("restarting failed container")),
                ("type", text("Warning")),
                ("regarding", map(&[("kind", text("Pod")), ("name", text("fares-7c9"))])),
            ]),
        )]);
        let unit = record(
            text("fares.service: Main process exited, code=killed, status=9/KILL"),
            &[
                ("UNIT", "fares.service"),
                ("SYSLOG_IDENTIFIER", "systemd"),
                ("_HOSTNAME", "pier-3"),
                ("PRIORITY", "4"),
            ],
        );
        let seen = [
            event(&killed, &of_pod, Timestamp(1)),
            event(&record(object, &[]), &none, Timestamp(1)),
            event(&unit, &none, Timestamp(1)),
        ]
        .map(|event| {
            event
                .map(|event| (event.object, event.reason, event.is_warning))
                .unwrap()
        });
        let expected = [
            ("fares-7c9", "OOMKilling"),
            ("fares-7c9", "BackOff"),
            ("pier-3", "fares.service"),
        ];
        assert_eq!(
            seen,
            expected.map(|(object, reason)| (object.to_owned(), reason.to_owned(), true))
        );
        assert_eq!(
            event(
                &record(
                    text("moored"),
                    &[("UNIT", "fares.service"), ("SYSLOG_IDENTIFIER", "fares")]
                ),
                &none,
                Timestamp(1)
            ),
            None
        );
        assert_eq!(event(&killed, &none, Timestamp(1)), None, "of nothing that is named");
    }
}
