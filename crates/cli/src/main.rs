//! Outcrop: the service and its client in one binary.

mod args;
mod client;
mod commands;
mod fault;
mod output;
mod profile;
mod settings;

use std::process::ExitCode;

use args::{Admin, Arguments, Command};
use clap::Parser;

/// An intake makes and frees many small things on many threads: a tenth of its time with the system's allocator.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

#[tokio::main]
async fn main() -> ExitCode {
    let arguments = Arguments::parse();
    let done = match arguments.command {
        Command::Serve(serve) => commands::serve::run(serve).await,
        Command::Admin { command, database } => match command {
            Admin::Member { command } => commands::admin::member::run(database, command).await,
            Admin::Token { command } => commands::admin::token::run(database, command).await,
            Admin::Session { command } => commands::admin::session::run(database, command).await,
            Admin::Key { command, json } => commands::admin::key::run(database, command, json).await,
            Admin::Audit(list) => commands::admin::audit::run(database, list).await,
            Admin::Migrate => commands::admin::migrate::run(database).await,
            Admin::Weight(weight) => commands::admin::weight::run(database, weight).await,
        },
        Command::Storage(storage) => commands::storage::run(storage).await,
        Command::Key { command, client } => commands::key::run(command, client).await,
        Command::Errors(errors) => commands::errors::run(errors).await,
        Command::Show(show) => commands::show::run(show).await,
        Command::Occurrences(occurrences) => commands::occurrences::run(occurrences).await,
        Command::Trace(trace) => commands::trace::run(trace).await,
        Command::Endpoints(endpoints) => commands::traffic::endpoints(endpoints).await,
        Command::Slow(slow) => commands::traffic::slow(slow).await,
        Command::Requests(requests) => commands::traffic::requests(requests).await,
        Command::Watch(watch) => commands::traffic::watch(watch).await,
        Command::Now(now) => commands::uses::now(now).await,
        Command::Logs(logs) => commands::logs::run(logs).await,
        Command::Calls(calls) => commands::uses::calls(calls).await,
        Command::Statements(statements) => commands::uses::statements(statements).await,
        Command::Instances(instances) => commands::uses::instances(instances).await,
        Command::Find(find) => commands::find::run(find).await,
        Command::Occurrence(occurrence) => commands::occurrence::run(occurrence).await,
        Command::Parts(parts) => commands::parts::parts(parts).await,
        Command::Users(users) => commands::parts::users(users).await,
        Command::Slices { command, client } => commands::parts::slices(command, client).await,
        Command::Services { command, client } => commands::services::run(command, client).await,
        Command::Refused(refused) => commands::sending::refused(refused).await,
        Command::Drops { command, client } => commands::sending::drops(command, client).await,
        Command::Scrubbing { command, client } => commands::scrubbing::run(command, client).await,
        Command::Grouping { command } => commands::grouping::run(command).await,
        Command::Send(send) => commands::send::run(send).await,
        Command::Collect(collect) => commands::collect::run(collect).await,
        Command::Why(why) => commands::why::run(why).await,
        Command::Take(take) => commands::handling::take(take).await,
        Command::Settle(settle) => commands::handling::settle(settle).await,
        Command::Quiet(quiet) => commands::handling::quiet(quiet).await,
        Command::Reopen(reopen) => commands::handling::reopen(reopen).await,
        Command::Note(note) => commands::handling::note(note).await,
        Command::Marker { command } => commands::markers::run(command).await,
        Command::Deploy { command } => commands::deploy::run(command).await,
        Command::Deploys(deploys) => commands::deploy::list(deploys).await,
        Command::Backtest(backtest) => commands::backtest::run(&backtest),
        Command::Group(group) => commands::group::run(&group),
        Command::Login(login) => commands::login::run(login).await,
        Command::Demo(demo) => commands::demo::run(demo).await,
    };
    match done {
        Ok(()) => ExitCode::SUCCESS,
        Err(fault) => fault.report(),
    }
}
