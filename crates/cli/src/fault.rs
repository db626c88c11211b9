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
        let text = outcrop_core::text::printable_block(&self.to_string());
        // Where standard error is closed nobody can be told.
        drop(writeln!(std::io::stderr(), "outcrop: {text}"));
        ExitCode::from(match self {
            Self::Usage(_) => 2,
            Self::Refused(_) | Self::Output(_) => 4,
        })
    }
}
