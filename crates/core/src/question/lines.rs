//! Numbers within log lines, named in questions by their place in the line's template.

use super::asked::{Question, Source};
use crate::grouping::{NumberOfLine, number_at, numbers_of, place_of};
use crate::query::{Check, Comparison, Field, Predicate};

/// The template that all lines fulfilling a predicate have: one that it demands as a whole.
///
/// # Example
/// ```
/// use outcrop_core::{query::parse, question::template_of};
/// let predicate = parse("service = fares and template = \"took {duration}\"").unwrap();
/// assert_eq!(template_of(&predicate), Some("took {duration}"));
/// ```
#[must_use]
pub fn template_of(predicate: &Predicate) -> Option<&str> {
    match predicate {
        Predicate::All(parts) => parts.iter().find_map(template_of),
        Predicate::Test(test) if is_template(&test.field) => match &test.check {
            Check::Is(Comparison::Equal, value) => Some(&value.text),
            _ => None,
        },
        _ => None,
    }
}

/// Whether a field of lines is their template.
#[must_use]
pub fn is_template(field: &Field) -> bool {
    *field == Field::Attribute("template".to_owned())
}

impl Question {
    /// The number that a field of a question of lines stands for: `number_2` is the second of the lines' template.
    #[must_use]
    pub fn number_of(&self, field: &Field) -> Option<NumberOfLine> {
        if self.source != Source::Lines {
            return None;
        }
        let template = template_of(&self.matching.as_ref()?.predicate)?;
        number_at(template, place(field)?)
    }

    /// What is wrong with a field that names a number of a line.
    pub(super) fn wrong_number(&self, field: &Field) -> Option<String> {
        let place = place(field).filter(|_| self.source == Source::Lines)?;
        let template = self
            .matching
            .as_ref()
            .and_then(|matching| template_of(&matching.predicate));
        let Some(template) = template else {
            return Some(format!(
                "which lines have it? `number_{place}` counts within lines of one template: add `where template = \"…\"`"
            ));
        };
        let numbers = numbers_of(template);
        (place > numbers).then(|| match numbers {
            0 => "lines of this template have no number".to_owned(),
            1 => "lines of this template have one number, `number_1`".to_owned(),
            _ => format!("lines of this template have {numbers} numbers: `number_1` to `number_{numbers}`"),
        })
    }
}

fn place(field: &Field) -> Option<usize> {
    match field {
        Field::Attribute(name) => place_of(name),
        _ => None,
    }
}
