//! What people change about grouping: tried on what is stored, made, undone. Only causes move between errors.

mod by_hand;
mod change;
mod made;
mod make;
pub mod moved;
mod outlook;
mod rules;
mod titles;

pub use change::{Change, ChangeError, MAX_SPLIT_VALUES, Over, Trial};
pub use made::{Cause, Made, causes, changes};
pub(crate) use make::carry_out;
pub use make::{Order, make, try_change, undo};
pub use rules::{rules, service_number, service_of, standing};

#[cfg(test)]
mod tests;
