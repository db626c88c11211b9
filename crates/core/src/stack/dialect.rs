//! What a runtime's way to write stacks is read by.

use crate::stack::Exception;

/// How one runtime writes its stacks.
pub trait Dialect: Sync {
    /// The runtime's name, as `process.runtime.name` calls it.
    fn runtime(&self) -> &'static str;

    /// Reads a text; `None` where it is not this runtime's. Must take any text in linear time.
    fn read<'a>(&self, text: &'a str) -> Option<Vec<Exception<'a>>>;
}
