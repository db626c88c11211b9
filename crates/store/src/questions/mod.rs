//! Answers questions over occurrences, requests and log lines, each in one statement over the records of its window.

mod answer;
mod counted;
mod fields;
#[cfg(test)]
mod lines_tests;
#[cfg(test)]
mod requests_tests;
pub mod saved;
pub mod sheets;
mod statement;
#[cfg(test)]
mod tests;

use outcrop_core::question::Question;

pub use answer::{Answer, Cell, MAX_KEY, Row, shown};
use answer::{collect, compare};
pub use counted::{is_by_minute, is_folded};

use crate::boxed;
use crate::{Database, Scope, StoreError, to_utc};

/// Answers a question over a scope; the scope's predicate is left out for the question's own.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
#[boxed]
pub async fn answer(database: &Database, question: &Question, scope: &Scope) -> Result<Answer, StoreError> {
    let predicate = question.matching.as_ref().map(|matching| matching.predicate.clone());
    let scope = Scope {
        predicate: predicate.map(std::sync::Arc::new),
        ..scope.clone()
    };
    let window = (crate::from_utc(scope.from), crate::from_utc(scope.to));
    let steps = usize::try_from(question.steps(window)).unwrap_or_default();
    let found = statement::run(database, question, &scope, None).await?;
    let mut answer = collect(question, found, steps);
    if let Some((from, to)) = question.against_at(window) {
        let keys: Vec<Vec<String>> = answer.rows.iter().map(|row| row.keys.clone()).collect();
        let scope = Scope {
            from: to_utc(from),
            to: to_utc(to),
            ..scope
        };
        let earlier = collect(
            question,
            statement::run(database, question, &scope, Some(&keys)).await?,
            0,
        );
        compare(question, &mut answer, earlier);
    }
    Ok(answer)
}
