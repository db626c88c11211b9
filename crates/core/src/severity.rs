//! Severities by their names.

/// The lowest OTLP severity number of a severity's name, of OTLP's own six or as loggers and syslog
/// call them; `None` where it is none.
///
/// # Example: names of one severity
/// ```
/// use outcrop_core::severity::number;
/// assert_eq!(["warn", "Warning", "WARNING"].map(number), [Some(13); 3]);
/// assert_eq!(["fatal", "critical", "emerg"].map(number), [Some(21); 3]);
/// assert_eq!(number("berth"), None);
/// ```
#[must_use]
pub fn number(name: &str) -> Option<u8> {
    Some(match name.to_ascii_lowercase().as_str() {
        "trace" | "verbose" | "finest" | "finer" => 1,
        "debug" | "fine" => 5,
        "info" | "information" | "informational" | "notice" | "config" => 9,
        "warn" | "warning" => 13,
        "error" | "err" | "severe" => 17,
        "fatal" | "critical" | "crit" | "alert" | "emerg" | "emergency" | "panic" => 21,
        _ => return None,
    })
}
