//! What ends a command without success: its kind, its exit code, what to do about it.

use std::io::Write;
use std::process::ExitCode;

/// Why a command failed; the kind sets the exit code.
#[derive(Debug, thiserror::Error)]
pub enum Fault {
    /// Wrong usage or configuration.
    #[error("{0}")]
    Usage(String),
    /// The service, or the database of `admin`, cannot be reached or refused.
    #[error("{0}")]
    Refused(String),
    /// The service cannot be reached, or cannot answer now; it may later.
    #[error("{0}")]
    Away(String),
    /// A deploy check found harm; it was said already.
    #[error("flagged")]
    Flagged,
    /// A deploy check cannot say yet; that was said already.
    #[error("too early")]
    TooEarly,
    /// A command that was run ended with this exit code; whatever there is to say it said itself.
    #[error("exit code {0}")]
    Ended(u8),
    /// Output could not be written.
    #[error("cannot write: {0}")]
    Output(#[from] std::io::Error),
}

impl Fault {
    /// Says what went wrong and gives the exit code.
    pub fn report(&self) -> ExitCode {
        // A reader that has seen enough (`| head`) is no fault.
        if matches!(self, Self::Output(error) if error.kind() == std::io::ErrorKind::BrokenPipe) {
            return ExitCode::SUCCESS;
        }
        match self {
            Self::Flagged => return ExitCode::from(1),
            Self::TooEarly => return ExitCode::from(3),
            Self::Ended(code) => return ExitCode::from(*code),
            _ => {}
        }
        let text = outcrop_core::text::printable_block(&self.to_string());
        // Where standard error is closed nobody can be told.
        drop(writeln!(std::io::stderr(), "outcrop: {text}"));
        ExitCode::from(match self {
            Self::Usage(_) => 2,
            _ => 4,
        })
    }
}
