//! Benchmarks against floors measured in the same run, printed as ratios.

#![expect(clippy::print_stdout, reason = "a benchmark's output is its result")]
#![expect(clippy::cast_precision_loss, reason = "rates need three digits")]

mod conditions;
mod core;
mod fill;
mod flags;
mod floor;
mod grouping;
mod intake;
mod lists;
mod measured;
mod notices;
mod processor;
mod query;
mod requests;
mod results;
mod small;
mod thresholds;
mod traces;

use std::path::PathBuf;

use clap::{Parser, Subcommand};

use crate::requests::Load;

/// Benchmarks, with release binaries: cargo build --release first.
#[derive(Parser)]
struct Arguments {
    #[command(subcommand)]
    command: Command,
}

#[derive(Subcommand)]
enum Command {
    /// Stacks read and grouped per second, on one core.
    Core {
        /// Seconds to measure for.
        #[arg(long, default_value_t = 5)]
        seconds: u64,
    },
    /// Flags on simulated fleets, held against what is true: a row for each condition that operators meet.
    Conditions {
        /// The first seed.
        #[arg(long, default_value_t = 1_000)]
        first: u64,
        /// Fleets of each condition: six services over five days each.
        #[arg(long, default_value_t = 20)]
        fleets: u64,
        /// Only conditions whose name has this in it.
        #[arg(long)]
        only: Option<String>,
        /// Also list what was said wrongly and what was missed.
        #[arg(long)]
        notes: bool,
    },
    /// What changing each threshold of flags costs, on simulated fleets.
    Thresholds {
        /// The first seed.
        #[arg(long, default_value_t = 1)]
        first: u64,
        /// Fleets of each of three conditions.
        #[arg(long, default_value_t = 8)]
        fleets: u64,
    },
    /// Processor time of all flags per minute of data.
    Flags {
        /// Services.
        #[arg(long, default_value_t = 1_000)]
        services: u32,
        /// Errors over all services.
        #[arg(long, default_value_t = 20_000)]
        errors: u32,
        /// Minutes to measure, after a day that is learnt.
        #[arg(long, default_value_t = 120)]
        minutes: i64,
    },
    /// Processor time that notices take a minute.
    Notices {
        /// Rules.
        #[arg(long, default_value_t = 1_000)]
        rules: u32,
        /// Services.
        #[arg(long, default_value_t = 300)]
        services: u32,
        /// Minutes to measure.
        #[arg(long, default_value_t = 240)]
        minutes: i64,
    },
    /// How well errors survive edits of their code between two versions, on labelled real stacks.
    Grouping {
        /// The first seed.
        #[arg(long, default_value_t = 1)]
        first: u64,
        /// Versions drawn for all services.
        #[arg(long, default_value_t = 10)]
        rounds: u64,
        /// Two thirds of the errors do not occur in the next version, rather than a sixth: nearly all could be meant.
        #[arg(long)]
        few: bool,
        /// Also list what was lost and what was joined wrongly.
        #[arg(long)]
        notes: bool,
    },
    /// Occurrences, spans or log lines taken per second, durable, against the reference floor.
    Intake {
        /// What is sent.
        #[arg(long, value_enum, default_value = "failures")]
        of: Load,
        /// Send over gRPC rather than HTTP.
        #[arg(long)]
        grpc: bool,
        /// The service's binary.
        #[arg(long, default_value = "target/release/outcrop")]
        binary: String,
        /// Rows in the reference table before measuring.
        #[arg(long, default_value_t = 5_000_000)]
        prefill: u64,
        /// Rounds in which floor and product alternate.
        #[arg(long, default_value_t = 5)]
        rounds: usize,
        /// Seconds per measurement.
        #[arg(long, default_value_t = 8)]
        seconds: u64,
    },
    /// How long a trace, a week of endpoints and the calls take to read among many stored spans.
    Traces {
        /// The service's binary.
        #[arg(long, default_value = "target/release/outcrop")]
        binary: String,
        /// Spans to store first.
        #[arg(long, default_value_t = 50_000_000)]
        spans: u64,
    },
    /// Fills a database that the service has migrated, to look at by hand.
    Fill {
        /// Where it is.
        #[arg(long)]
        database: String,
        #[command(flatten)]
        size: fill::Size,
    },
    /// How long lists and pages take, and what a running service costs, at a fleet's size.
    Lists {
        /// The service's binary.
        #[arg(long, default_value = "target/release/outcrop")]
        binary: String,
        #[command(flatten)]
        size: fill::Size,
        /// Measure at this part of the size as well.
        #[arg(long, default_value_t = 0.1)]
        also: f64,
        /// Seconds for which the service is left alone, to see what it costs; 0: not measured.
        #[arg(long, default_value_t = 120)]
        alone: u64,
        /// Rules of notices in force meanwhile.
        #[arg(long, default_value_t = 1_000)]
        rules: u32,
    },
    /// A few minutes of all that a change is likely to make slower: ratios to floors of the same run.
    Small {
        /// The service's binary.
        #[arg(long, default_value = "target/release/outcrop")]
        binary: String,
        /// Also write them to this file, as JSON.
        #[arg(long)]
        json: Option<PathBuf>,
    },
    /// How two runs of `small` differ.
    Compare {
        /// What the earlier one wrote.
        before: PathBuf,
        /// What the later one wrote.
        after: PathBuf,
    },
    /// How long the list of errors takes, by its API and on its page, at a number of stored occurrences.
    Query {
        /// The service's binary.
        #[arg(long, default_value = "target/release/outcrop")]
        binary: String,
        /// Occurrences to store first.
        #[arg(long, default_value_t = 100_000)]
        occurrences: u64,
        /// Errors they belong to.
        #[arg(long, default_value_t = 200)]
        errors: u64,
        /// Copies of each occurrence to add to the table alone; then only what reads occurrences is measured.
        #[arg(long, default_value_t = 0)]
        copies: u64,
    },
}

#[tokio::main]
async fn main() {
    match Arguments::parse().command {
        Command::Core { seconds } => core::run(seconds),
        Command::Conditions {
            first,
            fleets,
            only,
            notes,
        } => conditions::run(first, fleets, only.as_deref(), notes),
        Command::Thresholds { first, fleets } => thresholds::run(first, fleets),
        Command::Flags {
            services,
            errors,
            minutes,
        } => flags::run(services, errors, minutes.max(1)),
        Command::Notices {
            rules,
            services,
            minutes,
        } => notices::run(rules, services.max(1), minutes.max(1)),
        Command::Grouping {
            first,
            rounds,
            few,
            notes,
        } => grouping::run(first, rounds, few, notes),
        Command::Intake {
            of,
            grpc,
            binary,
            prefill,
            rounds,
            seconds,
        } => {
            intake::run(
                &binary,
                intake::Options {
                    load: of,
                    grpc,
                    prefill,
                    rounds,
                    seconds,
                },
            )
            .await;
        }
        Command::Traces { binary, spans } => traces::run(&binary, spans).await,
        Command::Fill { database, size } => fill::fill(&database, size).await,
        Command::Lists {
            binary,
            size,
            also,
            alone,
            rules,
        } => lists::run(&binary, size, also, (alone, rules)).await,
        Command::Small { binary, json } => small::run(&binary, json.as_deref()).await,
        Command::Compare { before, after } => results::compare(&before, &after),
        Command::Query {
            binary,
            occurrences,
            errors,
            copies,
        } => query::run(&binary, occurrences, errors.max(1), copies).await,
    }
}
