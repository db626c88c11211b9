//! The records of one service, cleaned.

use super::rules::Said;
use super::{Addresses, CLIENT_ADDRESS, Rules, client, mark, secret_name, shapes};
use crate::telemetry::names::{EXCEPTION_MESSAGE, EXCEPTION_STACKTRACE};
use crate::telemetry::{Attributes, LogRecord, Resource, Scope, Span, SpanKind, Value};

/// How the records of one service are scrubbed.
#[derive(Clone, Copy, Debug)]
pub struct Scrubber<'a> {
    rules: &'a Rules,
    /// Hides e-mail addresses; `None` where they are kept.
    addresses: Option<&'a Addresses>,
    /// Whether a peer's address is that of a server.
    is_call: bool,
}

impl<'a> Scrubber<'a> {
    pub(super) const fn new(rules: &'a Rules, addresses: Option<&'a Addresses>) -> Self {
        Self {
            rules,
            addresses,
            is_call: false,
        }
    }

    /// Whether people have rules that hold here.
    #[must_use]
    pub const fn has_rules(&self) -> bool {
        !self.rules.is_empty()
    }

    /// Says why a value under this name must go, if it must.
    #[must_use]
    pub fn reason(&self, name: &str) -> Option<&'a str> {
        match self.rules.of_name(name) {
            Some(Said::Remove(reason)) => Some(reason),
            Some(Said::Keep) => None,
            None => {
                secret_name(name).filter(|reason| *reason != CLIENT_ADDRESS || !(self.is_call && client::is_peer(name)))
            }
        }
    }

    /// The text without secrets and with e-mail addresses hidden; `None` where it stays as it is.
    #[must_use]
    pub fn text(&self, content: &str) -> Option<String> {
        let mut clean: Option<String> = None;
        for (shape, reason) in self.rules.shapes() {
            let content = clean.as_deref().unwrap_or(content);
            if shape.is_match(content) {
                clean = Some(shape.replace_all(content, regex::NoExpand(&mark(reason))).into_owned());
            }
        }
        let reason = |name: &str| self.reason(name);
        clean = shapes::inserted_by(clean.as_deref().unwrap_or(content), &reason).or(clean);
        let built_in = shapes::text_by(clean.as_deref().unwrap_or(content), &reason);
        clean = built_in.or(clean);
        if let Some(addresses) = self.addresses
            && let std::borrow::Cow::Owned(hidden) = addresses.in_text(clean.as_deref().unwrap_or(content))
        {
            clean = Some(hidden);
        }
        clean
    }

    fn in_string(&self, content: &mut String) {
        if let Some(clean) = self.text(content) {
            *content = clean;
        }
    }

    /// Scrubs one value; `name` is the name of its place.
    pub fn value(&self, name: &str, value: &mut Value) {
        if let Some(reason) = self.reason(name)
            && !matches!(value, Value::Empty | Value::Bool(_))
        {
            *value = Value::String(mark(reason));
            return;
        }
        match value {
            Value::String(content) => self.in_string(content),
            Value::Int(number) => {
                // A number may be a card's, or have the shape that a rule looks for.
                if let Some(clean) = self.text(&number.to_string()) {
                    *value = Value::String(clean);
                }
            }
            Value::Array(items) => {
                for item in items {
                    self.value(name, item);
                }
            }
            Value::Map(entries) => {
                for (key, entry) in entries {
                    self.value(key, entry);
                    self.in_string(key);
                }
            }
            Value::Bytes(bytes) => {
                // Bytes that are text may hold a form or a token.
                if let Ok(content) = std::str::from_utf8(bytes)
                    && let Some(clean) = self.text(content)
                {
                    *bytes = clean.into_bytes();
                }
            }
            Value::Empty | Value::Bool(_) | Value::Double(_) => {}
        }
    }

    /// Scrubs a set of attributes.
    pub fn attributes(&self, attributes: &mut Attributes) {
        self.parameters(attributes);
        for (name, value) in &mut attributes.0 {
            self.value(name, value);
            self.in_string(name);
        }
    }

    /// Parameters of a statement that names a secret column stand by place: all of them go.
    fn parameters(&self, attributes: &mut Attributes) {
        let is_parameter = |name: &str| name.starts_with("db.query.parameter.") || name == "db.statement.parameters";
        if !attributes.0.iter().any(|(name, _)| is_parameter(name)) {
            return;
        }
        let statements = attributes
            .0
            .iter()
            .filter(|(name, _)| matches!(name.as_str(), "db.query.text" | "db.statement"));
        let named = statements.into_iter().find_map(|(_, text)| {
            let text = text.to_text();
            text.split(|c: char| !(c.is_alphanumeric() || c == '_'))
                .find_map(|word| self.reason(word))
        });
        if let Some(reason) = named {
            for (_, value) in attributes.0.iter_mut().filter(|(name, _)| is_parameter(name)) {
                *value = Value::String(mark(reason));
            }
        }
    }

    /// Scrubs a resource.
    pub fn resource(&self, resource: &mut Resource) {
        self.attributes(&mut resource.attributes);
    }

    /// Scrubs a scope.
    pub fn scope(&self, scope: &mut Scope) {
        self.in_string(&mut scope.name);
        self.in_string(&mut scope.version);
        self.attributes(&mut scope.attributes);
    }

    /// Scrubs a span with all its events. The address that it gives as its client's goes wherever
    /// its attributes repeat it, public ones from what it tells of a failure.
    pub fn span(&self, span: &mut Span) {
        let scrubber = Self {
            is_call: matches!(span.kind, SpanKind::Client | SpanKind::Producer),
            ..*self
        };
        let mut clients = vec![];
        let is_removed = |name: &str| scrubber.reason(name).is_some();
        client::named_in(&span.attributes, is_removed, &mut clients);
        for event in &span.events {
            client::named_in(&event.attributes, is_removed, &mut clients);
        }
        scrubber.in_string(&mut span.name);
        scrubber.in_string(&mut span.status_message);
        scrubber.attributes(&mut span.attributes);
        for event in &mut span.events {
            scrubber.in_string(&mut event.name);
            scrubber.attributes(&mut event.attributes);
        }
        if !self.hides_clients() {
            return;
        }
        without_public(&mut span.status_message);
        if !scrubber.is_call {
            // What calls another names the server there; what serves names who called.
            without_public(&mut span.name);
        }
        let clients = client::Clients::new(clients);
        in_attributes(&mut span.attributes, &clients);
        for event in &mut span.events {
            in_attributes(&mut event.attributes, &clients);
        }
    }

    /// Whether addresses of clients go.
    fn hides_clients(&self) -> bool {
        self.reason("client.address").is_some()
    }

    /// Scrubs a log record. The address that it gives as its client's goes wherever its attributes
    /// repeat it, public ones from what it says.
    pub fn log_record(&self, record: &mut LogRecord) {
        let mut clients = vec![];
        client::named_in(&record.attributes, |name| self.reason(name).is_some(), &mut clients);
        self.in_string(&mut record.severity_text);
        self.in_string(&mut record.event_name);
        self.value("body", &mut record.body);
        self.attributes(&mut record.attributes);
        if self.hides_clients() {
            in_each(&mut record.body, &without_public);
            in_attributes(&mut record.attributes, &client::Clients::new(clients));
        }
    }
}

/// Whether an attribute holds what is told of a failure: a message that other records tell as well.
fn is_told(name: &str) -> bool {
    matches!(name, EXCEPTION_MESSAGE | EXCEPTION_STACKTRACE)
}

fn without_public(content: &mut String) {
    if let Some(clean) = client::without_public(content) {
        *content = clean;
    }
}

/// Takes the record's own clients out of its attributes, and public addresses out of what is told of a failure.
fn in_attributes(attributes: &mut Attributes, clients: &client::Clients) {
    for (name, value) in &mut attributes.0 {
        if is_told(name) {
            in_each(value, &without_public);
        } else if !clients.is_empty() {
            in_each(value, &|content: &mut String| {
                if let Some(clean) = clients.without(content) {
                    *content = clean;
                }
            });
        }
    }
}

fn in_each(value: &mut Value, change: &impl Fn(&mut String)) {
    match value {
        Value::String(content) => change(content),
        Value::Array(items) => items.iter_mut().for_each(|item| in_each(item, change)),
        Value::Map(entries) => entries.iter_mut().for_each(|(_, entry)| in_each(entry, change)),
        Value::Empty | Value::Bool(_) | Value::Int(_) | Value::Double(_) | Value::Bytes(_) => {}
    }
}
