//! Secrets out, before anything is stored: what was once written cannot be taken back.
//!
//! Two ways find them: by the name of the place (an attribute, a key in a form, in JSON, in a header), and by shape
//! (bearer credentials, card numbers, passwords within URLs). A removed value leaves a mark with the reason. People add
//! names and shapes of their own, for one service or all, and say what is to stay.

mod addresses;
mod client;
mod numbers;
mod rules;
mod scrubber;
mod scrubbing;
mod shapes;
mod tokens;
mod words;

use words::split_words;

pub(crate) use words::{CLIENT_ADDRESS, mark};

pub use words::secret_name;

pub use addresses::{Addresses, HIDDEN};
pub use rules::{BrokenRule, LONGEST_SHAPE, Rule, Rules};
pub use scrubber::Scrubber;
pub use scrubbing::{BUILT_IN, Scrubbing};
pub use shapes::text;
