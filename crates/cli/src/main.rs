//! Outcrop: the service and its client in one binary.

mod client;
mod clock;
mod command;
mod commands;
mod fault;
mod output;
mod profile;
mod settings;
mod state_folder;
mod window;

use std::process::ExitCode;

use command::Arguments;

/// An intake makes and frees many small things on many threads: a tenth of its time with the system's allocator.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

#[tokio::main]
async fn main() -> ExitCode {
    let arguments = Arguments::read();
    match arguments.command.run().await {
        Ok(()) => ExitCode::SUCCESS,
        Err(fault) => fault.report(),
    }
}
