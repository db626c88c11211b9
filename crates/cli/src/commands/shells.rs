//! `outcrop completions` and `outcrop manual`: what shells and `man` read of the command line.

use std::path::PathBuf;

use clap::{Args, Command};
use clap_complete::{Shell, generate};

use crate::fault::Fault;
use crate::output::{counted, line};

#[derive(Args)]
#[command(
    after_help = "Examples:\n  outcrop completions bash > /etc/bash_completion.d/outcrop\n  outcrop completions zsh > \
        ~/.zfunc/_outcrop\n  outcrop completions fish > ~/.config/fish/completions/outcrop.fish"
)]
pub struct Completions {
    /// The shell that is to read them.
    #[arg(value_enum)]
    pub shell: Shell,
}

#[derive(Args)]
#[command(after_help = "Example:\n  outcrop manual --to /usr/local/share/man/man1")]
pub struct Manual {
    /// The folder to write the pages to; it is made where it is missing.
    #[arg(long, value_name = "FOLDER")]
    pub to: PathBuf,
}

/// Writes the completions of a shell to standard output.
pub fn completions(arguments: &Completions, mut command: Command) -> Result<(), Fault> {
    let mut script = vec![];
    generate(arguments.shell, &mut command, "outcrop", &mut script);
    std::io::Write::write_all(&mut std::io::stdout(), &script).map_err(Fault::from)
}

/// Writes a page of the manual for each command.
pub fn manual(arguments: &Manual, command: Command) -> Result<(), Fault> {
    let told = |error: std::io::Error| Fault::Usage(format!("{}: {error}", arguments.to.display()));
    std::fs::create_dir_all(&arguments.to).map_err(told)?;
    let mut command = command.disable_help_subcommand(true);
    command.build();
    clap_mangen::generate_to(command, &arguments.to).map_err(told)?;
    let pages = std::fs::read_dir(&arguments.to).map_err(told)?;
    let pages = pages
        .flatten()
        .filter(|page| page.file_name().to_string_lossy().starts_with("outcrop"));
    let number = i64::try_from(pages.count()).unwrap_or(i64::MAX);
    line(format!(
        "{} written. Read the first: man {}",
        counted(number, "page", "pages"),
        arguments.to.join("outcrop.1").display()
    ))
}
