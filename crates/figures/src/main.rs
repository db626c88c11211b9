//! Prints the figures of the workspace it is run in, or with `--check` what is past a limit.

use std::io::Write as _;
use std::path::Path;
use std::process::ExitCode;

use outcrop_figures::{Workspace, figures, limits};

fn main() -> ExitCode {
    let workspace = match Workspace::read(Path::new(".")) {
        Ok(workspace) => workspace,
        Err(error) => {
            eprintln!("outcrop-figures: {error}");
            return ExitCode::from(2);
        }
    };
    let said = if std::env::args().any(|argument| argument == "--check") {
        limits::broken(&workspace).join("\n")
    } else {
        figures::table(&figures::of(&workspace))
    };
    let written = writeln!(std::io::stdout(), "{}", said.trim_end());
    ExitCode::from(u8::from(written.is_err()))
}
