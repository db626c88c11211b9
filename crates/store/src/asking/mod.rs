//! Questions: predicates over occurrences, and the errors and values that they find.

pub mod attributes;
mod chosen;
mod condition;
mod errors;
mod matched;
mod newest;
pub mod parts;
mod quiet;
mod resolve;

pub(crate) use chosen::chosen_attributes;
pub(crate) use condition::{USER, number_of_line, sent};
pub(crate) use errors::services_of;
pub use errors::{list_errors, one_error};
pub(crate) use matched::{count, within};
pub(crate) use newest::newest;
pub use newest::{HitEndpoint, main_endpoints};
pub use quiet::{end_quiet, holds};
pub(crate) use resolve::{resolve, resolve_for};

#[cfg(test)]
mod tests;
