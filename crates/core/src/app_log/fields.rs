//! The fields of an event: all that a line says beside its time, level and message, under the names it says it by.

use serde_json::{Map, Value};

/// Fields kept of one event; a line of data rarely has more than thirty.
pub const MAX_FIELDS: usize = 64;
/// Bytes kept of one value.
const MAX_VALUE: usize = 4_096;
/// How deep objects are looked into.
const MAX_DEPTH: usize = 4;

/// Names that loggers give to what a resource has in OTLP.
const VERSION: &[&str] = &[
    "service.version",
    "version",
    "app_version",
    "appVersion",
    "service_version",
    "release",
];
const HOST: &[&str] = &["host.name", "hostname", "host", "host_name", "HOSTNAME", "server_name"];
const ENVIRONMENT: &[&str] = &[
    "deployment.environment.name",
    "deployment.environment",
    "environment",
    "env",
];

/// What a line says beside its time, level and message.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Fields {
    /// The version of the service; empty where it is not said.
    pub version: String,
    /// The host; empty where it is not said.
    pub host: String,
    /// The environment; empty where it is not said.
    pub environment: String,
    /// All other fields, objects within by names with dots; 64 at most.
    pub attributes: Vec<(String, Value)>,
}

impl Fields {
    /// The fields of a line of data, less those that `is_said` elsewhere.
    pub(super) fn of(fields: &Map<String, Value>, is_said: impl Fn(&str) -> bool) -> Self {
        let mut all = Self::default();
        for (name, value) in fields.iter().filter(|(name, _)| !is_said(name)) {
            all.add(name, value, 0);
        }
        all
    }

    /// The pairs in a text, such as `user=u-7 order="A 1"`; what is no pair is not looked at.
    pub(super) fn in_text(text: &str) -> Self {
        let mut all = Self::default();
        let mut rest = text;
        while let Some(at) = rest.find('=') {
            let (before, after) = (
                rest.get(..at).unwrap_or_default(),
                rest.get(at + 1..).unwrap_or_default(),
            );
            let name = before
                .rsplit([' ', '\t', ',', '(', '[', '{', ';'])
                .next()
                .unwrap_or_default();
            let (value, next) = if let Some(quoted) = after.strip_prefix('"').and_then(|quoted| quoted.split_once('"'))
            {
                quoted
            } else {
                let end = after.find([' ', '\t', ',', ')', ']', '}', ';']).unwrap_or(after.len());
                after.split_at(end)
            };
            let is_name = name.starts_with(|c: char| c.is_ascii_alphabetic() || c == '_')
                && name.len() <= 60
                && name.bytes().all(|b| b.is_ascii_alphanumeric() || b"._-".contains(&b));
            if is_name && !value.is_empty() && !value.contains(['=', '<', '>']) {
                all.add(name, &Value::String(value.to_owned()), 0);
            }
            rest = next;
        }
        all
    }

    fn add(&mut self, name: &str, value: &Value, depth: usize) {
        if let Value::Object(inner) = value
            && depth < MAX_DEPTH
        {
            for (part, value) in inner {
                self.add(&format!("{name}.{part}"), value, depth + 1);
            }
            return;
        }
        let text = || value.as_str().map_or_else(|| value.to_string(), str::to_owned);
        let is_simple = value.is_string() || value.is_number();
        let of_resource = [
            (VERSION, &mut self.version),
            (HOST, &mut self.host),
            (ENVIRONMENT, &mut self.environment),
        ];
        for (names, said) in of_resource {
            if names.contains(&name) && is_simple && said.is_empty() {
                *said = text();
                return;
            }
        }
        if self.attributes.len() < MAX_FIELDS && !value.is_null() {
            let kept = match value {
                Value::String(text) => Value::String(crate::text::prefix(text, MAX_VALUE).to_owned()),
                Value::Number(_) | Value::Bool(_) => value.clone(),
                other => Value::String(crate::text::prefix(&other.to_string(), MAX_VALUE).to_owned()),
            };
            self.attributes.push((name.to_owned(), kept));
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn of(line: &str) -> Fields {
        let Value::Object(fields) = serde_json::from_str(line).unwrap() else {
            panic!("no object")
        };
        Fields::of(&fields, |name| name == "msg")
    }

    #[test]
    fn every_field_is_kept_under_its_name() {
        let fields = of(
            r#"{"msg":"x","user":"u-7","order":{"id":9,"lines":[1,2]},"ok":true,"none":null,"version":"2.4.0","host":"pier-3","env":"production"}"#,
        );
        let mut named: Vec<(&str, String)> = fields
            .attributes
            .iter()
            .map(|(name, value)| (name.as_str(), value.to_string()))
            .collect();
        named.sort();
        let expected = [
            ("ok", "true"),
            ("order.id", "9"),
            ("order.lines", "\"[1,2]\""),
            ("user", "\"u-7\""),
        ]
        .map(|(name, value)| (name, value.to_owned()));
        assert_eq!(named, expected);
        assert_eq!(
            (
                fields.version.as_str(),
                fields.host.as_str(),
                fields.environment.as_str()
            ),
            ("2.4.0", "pier-3", "production")
        );
    }

    #[test]
    fn pairs_in_a_text_are_fields() {
        let fields = Fields::in_text(
            "quote failed (sailing=S-12, user=\"u 7\") after 3 tries, a == b, path=/v1/quotes?x=1 version=2.4.0",
        );
        let named: Vec<(&str, &str)> = fields
            .attributes
            .iter()
            .map(|(name, value)| (name.as_str(), value.as_str().unwrap()))
            .collect();
        assert_eq!(named, [("sailing", "S-12"), ("user", "u 7")]);
        assert_eq!(fields.version, "2.4.0");
    }

    #[test]
    fn a_line_of_endless_fields_is_cut() {
        let many: Vec<String> = (0..500)
            .map(|at| format!(r#""f{at}":"{}""#, "x".repeat(9_000)))
            .collect();
        let fields = of(&format!("{{{}}}", many.join(",")));
        assert_eq!(fields.attributes.len(), MAX_FIELDS);
        assert!(
            fields
                .attributes
                .iter()
                .all(|(_, value)| value.as_str().unwrap().len() == MAX_VALUE)
        );
        let deep = "{\"a\":".repeat(60) + "1" + &"}".repeat(60);
        assert_eq!(of(&deep).attributes.len(), 1);
    }
}
