//! Documents of sheets: checked before they are stored, read with the questions of their parts, and made by themselves.

use std::collections::HashMap;

use outcrop_api::{Sheet, SheetDocument, SheetPart, SheetWidth};
use outcrop_core::metric::Together;
use outcrop_core::query::Mistake;
use outcrop_core::question::made::{self, Made};
use outcrop_core::question::read;
use outcrop_store::questions::{saved, sheets};
use outcrop_store::{Database, StoreError};
use serde_json::Value;

/// Most parts of a sheet: as many pictures as a wall can show twice over.
const MAX_PARTS: usize = 40;
/// Longest title, text, and what it is for, in characters.
const LONGEST: (usize, usize, usize) = (200, 4_000, 1_000);

/// Longest name of a metric, in characters: as much as is kept of one.
const LONGEST_METRIC: usize = 255;

/// Why a document cannot be saved.
#[derive(Debug)]
pub(crate) enum Wrong {
    /// A part of it, and what would be right.
    Part(String),
    /// The text of a question, and what is wrong in it.
    Question(String, Mistake),
}

fn wrong<T>(message: impl Into<String>) -> Result<T, Wrong> {
    Err(Wrong::Part(message.into()))
}

/// A document as it may be stored, its questions written as the service writes them.
///
/// # Errors
/// [`Wrong`] of the first thing that is.
pub(crate) fn checked(mut document: SheetDocument) -> Result<SheetDocument, Wrong> {
    let fits = |text: &str, longest: usize| text.chars().count() <= longest && !text.contains('\0');
    if document.parts.len() > MAX_PARTS {
        return wrong(format!("parts: a sheet has {MAX_PARTS} parts at most"));
    }
    if !fits(&document.about, LONGEST.2) {
        return wrong(format!("about: it has {} characters at most", LONGEST.2));
    }
    for name in [&document.service, &document.environment].into_iter().flatten() {
        if name.is_empty() || !fits(name, LONGEST.0) {
            return wrong(format!(
                "service and environment: a name of 1 to {} characters",
                LONGEST.0
            ));
        }
    }
    for (part, number) in document.parts.iter_mut().zip(1..) {
        if !fits(&part.title, LONGEST.0) || part.text.as_ref().is_some_and(|text| !fits(text, LONGEST.1)) {
            return wrong(format!(
                "part {number}: a title has {} characters at most, a text {}",
                LONGEST.0, LONGEST.1
            ));
        }
        let is_name = |name: &String| !name.is_empty() && fits(name, LONGEST_METRIC);
        match (&part.text, &part.question, &part.saved, &part.metric) {
            (Some(_), None, None, None) => {}
            (None, None, Some(name), None) if !name.is_empty() && fits(name, LONGEST.0) => {}
            (None, Some(text), None, None) => part.question = Some(asked(text)?),
            (None, None, None, Some(name)) if is_name(name) && part.by.as_ref().is_none_or(is_name) => {}
            _ => {
                return wrong(format!(
                    "part {number}: it has either text, or a question, or the name of a saved one, or that of a metric"
                ));
            }
        }
        let together = part.together.as_deref();
        if part.metric.is_none() && (part.by.is_some() || together.is_some()) {
            return wrong(format!("part {number}: by and together are of a metric"));
        }
        if together.is_some_and(|word| Together::named(word).is_none()) {
            return wrong(format!(
                "part {number}: together is mean, sum, most, least or a percentile such as p95"
            ));
        }
    }
    Ok(document)
}

fn asked(text: &str) -> Result<String, Wrong> {
    let question = read(text).map_err(|mistake| Wrong::Question(text.to_owned(), mistake))?;
    let says_mine = question
        .matching
        .as_ref()
        .is_some_and(|matching| matching.predicate.says_mine().is_some());
    if says_mine {
        return wrong("`mine` means somebody else for each reader: write `taken by` and an address");
    }
    Ok(question.to_string())
}

/// A document as it is stored.
pub(crate) fn stored(document: &SheetDocument) -> Value {
    serde_json::to_value(document).unwrap_or_default()
}

/// A document out of what is stored; empty where a later release wrote it in another form.
pub(crate) fn of_stored(document: Value) -> SheetDocument {
    serde_json::from_value(document)
        .inspect_err(|error| tracing::warn!(%error, "a sheet cannot be read"))
        .unwrap_or_default()
}

/// The sheet of a name, with the questions of its parts.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
pub(crate) async fn one(database: &Database, name: &str) -> Result<Option<Sheet>, StoreError> {
    let Some(row) = sheets::one(database, name).await? else {
        return Ok(None);
    };
    let document = of_stored(row.document);
    let is_named = document.parts.iter().any(|part| part.saved.is_some());
    let saved = if is_named { saved::list(database).await? } else { vec![] };
    let saved: HashMap<String, String> = saved.into_iter().map(|saved| (saved.name, saved.question)).collect();
    let question = |part: &SheetPart| {
        let named = part.saved.as_ref().and_then(|name| saved.get(name));
        part.question.as_ref().or(named).cloned()
    };
    Ok(Some(Sheet {
        questions: document.parts.iter().map(question).collect(),
        name: row.name,
        document,
        owner: Some(row.owner),
        version: row.version,
        changed_at: Some(row.changed_at),
    }))
}

/// The sheet that nobody had to arrange: of a service, or of a version of it.
pub(crate) fn made(service: &str, version: Option<&str>) -> Sheet {
    let (name, questions) = match version {
        Some(version) => (format!("{service} {version}"), made::of_deploy(version)),
        None => (service.to_owned(), made::of_service()),
    };
    let part = |made: Made| SheetPart {
        title: made.title.to_owned(),
        question: Some(made.question),
        width: if made.is_wide {
            SheetWidth::Whole
        } else {
            SheetWidth::Half
        },
        ..SheetPart::default()
    };
    let parts: Vec<SheetPart> = questions.into_iter().map(part).collect();
    Sheet {
        name,
        questions: parts.iter().map(|part| part.question.clone()).collect(),
        document: SheetDocument {
            service: Some(service.to_owned()),
            parts,
            ..SheetDocument::default()
        },
        owner: None,
        version: 0,
        changed_at: None,
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;
    use serde_json::json;

    use super::*;

    fn document(part: &Value) -> SheetDocument {
        serde_json::from_value(json!({"parts": [part]})).unwrap()
    }

    #[rstest]
    #[case(json!({"text": "Ask the harbour first."}), "")]
    #[case(json!({"saved": "Errors by type", "width": "third"}), "")]
    #[case(json!({"question": "COUNT of occurrences"}), "")]
    #[case(json!({"title": "nothing"}), "part 1: it has either text, or a question")]
    #[case(json!({"text": "a", "question": "count of lines"}), "part 1: it has either")]
    #[case(json!({"saved": ""}), "part 1: it has either")]
    #[case(json!({"metric": "queue.length", "by": "berth", "together": "most"}), "")]
    #[case(json!({"metric": ""}), "part 1: it has either")]
    #[case(json!({"metric": "queue.length", "by": ""}), "part 1: it has either")]
    #[case(json!({"metric": "queue.length", "together": "median"}), "part 1: together is mean")]
    #[case(json!({"text": "a", "by": "berth"}), "part 1: by and together are of a metric")]
    #[case(json!({"title": "t".repeat(201), "text": "a"}), "part 1: a title has 200 characters at most")]
    #[case(json!({"text": "a".repeat(4_001)}), "part 1: a title has")]
    #[case(json!({"question": "count of occurrences where mine"}), "`mine` means somebody else")]
    fn a_part_is_one_thing_within_bounds(#[case] part: Value, #[case] expected: &str) {
        match checked(document(&part)) {
            Ok(document) => {
                assert_eq!(expected, "");
                assert_eq!(of_stored(stored(&document)), document);
            }
            Err(Wrong::Part(message)) => {
                assert!(!expected.is_empty() && message.starts_with(expected), "{message}");
            }
            Err(Wrong::Question(..)) => panic!("each of these can be read"),
        }
    }

    #[test]
    fn the_mistake_of_a_question_is_said_with_its_text() {
        let wrong = checked(document(&json!({"question": "count of occurences"}))).unwrap_err();
        assert!(matches!(wrong, Wrong::Question(text, _) if text == "count of occurences"));
        let many = SheetDocument {
            parts: vec![
                SheetPart {
                    text: Some(String::new()),
                    ..SheetPart::default()
                };
                41
            ],
            ..SheetDocument::default()
        };
        assert!(matches!(checked(many), Err(Wrong::Part(message)) if message.starts_with("parts:")));
    }

    #[test]
    fn what_is_made_by_itself_can_be_saved() {
        for sheet in [made("fares", None), made("fares", Some("5.0.0 \"beta\""))] {
            assert!(checked(sheet.document.clone()).is_ok(), "{}", sheet.name);
            assert_eq!(sheet.questions.len(), sheet.document.parts.len());
        }
    }
}
