//! What is said beside what the command writes.

use std::io::Write as _;

/// Says something about the report, apart from what the command writes.
pub(super) fn tell(what: &str) {
    let text = outcrop_core::text::printable(what);
    // Where standard error is closed nobody can be told.
    drop(writeln!(std::io::stderr(), "outcrop: {text}"));
}
