//! What a sender adds to the frames of a stack: variables and lines of source.
//!
//! The attribute [`FRAMES`] of the event or log record holds a list, as an OTLP array of maps or as JSON text:
//! `[{"function": "quote", "file": "tariff.py", "line": 92, "variables": {"metres": "12"},
//! "source": {"first": 90, "lines": ["…"]}}]`. All but one of `function` and `line` may be left
//! out. It is scrubbed like every attribute.

use serde_json::{Map, Value};

use crate::stack::{Frame, base_name};

/// The attribute's name.
pub const FRAMES: &str = "outcrop.frames";
/// Frames read of one occurrence.
const MAX_FRAMES: usize = 100;
/// Variables read of one frame.
const MAX_VARIABLES: usize = 100;
/// Lines of source read of one frame.
const MAX_LINES: usize = 50;

/// What was sent of one frame.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct FrameData {
    function: String,
    file: String,
    line: Option<u64>,
    /// Names and values of variables, as text.
    pub variables: Vec<(String, String)>,
    /// Lines of source.
    pub source: Option<SourceLines>,
}

/// Lines of a source file.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct SourceLines {
    /// The number of the first of them, from 1.
    pub first: u32,
    /// The lines.
    pub lines: Vec<String>,
}

/// Reads what a sender added to frames; nothing where it is not of the form above.
#[must_use]
pub fn frame_data(attributes: &Map<String, Value>) -> Vec<FrameData> {
    let parsed;
    let list = match attributes.get(FRAMES) {
        Some(Value::Array(list)) => list,
        Some(Value::String(text)) => {
            parsed = serde_json::from_str::<Vec<Value>>(text).unwrap_or_default();
            &parsed
        }
        _ => return vec![],
    };
    list.iter()
        .take(MAX_FRAMES)
        .filter_map(Value::as_object)
        .map(read)
        .collect()
}

fn read(frame: &Map<String, Value>) -> FrameData {
    let text = |name: &str| frame.get(name).and_then(Value::as_str).unwrap_or_default().to_owned();
    let plain = |value: &Value| value.as_str().map_or_else(|| value.to_string(), str::to_owned);
    let variables = frame.get("variables").and_then(Value::as_object);
    let source = frame.get("source").and_then(Value::as_object).and_then(|source| {
        let lines: Vec<String> = source
            .get("lines")?
            .as_array()?
            .iter()
            .take(MAX_LINES)
            .map(plain)
            .collect();
        let first = source
            .get("first")
            .and_then(Value::as_u64)
            .and_then(|first| u32::try_from(first).ok())?;
        (!lines.is_empty()).then_some(SourceLines { first, lines })
    });
    FrameData {
        function: text("function"),
        file: text("file"),
        line: frame.get("line").and_then(Value::as_u64),
        variables: variables
            .into_iter()
            .flatten()
            .take(MAX_VARIABLES)
            .map(|(name, value)| (name.clone(), plain(value)))
            .collect(),
        source,
    }
}

impl FrameData {
    /// Whether it was sent of this frame: what both tell of function, file and line is the same,
    /// and at least function or line is told.
    #[must_use]
    pub fn is_of(&self, frame: &Frame<'_>) -> bool {
        let last = |name: &str| name.rsplit(['.', ':', '#']).next().unwrap_or(name).to_owned();
        let function =
            self.function.is_empty() || frame.function.is_empty() || last(&self.function) == last(&frame.function);
        let file = self.file.is_empty() || frame.file.is_empty() || base_name(&self.file) == base_name(&frame.file);
        let line = self.line.is_none() || frame.line.is_none() || self.line == frame.line.map(u64::from);
        function && file && line && (!self.function.is_empty() || self.line.is_some())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_a_sender_adds_is_found_for_its_frame() {
        let text = r#"[{"function": "Tariff.quote", "line": 92, "variables": {"metres": 12, "season": "winter"}},
            {"file": "/srv/app/season.py", "line": 7, "source": {"first": 6, "lines": ["a", "b"]}}, {"variables": {"of": "nothing"}}]"#;
        let as_text = Map::from_iter([(FRAMES.to_owned(), Value::String(text.to_owned()))]);
        let as_array = Map::from_iter([(FRAMES.to_owned(), serde_json::from_str(text).unwrap())]);
        let data = frame_data(&as_text);
        assert_eq!(data, frame_data(&as_array));
        let frame = |function: &'static str, file: &'static str, line| Frame {
            function: function.into(),
            file: file.into(),
            line: Some(line),
            ..Frame::default()
        };
        let of = |frame: &Frame<'_>| data.iter().find(|data| data.is_of(frame));
        assert_eq!(
            of(&frame("quote", "tariff.py", 92)).unwrap().variables[0],
            ("metres".to_owned(), "12".to_owned())
        );
        assert_eq!(
            of(&frame("season_of", "season.py", 7))
                .unwrap()
                .source
                .as_ref()
                .unwrap()
                .lines,
            ["a", "b"]
        );
        assert_eq!(of(&frame("quote", "tariff.py", 93)), None);
    }
}
