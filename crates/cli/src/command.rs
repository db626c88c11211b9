//! The command line: all commands, and the one that was asked for.

use std::fmt::Write as _;

use clap::{CommandFactory as _, FromArgMatches as _, Parser, Subcommand};

use crate::client::Client;
use crate::commands;
use crate::commands::admin::Admin;
use crate::commands::ask::Ask;
use crate::commands::backtest::Backtest;
use crate::commands::cleaning::CleanUp;
use crate::commands::close_ups::CloseUpCommand;
use crate::commands::collect::Collect;
use crate::commands::config::ConfigCommand;
use crate::commands::demo::Demo;
use crate::commands::deploy::{DeployCommand, Deploys};
use crate::commands::doctor::Doctor;
use crate::commands::errors::Errors;
use crate::commands::export::Export;
use crate::commands::find::Find;
use crate::commands::group::Group;
use crate::commands::grouping::Grouping;
use crate::commands::handling::{Note, Quiet, Reopen, Settle, Take, Undo};
use crate::commands::history::History;
use crate::commands::init::Init;
use crate::commands::key::KeyCommand;
use crate::commands::login::Login;
use crate::commands::logs::Logs;
use crate::commands::markers::MarkerCommand;
use crate::commands::metrics::{Count, Metric, Metrics};
use crate::commands::notice::NoticeCommand;
use crate::commands::occurrence::Occurrence;
use crate::commands::occurrences::Occurrences;
use crate::commands::open::Open;
use crate::commands::owners::OwnerCommand;
use crate::commands::parts::{Parts, Slices, Users};
use crate::commands::people::{MemberCommand, TeamCommand};
use crate::commands::question::QuestionCommand;
use crate::commands::run::Run;
use crate::commands::scrubbing::Scrubbing;
use crate::commands::send::Send;
use crate::commands::sending::{Drops, Refused};
use crate::commands::services::Services;
use crate::commands::sheet::SheetCommand;
use crate::commands::shells::{Completions, Manual};
use crate::commands::show::Show;
use crate::commands::storage::Storage;
use crate::commands::tickets::TicketCommand;
use crate::commands::trace::Trace;
use crate::commands::traffic::{Endpoints, Requests, Slow};
use crate::commands::uses::{Calls, Instances, Now, Statements};
use crate::commands::watch::Watch;
use crate::commands::why::Why;
use crate::fault::Fault;
use crate::settings::{DatabaseArgs, Serve};

/// Errors of many services, from OpenTelemetry: grouped, counted, tied to their requests.
#[derive(Parser)]
#[command(
    name = "outcrop",
    version,
    after_help = "The client reads OUTCROP_URL and OUTCROP_TOKEN, else the profile that `outcrop login` wrote.\n\
                  Exit codes: 0 done or clear, 1 flagged, 2 wrong usage or configuration, 3 too early,\n\
                  4 the service cannot be reached or refused."
)]
pub struct Arguments {
    #[command(subcommand)]
    pub command: Command,
}

impl Arguments {
    /// Reads the arguments of the process; ends it with a message where they are wrong, or where help was asked for.
    pub fn read() -> Self {
        let matches = in_topics(Self::command()).get_matches();
        Self::from_arg_matches(&matches).unwrap_or_else(|error| error.exit())
    }
}

/// The commands by what they are for, as the help lists them.
const TOPICS: [(&str, &[&str]); 7] = [
    (
        "Read",
        &[
            "now",
            "errors",
            "show",
            "why",
            "occurrences",
            "occurrence",
            "trace",
            "endpoints",
            "slow",
            "requests",
            "watch",
            "logs",
            "calls",
            "statements",
            "instances",
            "metrics",
            "metric",
            "count",
            "find",
            "open",
            "ask",
            "export",
            "question",
            "sheet",
            "close-up",
            "parts",
            "users",
        ],
    ),
    ("Decide", &["deploys", "deploy", "marker", "backtest", "group"]),
    (
        "Act",
        &[
            "take", "settle", "quiet", "reopen", "undo", "note", "history", "ticket", "grouping",
        ],
    ),
    ("Be told", &["notice"]),
    ("Send", &["send", "run", "collect", "refused"]),
    (
        "Set up",
        &[
            "login",
            "services",
            "key",
            "member",
            "team",
            "owner",
            "slices",
            "drops",
            "scrubbing",
            "clean-up",
            "completions",
            "manual",
        ],
    ),
    (
        "Run",
        &["init", "serve", "config", "doctor", "storage", "admin", "demo"],
    ),
];

/// Lists the subcommands by topic in the help.
fn in_topics(command: clap::Command) -> clap::Command {
    let mut listed = String::new();
    for (topic, names) in TOPICS {
        listed.extend([topic, ":\n"]);
        for name in names {
            let about = command.find_subcommand(name).and_then(|found| found.get_about());
            let about = about.map(ToString::to_string).unwrap_or_default();
            writeln!(listed, "  {name:<12} {about}").unwrap_or_default();
        }
        listed.push('\n');
    }
    command.help_template(format!(
        "{{about-with-newline}}\n{{usage-heading}} {{usage}}\n\n{listed}Options:\n{{options}}{{after-help}}"
    ))
}

#[derive(Subcommand)]
pub enum Command {
    /// Set up an installation: database, first admin, sender key, settings.
    Init(Init),
    /// Run the service.
    Serve(Box<Serve>),
    /// Manage members, tokens and sender keys, on the database directly.
    Admin {
        #[command(subcommand)]
        command: Admin,
        #[command(flatten)]
        database: DatabaseArgs,
    },
    /// Print the completions of a shell: bash, zsh, fish and others.
    Completions(Completions),
    /// Write the pages of the manual, for `man`.
    Manual(Manual),
    /// Show or check what the service is told by its file and its environment.
    Config {
        #[command(subcommand)]
        command: ConfigCommand,
    },
    /// Say whether the installation is well, and what to do where it is not.
    Doctor(Doctor),
    /// Show what is kept, for how long, and how much room it takes.
    Storage(Storage),
    /// Invite people, change their roles, remove them, over the API.
    Member {
        #[command(subcommand)]
        command: MemberCommand,
        #[command(flatten)]
        client: Client,
    },
    /// Teams: who is in them, which services they own, what only they may read.
    Team {
        #[command(subcommand)]
        command: TeamCommand,
        #[command(flatten)]
        client: Client,
    },
    /// Who owns what: rules, and what nobody owns.
    Owner {
        #[command(subcommand)]
        command: OwnerCommand,
        #[command(flatten)]
        client: Client,
    },
    /// Be told: notice rules, ways, what was sent, how you want to be told.
    Notice {
        #[command(subcommand)]
        command: NoticeCommand,
        #[command(flatten)]
        client: Client,
    },
    /// Tickets of errors in another program: make, link, set up.
    Ticket {
        #[command(subcommand)]
        command: TicketCommand,
        #[command(flatten)]
        client: Client,
    },
    /// Delete the data of a service, an environment, an error or a user, for good.
    CleanUp(CleanUp),
    /// Manage sender keys over the API.
    Key {
        #[command(subcommand)]
        command: KeyCommand,
        #[command(flatten)]
        client: Client,
    },
    /// List errors, those that matter most first.
    Errors(Errors),
    /// Show one error.
    Show(Show),
    /// List the occurrences of an error, the newest first.
    Occurrences(Occurrences),
    /// Take records out as JSON Lines: occurrences, requests or log lines of a window.
    Export(Export),
    /// Show one occurrence in full.
    Occurrence(Occurrence),
    /// Show a whole request over all services: what it waited for, where it failed.
    Trace(Trace),
    /// List endpoints with their traffic, failures and latency.
    Endpoints(Endpoints),
    /// Show what made the slowest requests slow, worst first.
    Slow(Slow),
    /// List kept requests: failed, slow, answered 4xx or 5xx, and one in 100.
    Requests(Requests),
    /// Follow requests as they pass.
    Watch(Watch),
    /// Show services, endpoints and errors that need attention right now.
    Now(Now),
    /// List log lines, the newest first, or what they have in common.
    Logs(Logs),
    /// List calls between services, databases and queues, with failures and latency.
    Calls(Calls),
    /// List database statements, those that took most time first.
    Statements(Statements),
    /// List instances: version, host, region, requests, failures, load.
    Instances(Instances),
    /// Find a reference, link, trace or request id, user, log line or stack.
    Find(Find),
    /// Open in the browser whatever `find` finds.
    Open(Open),
    /// Report one failure by hand, or test a sender key.
    Send(Send),
    /// Run a command, and report the run and what it died of.
    Run(Run),
    /// Send the failures in application logs, for services that send no telemetry.
    Collect(Collect),
    /// Group recorded exceptions, without a server.
    Group(Group),
    /// Show why an error occurs: the evidence in order.
    Why(Why),
    /// Take an error, or hand it to somebody.
    Take(Take),
    /// Settle an error: say in which version it must not occur any more.
    Settle(Settle),
    /// Quiet an error for a time, or until a condition holds.
    Quiet(Quiet),
    /// Reopen an error that is settled or quiet.
    Reopen(Reopen),
    /// Say what happened to an error: what people did and wrote, flags, deploys.
    History(History),
    /// Undo what was done last about an error.
    Undo(Undo),
    /// Add a note to the history of an error.
    Note(Note),
    /// Mark changes other than deploys, and see what followed.
    Marker {
        #[command(subcommand)]
        command: MarkerCommand,
    },
    /// Record a deploy, or check whether it did harm.
    Deploy {
        #[command(subcommand)]
        command: DeployCommand,
    },
    /// List deploys, each with the answer of its check.
    Deploys(Deploys),
    /// Show the flags of a recorded stream, without a server.
    Backtest(Backtest),
    /// Answer a question: count, users, percentiles and more, by any field, over time.
    Ask(Ask),
    /// Save questions under a name.
    Question {
        #[command(subcommand)]
        command: QuestionCommand,
        #[command(flatten)]
        client: Client,
    },
    /// Count a question for good, as a metric.
    Count(Count),
    /// List metrics: those that services send, and counted questions.
    Metrics(Metrics),
    /// Show a metric over time, by version, instance or any of its attributes.
    Metric(Metric),
    /// Keep the next occurrences of an error, or that a predicate holds for, in full.
    CloseUp {
        #[command(subcommand)]
        command: CloseUpCommand,
        #[command(flatten)]
        client: Client,
    },
    /// Show and save pages of questions and text.
    Sheet {
        #[command(subcommand)]
        command: SheetCommand,
        #[command(flatten)]
        client: Client,
    },
    /// Count errors, occurrences and users by any field or attribute.
    Parts(Parts),
    /// List the users an error hit.
    Users(Users),
    /// Save predicates under a name, for `slice = NAME`.
    Slices {
        #[command(subcommand)]
        command: Option<Slices>,
        #[command(flatten)]
        client: Client,
    },
    /// List the services that report; set source links, instance groups, customers.
    Services {
        #[command(subcommand)]
        command: Option<Services>,
        #[command(flatten)]
        client: Client,
    },
    /// List requests of senders that were refused, and why.
    Refused(Refused),
    /// List and set what is discarded as it comes in.
    Drops {
        #[command(subcommand)]
        command: Option<Drops>,
        #[command(flatten)]
        client: Client,
    },
    /// List and set what is removed from telemetry before it is stored.
    Scrubbing {
        #[command(subcommand)]
        command: Option<Scrubbing>,
        #[command(flatten)]
        client: Client,
    },
    /// Join and split errors, and say which code is a service's own.
    Grouping {
        #[command(subcommand)]
        command: Grouping,
    },
    /// Sign in, and keep address and token for the next commands.
    Login(Login),
    /// Run the service with a made-up fleet: a week of history, then live.
    Demo(Demo),
}

impl Command {
    /// Does what was asked for.
    pub async fn run(self) -> Result<(), Fault> {
        match self {
            Self::Init(init) => commands::init::run(init).await,
            Self::Serve(serve) => commands::serve::run(serve).await,
            Self::Admin { command, database } => match command {
                Admin::Member { command } => commands::admin::member::run(database, command).await,
                Admin::Token { command } => commands::admin::token::run(database, command).await,
                Admin::Session { command } => commands::admin::session::run(database, command).await,
                Admin::Key { command, json } => commands::admin::key::run(database, command, json).await,
                Admin::Audit(list) => commands::admin::audit::run(database, list).await,
                Admin::Migrate => commands::admin::migrate::run(database).await,
                Admin::Weight(weight) => commands::admin::weight::run(database, weight).await,
            },
            Self::Config { command } => commands::config::run(command),
            Self::Doctor(doctor) => commands::doctor::run(doctor).await,
            Self::Storage(storage) => commands::storage::run(storage).await,
            Self::Member { command, client } => commands::people::member(command, client).await,
            Self::Team { command, client } => commands::people::team(command, client).await,
            Self::Owner { command, client } => commands::owners::run(command, client).await,
            Self::Notice { command, client } => commands::notice::run(command, client).await,
            Self::Ticket { command, client } => commands::tickets::run(command, client).await,
            Self::CleanUp(clean_up) => commands::cleaning::run(clean_up).await,
            Self::Key { command, client } => commands::key::run(command, client).await,
            Self::Errors(errors) => commands::errors::run(errors).await,
            Self::Show(show) => commands::show::run(show).await,
            Self::Export(export) => commands::export::run(export).await,
            Self::Occurrences(occurrences) => commands::occurrences::run(occurrences).await,
            Self::Trace(trace) => commands::trace::run(trace).await,
            Self::Endpoints(endpoints) => commands::traffic::endpoints(endpoints).await,
            Self::Slow(slow) => commands::traffic::slow(slow).await,
            Self::Requests(requests) => commands::traffic::requests(requests).await,
            Self::Watch(watch) => commands::watch::watch(watch).await,
            Self::Now(now) => commands::uses::now(now).await,
            Self::Logs(logs) => commands::logs::run(logs).await,
            Self::Calls(calls) => commands::uses::calls(calls).await,
            Self::Statements(statements) => commands::uses::statements(statements).await,
            Self::Instances(instances) => commands::uses::instances(instances).await,
            Self::Completions(arguments) => commands::shells::completions(&arguments, in_topics(Arguments::command())),
            Self::Manual(arguments) => commands::shells::manual(&arguments, in_topics(Arguments::command())),
            Self::Open(open) => commands::open::run(open).await,
            Self::Find(find) => commands::find::run(find).await,
            Self::Occurrence(occurrence) => commands::occurrence::run(occurrence).await,
            Self::Ask(ask) => commands::ask::ask(ask).await,
            Self::Count(arguments) => commands::metrics::count(arguments).await,
            Self::Metrics(arguments) => commands::metrics::metrics(arguments).await,
            Self::Metric(arguments) => commands::metrics::metric(arguments).await,
            Self::CloseUp { command, client } => commands::close_ups::close_up(command, client).await,
            Self::Sheet { command, client } => commands::sheet::sheet(command, client).await,
            Self::Question { command, client } => commands::question::question(command, client).await,
            Self::Parts(parts) => commands::parts::parts(parts).await,
            Self::Users(users) => commands::parts::users(users).await,
            Self::Slices { command, client } => commands::parts::slices(command, client).await,
            Self::Services { command, client } => commands::services::run(command, client).await,
            Self::Refused(refused) => commands::sending::refused(refused).await,
            Self::Drops { command, client } => commands::sending::drops(command, client).await,
            Self::Scrubbing { command, client } => commands::scrubbing::run(command, client).await,
            Self::Grouping { command } => commands::grouping::run(command).await,
            Self::Send(send) => commands::send::run(send).await,
            Self::Run(run) => commands::run::run(run).await,
            Self::Collect(collect) => commands::collect::run(collect).await,
            Self::Why(why) => commands::why::run(why).await,
            Self::Take(take) => commands::handling::take(take).await,
            Self::Settle(settle) => commands::handling::settle(settle).await,
            Self::Quiet(quiet) => commands::handling::quiet(quiet).await,
            Self::Reopen(reopen) => commands::handling::reopen(reopen).await,
            Self::History(history) => commands::history::run(history).await,
            Self::Undo(undo) => commands::handling::undo(undo).await,
            Self::Note(note) => commands::handling::note(note).await,
            Self::Marker { command } => commands::markers::run(command).await,
            Self::Deploy { command } => commands::deploy::run(command).await,
            Self::Deploys(deploys) => commands::deploy::list(deploys).await,
            Self::Backtest(backtest) => commands::backtest::run(&backtest),
            Self::Group(group) => commands::group::run(&group),
            Self::Login(login) => commands::login::run(login).await,
            Self::Demo(demo) => commands::demo::run(demo).await,
        }
    }
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeSet;

    use super::*;

    #[test]
    fn the_arguments_are_sound() {
        in_topics(Arguments::command()).debug_assert();
    }

    #[test]
    fn each_command_stands_under_one_topic() {
        let command = Arguments::command();
        let all: BTreeSet<&str> = command.get_subcommands().map(clap::Command::get_name).collect();
        let listed: Vec<&str> = TOPICS.iter().flat_map(|(_, names)| *names).copied().collect();
        assert_eq!(listed.iter().copied().collect::<BTreeSet<_>>(), all);
        assert_eq!(listed.len(), all.len(), "a command stands under two topics");
    }

    #[test]
    fn a_line_of_the_help_fits_into_a_terminal_of_100_columns() {
        let help = in_topics(Arguments::command()).render_help().to_string();
        let long: Vec<&str> = help.lines().filter(|line| line.chars().count() > 100).collect();
        assert_eq!(long, Vec::<&str>::new());
    }
}
