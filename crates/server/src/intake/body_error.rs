//! Why a body is not taken.

use std::time::Duration;

/// Why a body is not taken.
#[derive(Debug, thiserror::Error)]
pub(crate) enum BodyError {
    #[error("the body is larger than {0} bytes")]
    TooLarge(usize),
    #[error("the body inflates to more than {0} bytes")]
    InflatesTooFar(usize),
    #[error("the body holds more than there is memory for; send smaller batches")]
    TooHeavy,
    #[error("the body is not what its Content-Encoding says: {0}")]
    BadCoding(std::io::Error),
    #[error("the body ended early: {0}")]
    Broken(String),
    #[error("the body did not arrive within {} s; send it again", .0.as_secs())]
    TooSlow(Duration),
    #[error("too much is waiting to be stored; try again shortly")]
    OverBudget,
}
