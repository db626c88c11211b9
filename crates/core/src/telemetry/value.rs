//! Attribute values, and attributes in the order they were sent.

use std::borrow::Cow;
use std::fmt::Write as _;

use serde::{Deserialize, Serialize};

/// An attribute's or a log body's value: OTLP's `AnyValue`.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub enum Value {
    /// Nothing was set.
    #[default]
    Empty,
    /// Text.
    String(String),
    /// A truth value.
    Bool(bool),
    /// A whole number.
    Int(i64),
    /// A floating-point number, which may be NaN or infinite.
    Double(f64),
    /// Raw bytes.
    Bytes(Vec<u8>),
    /// A list.
    Array(Vec<Value>),
    /// A map, in the sender's order.
    Map(Vec<(String, Value)>),
}

impl Value {
    /// The text, where it is text.
    #[must_use]
    pub fn as_str(&self) -> Option<&str> {
        match self {
            Self::String(text) => Some(text),
            _ => None,
        }
    }

    /// The whole number, also from text that spells one.
    #[must_use]
    pub fn as_int(&self) -> Option<i64> {
        match self {
            Self::Int(number) => Some(*number),
            Self::String(text) => text.trim().parse().ok(),
            _ => None,
        }
    }

    /// About how many bytes it takes in memory.
    #[must_use]
    pub fn weight(&self) -> usize {
        size_of::<Self>()
            + match self {
                Self::String(text) => text.len(),
                Self::Bytes(bytes) => bytes.len(),
                Self::Array(items) => items.iter().map(Self::weight).sum(),
                Self::Map(entries) => entries
                    .iter()
                    .map(|(name, value)| size_of::<String>() + name.len() + value.weight())
                    .sum(),
                Self::Empty | Self::Bool(_) | Self::Int(_) | Self::Double(_) => 0,
            }
    }

    /// The value as one line of text: lists and maps as JSON, nothing as the empty string.
    #[must_use]
    pub fn to_text(&self) -> Cow<'_, str> {
        match self {
            Self::String(text) => Cow::Borrowed(text),
            Self::Empty => Cow::Borrowed(""),
            other => Cow::Owned(match other.to_json() {
                serde_json::Value::String(text) => text,
                json => json.to_string(),
            }),
        }
    }

    /// The value as plain JSON: bytes as lower-case hex, numbers that JSON cannot express as text.
    #[must_use]
    pub fn to_json(&self) -> serde_json::Value {
        match self {
            Self::Empty => serde_json::Value::Null,
            Self::String(text) => text.as_str().into(),
            Self::Bool(flag) => (*flag).into(),
            Self::Int(number) => (*number).into(),
            Self::Double(number) => serde_json::Number::from_f64(*number)
                .map_or_else(|| number.to_string().into(), serde_json::Value::Number),
            Self::Bytes(bytes) => {
                let mut hex = String::with_capacity(bytes.len() * 2);
                for byte in bytes {
                    write!(hex, "{byte:02x}").expect("writing to a string cannot fail");
                }
                hex.into()
            }
            Self::Array(items) => items.iter().map(Self::to_json).collect(),
            Self::Map(entries) => entries
                .iter()
                .map(|(key, value)| (key.clone(), value.to_json()))
                .collect(),
        }
    }
}

impl From<&str> for Value {
    fn from(text: &str) -> Self {
        Self::String(text.to_owned())
    }
}

/// Attributes: names with values, in the sender's order.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Attributes(pub Vec<(String, Value)>);

impl Attributes {
    /// The first value of that name.
    #[must_use]
    pub fn get(&self, name: &str) -> Option<&Value> {
        self.0.iter().find(|(key, _)| key == name).map(|(_, value)| value)
    }

    /// The first value that any of the names has, trying the names in order.
    #[must_use]
    pub fn first(&self, names: &[&str]) -> Option<&Value> {
        names.iter().find_map(|name| self.get(name))
    }

    /// The first non-empty text that any of the names has.
    #[must_use]
    pub fn text(&self, names: &[&str]) -> Option<&str> {
        names
            .iter()
            .find_map(|name| self.get(name)?.as_str().filter(|text| !text.is_empty()))
    }

    /// About how many bytes they take in memory.
    #[must_use]
    pub fn weight(&self) -> usize {
        self.0
            .iter()
            .map(|(name, value)| size_of::<String>() + name.len() + value.weight())
            .sum()
    }

    /// Whether nothing is in it.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// As a JSON object. Of a name given twice, the first value stays.
    #[must_use]
    pub fn to_json(&self) -> serde_json::Map<String, serde_json::Value> {
        let mut object = serde_json::Map::with_capacity(self.0.len());
        for (key, value) in &self.0 {
            if !object.contains_key(key) {
                object.insert(key.clone(), value.to_json());
            }
        }
        object
    }
}

impl<K: Into<String>> FromIterator<(K, Value)> for Attributes {
    fn from_iter<I: IntoIterator<Item = (K, Value)>>(entries: I) -> Self {
        Self(entries.into_iter().map(|(key, value)| (key.into(), value)).collect())
    }
}
