//! What nothing has that a predicate asks for.

use outcrop_core::query::Predicate;
use outcrop_store::asking::attributes;
use outcrop_store::{Database, StoreError};

/// What must be said of a predicate that held for nothing: which attributes it asks for that nothing has.
pub(crate) async fn unknown(database: &Database, asked: Option<&Predicate>) -> Result<Option<String>, StoreError> {
    let Some(asked) = asked else { return Ok(None) };
    let unknown = attributes::unknown(database, asked).await?;
    Ok((!unknown.is_empty()).then(|| unknown.iter().map(ToString::to_string).collect::<Vec<_>>().join("; ")))
}
