//! Which occurrences are one error: the grouping key and what it was made of.
//!
//! Three tiers, the first that has something to say decides: the service's own frames over the whole cause chain; else
//! library frames; else the message's template. What shifts between versions and runs (lines, paths, recursion depth,
//! names of lambdas, middleware around the app) takes no part.

mod algorithm;
mod codes;
mod described;
mod key;
mod kind;
pub mod moved;
mod numbers;
pub mod regrouping;
pub mod rules;
mod template;
pub mod together;
mod variable;

pub use key::{Explanation, Grouping, KeyPart, KeyPartKind, Subject, Tier, explain, group};

pub use algorithm::ALGORITHM;

pub use described::Described;
pub use numbers::{NumberOfLine, number_at, numbers_of, place_of};
pub use template::template;
