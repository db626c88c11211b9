//! What repeats, stored once and named by a number or a hash: names, causes, resources and stacks.

pub(crate) mod causes;
pub(crate) mod interned;
pub(crate) mod names;
