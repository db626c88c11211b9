//! The command line, whole.

mod admin;
mod handling;
mod logs;
mod markers;

use std::path::PathBuf;

use clap::{Args, Parser, Subcommand, ValueEnum};
use outcrop_api::Severity;
use serde::Deserialize;

pub use admin::{Admin, AuditList, KeyCommand, MemberAdd, MemberCommand, Role, SessionCommand, TokenCommand, Weight};
pub use handling::{Note, Quiet, Reopen, Settle, Take};
pub use logs::{Calls, Instances, Logs, Now, Statements};
pub use markers::{ListMarkers, MarkerCommand, RecordMarker};

/// Errors of many services, from OpenTelemetry: grouped, counted, tied to their requests.
#[derive(Parser)]
#[command(
    name = "outcrop",
    version,
    after_help = "The client reads OUTCROP_URL and OUTCROP_TOKEN, else the profile that `outcrop login` wrote.\n\
                  Exit codes: 0 done, 2 wrong usage or configuration, 4 the service cannot be reached or refused."
)]
pub struct Arguments {
    #[command(subcommand)]
    pub command: Command,
}

#[derive(Subcommand)]
pub enum Command {
    /// Run the service.
    Serve(Box<Serve>),
    /// Members, tokens and sender keys, on the database directly.
    Admin {
        #[command(subcommand)]
        command: Admin,
        #[command(flatten)]
        database: DatabaseArgs,
    },
    /// Say what is kept, for how long, and how much room it takes.
    Storage(Storage),
    /// Sender keys, by an admin's token.
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
    /// Show one occurrence in full.
    Occurrence(Occurrence),
    /// Show a trace: the whole request over all services, what it was waiting for, where it failed.
    Trace(Trace),
    /// List endpoints with their traffic, failures and latency.
    Endpoints(Endpoints),
    /// Say what made the slowest requests slow, worst first.
    Slow(Slow),
    /// List requests that are kept by themselves: failed, slow, answered 4xx or 5xx, and one in 100.
    Requests(Requests),
    /// Follow requests as they pass.
    Watch(Watch),
    /// Say what is unwell now: endpoints that fail or are slow against their own past, errors that are up.
    Now(Now),
    /// List log lines, the newest first, or what they have in common.
    Logs(Logs),
    /// List who calls whom: services, databases, queues, with traffic, failures and latency.
    Calls(Calls),
    /// List database statements, those that took most time first.
    Statements(Statements),
    /// List instances: version, host, region, requests, failures, load.
    Instances(Instances),
    /// Find whatever you have at hand: a reference, a link, a trace or request id, a user, a log line, a stack.
    Find(Find),
    /// Report a failure by hand; also the way to test a sender key.
    Send(Send),
    /// Read application logs, find the failures in them, send them: for services that send no telemetry.
    Collect(Collect),
    /// Group exceptions without a server: a dry run.
    Group(Group),
    /// Say why an error is there: the evidence in order.
    Why(Why),
    /// Take an error, or hand it to somebody.
    Take(Take),
    /// Say in which version an error must not occur any more.
    Settle(Settle),
    /// Tell nobody of an error for a time, or until something holds for it.
    Quiet(Quiet),
    /// Make an error neither settled nor quiet.
    Reopen(Reopen),
    /// Write down something worth knowing of an error.
    Note(Note),
    /// Mark changes that are no deploys, and see what happened after them.
    Marker {
        #[command(subcommand)]
        command: MarkerCommand,
    },
    /// Record a deploy, or ask whether it did harm.
    Deploy {
        #[command(subcommand)]
        command: DeployCommand,
    },
    /// List deploys, announced and seen, each with its answer.
    Deploys(Deploys),
    /// Say the flags (new, surging, returned) of a recorded stream without a server: a dry run.
    Backtest(Backtest),
    /// Count errors, occurrences and users by any field: kind, namespace, touches, group, customer,
    /// a resource's attribute.
    Parts(Parts),
    /// List the users an error hit.
    Users(Users),
    /// Predicates saved under a name, asked for by `slice = NAME`.
    Slices {
        #[command(subcommand)]
        command: Option<Slices>,
        #[command(flatten)]
        client: Client,
    },
    /// The services that report, and what people say of them: links to source, instance groups, customers.
    Services {
        #[command(subcommand)]
        command: Option<Services>,
        #[command(flatten)]
        client: Client,
    },
    /// Requests of senders that were refused just now, and why.
    Refused(Refused),
    /// What is dropped as it comes in, before it counts.
    Drops {
        #[command(subcommand)]
        command: Option<Drops>,
        #[command(flatten)]
        client: Client,
    },
    /// What is removed before anything is stored: rules added to the built-in ones, for a service or all.
    Scrubbing {
        #[command(subcommand)]
        command: Option<Scrubbing>,
        #[command(flatten)]
        client: Client,
    },
    /// Join and split errors, say which code is a service's own; all can be tried first and undone.
    Grouping {
        #[command(subcommand)]
        command: Grouping,
    },
    /// Sign in to a service and keep its address and a token for the next commands.
    Login(Login),
    /// Run the service with Skerry Line, a made-up fleet: a week of history, then live.
    Demo(Demo),
}

#[derive(Args)]
#[command(
    after_help = "Example:\n  outcrop login https://outcrop.skerry.example --token-stdin < token.txt\n\n\
    The profile is written to $XDG_CONFIG_HOME/outcrop/profile.toml, readable by you alone.\n\
    OUTCROP_URL and OUTCROP_TOKEN win over it."
)]
pub struct Login {
    /// Where the service is.
    #[arg(value_name = "URL")]
    pub url: String,
    /// Read the token from standard input; `outcrop admin token create` makes one.
    #[arg(long, required = true)]
    pub token_stdin: bool,
}

#[derive(Args)]
#[command(
    after_help = "Example:\n  outcrop demo --database-url postgres://outcrop@127.0.0.1/demo\n\n\
    The history is loaded once; started again, it goes on with what is there."
)]
pub struct Demo {
    #[command(flatten)]
    pub database: DatabaseArgs,
    /// Where console, API and OTLP/HTTP are served.
    #[arg(long, env = "OUTCROP_LISTEN", value_name = "ADDR", default_value = "127.0.0.1:8471")]
    pub listen: String,
    /// Minutes of history, a week at most.
    #[arg(long, env = "OUTCROP_DEMO_MINUTES", value_name = "N", default_value_t = 10_080)]
    pub minutes: i64,
    /// The same seed makes the same fleet.
    #[arg(long, env = "OUTCROP_DEMO_SEED", value_name = "N", default_value_t = 1)]
    pub seed: u64,
}

/// How long data is kept and how much room it takes. All instances on one database must be given the same.
#[derive(Args, Default, Deserialize)]
#[command(next_help_heading = "What is kept")]
pub struct Keep {
    /// Days for which occurrences, their bodies and counts by the minute are kept, 1 to 30 [default: 30].
    #[arg(long, env = "OUTCROP_OCCURRENCE_DAYS", value_name = "N")]
    pub occurrence_days: Option<i64>,
    /// Days for which log lines are kept, 1 to 30 [default: 7].
    #[arg(long, env = "OUTCROP_LOG_DAYS", value_name = "N")]
    pub log_days: Option<i64>,
    /// Days for which kept traces are kept, 1 to 30 [default: 30].
    #[arg(long, env = "OUTCROP_TRACE_DAYS", value_name = "N")]
    pub trace_days: Option<i64>,
    /// Days for which counts by hour and day are kept, 30 to 400 [default: 400].
    #[arg(long, env = "OUTCROP_COUNT_DAYS", value_name = "N")]
    pub count_days: Option<i64>,
    /// Room for spans of the last 45 minutes; past it the oldest go [default: 8GiB].
    #[arg(long, env = "OUTCROP_HOT_BYTES", value_name = "SIZE")]
    pub hot_bytes: Option<String>,
    /// Room for kept traces; past it the oldest days go [default: no limit].
    #[arg(long, env = "OUTCROP_TRACE_BYTES", value_name = "SIZE")]
    pub trace_bytes: Option<String>,
    /// Room for log lines; past it the oldest days go [default: no limit].
    #[arg(long, env = "OUTCROP_LOG_BYTES", value_name = "SIZE")]
    pub log_bytes: Option<String>,
    /// Room for bodies of occurrences; past it the oldest days go [default: no limit].
    #[arg(long, env = "OUTCROP_BODY_BYTES", value_name = "SIZE")]
    pub body_bytes: Option<String>,
    /// Room for the whole database; past it senders are told to come back later [default: no limit].
    #[arg(long, env = "OUTCROP_DATABASE_BYTES", value_name = "SIZE")]
    pub database_bytes: Option<String>,
    /// What must stay free on the database's disk, where it is on this host; below it senders are
    /// told to come back later [default: 1GiB].
    #[arg(long, env = "OUTCROP_MIN_FREE", value_name = "SIZE")]
    pub min_free: Option<String>,
}

#[derive(Args, Default)]
pub struct DatabaseArgs {
    /// Where the database is: `postgres://user@host:5432/name`.
    #[arg(
        long,
        env = "OUTCROP_DATABASE_URL",
        value_name = "URL",
        global = true,
        hide_env_values = true
    )]
    pub database_url: Option<String>,
    /// A TOML file with the same options, names with _ for -.
    #[arg(long, env = "OUTCROP_CONFIG", value_name = "FILE", global = true)]
    pub config: Option<PathBuf>,
}

#[derive(Args)]
#[command(after_help = "Examples:\n  \
    outcrop serve --database-url postgres://outcrop@127.0.0.1/outcrop\n  \
    outcrop serve --config /etc/outcrop.toml --listen 0.0.0.0:8471 --otlp-http 0.0.0.0:4318\n  \
    OUTCROP_DATABASE_URL=postgres://… outcrop serve --otlp-http none")]
pub struct Serve {
    #[command(flatten)]
    pub database: DatabaseArgs,
    /// Where API and OTLP/HTTP are served [default: 127.0.0.1:8471].
    #[arg(long, env = "OUTCROP_LISTEN", value_name = "ADDR")]
    pub listen: Option<String>,
    /// Where OTLP/HTTP alone is served, or `none` [default: 127.0.0.1:4318].
    #[arg(long, env = "OUTCROP_OTLP_HTTP", value_name = "ADDR")]
    pub otlp_http: Option<String>,
    /// Where OTLP/gRPC is served, or `none` [default: 127.0.0.1:4317].
    #[arg(long, env = "OUTCROP_OTLP_GRPC", value_name = "ADDR")]
    pub otlp_grpc: Option<String>,
    /// Largest request body as sent [default: 16MiB].
    #[arg(long, env = "OUTCROP_MAX_BODY", value_name = "SIZE")]
    pub max_body: Option<String>,
    /// Largest request body after inflating [default: 32MiB].
    #[arg(long, env = "OUTCROP_MAX_INFLATED", value_name = "SIZE")]
    pub max_inflated: Option<String>,
    /// Memory for requests under way, at least 8 times the largest body; past it senders are asked
    /// to come back. The process takes up to 200 MB beside it [default: 256MiB].
    #[arg(long, env = "OUTCROP_BUDGET", value_name = "SIZE")]
    pub budget: Option<String>,
    #[command(flatten)]
    pub keep: Keep,
    /// Occurrences of one error and version in a minute whose exact data is kept; past that one in
    /// 50, beside the first, the latest and the fullest of each version; 1 to 10000 [default: 20].
    #[arg(long, env = "OUTCROP_BODIES_PER_MINUTE", value_name = "N")]
    pub bodies_per_minute: Option<u32>,
    /// The address under which people reach this installation, such as
    /// `https://outcrop.skerry.example`: links begin with it.
    #[arg(long, env = "OUTCROP_PUBLIC_URL", value_name = "URL")]
    pub public_url: Option<String>,
    /// A proxy, or a network of proxies, whose `X-Forwarded-For` or `Forwarded` header is believed;
    /// may be given several times.
    #[arg(
        long,
        env = "OUTCROP_TRUSTED_PROXY",
        value_name = "ADDR[/BITS]",
        value_delimiter = ','
    )]
    pub trusted_proxy: Vec<String>,
    /// A local Git checkout of a service, to show lines of source from; may be given several times.
    #[arg(long, env = "OUTCROP_CHECKOUT", value_name = "SERVICE=DIR", value_delimiter = ',')]
    pub checkout: Vec<String>,
    /// What is logged: error, warn, info, debug, or by module [default: info].
    #[arg(long, env = "OUTCROP_LOG", value_name = "FILTER")]
    pub log: Option<String>,
}

#[derive(Args)]
pub struct Client {
    /// Where the service is [default: the profile's, else `http://127.0.0.1:8471`].
    #[arg(long, env = "OUTCROP_URL", value_name = "URL", global = true)]
    pub url: Option<String>,
    /// The token; better given by the environment, where other users of the machine cannot read it.
    #[arg(
        long,
        env = "OUTCROP_TOKEN",
        value_name = "TOKEN",
        hide_env_values = true,
        global = true
    )]
    pub token: Option<String>,
    /// Print one JSON document instead of a table.
    #[arg(long, global = true)]
    pub json: bool,
}

#[derive(Args)]
#[command(
    after_help = "Example:\n  outcrop storage\n\nWhat is kept is set with `outcrop serve`: see its options under \
        \"What is kept\"."
)]
pub struct Storage {
    #[command(flatten)]
    pub client: Client,
}

#[derive(Args)]
#[command(
    after_help = "Examples:\n  outcrop errors\n  outcrop errors --service fares --environment production --since \
        7d\n  outcrop errors --where 'uncaught and version >= 2.4.0 and not http.route like \"/internal/*\"'\n  \
        outcrop errors --json | jq -r '.items[0].ref'"
)]
pub struct Errors {
    #[command(flatten)]
    pub client: Client,
    #[command(flatten)]
    pub window: Window,
    /// Items per page, 1 to 500.
    #[arg(long, value_name = "N", default_value_t = 50)]
    pub limit: u32,
    /// The page that begins here: `next` of the page before.
    #[arg(long, value_name = "CURSOR")]
    pub cursor: Option<String>,
    /// Hold the window against another period: `before` it, so much earlier (1d, 7d), or BEGINNING/END.
    #[arg(long, value_name = "PERIOD")]
    pub against: Option<String>,
}

#[derive(Args)]
pub struct Window {
    /// How far back from now to count: 30m, 24h, 7d.
    #[arg(long, value_name = "DURATION", default_value = "24h")]
    pub since: String,
    /// Only this service.
    #[arg(long, value_name = "S")]
    pub service: Option<String>,
    /// Only this environment.
    #[arg(long, value_name = "E")]
    pub environment: Option<String>,
    /// Only this version.
    #[arg(long = "in-version", value_name = "V")]
    pub in_version: Option<String>,
    /// Only occurrences for which this holds, such as 'service = fares and version >= 2.4.0 and
    /// uncaught'. Any attribute can be asked for; docs/language.md has it all.
    #[arg(long = "where", value_name = "PREDICATE")]
    pub predicate: Option<String>,
}

#[derive(Args)]
#[command(
    after_help = "Examples:\n  outcrop show kobal-tirun --since 7d\n  outcrop show kobal-tirun --where 'user = \
        u-7'\n  outcrop show kobal-tirun --attributes\n  outcrop show kobal-tirun --why"
)]
pub struct Show {
    /// The error's reference.
    #[arg(value_name = "REF")]
    pub reference: String,
    #[command(flatten)]
    pub client: Client,
    #[command(flatten)]
    pub window: Window,
    /// Say why its occurrences are one error: what counted, what was left out.
    #[arg(long)]
    pub why: bool,
    /// Show what its occurrences carry: of every attribute the most frequent values, each with its count and share.
    #[arg(long, conflicts_with = "why")]
    pub attributes: bool,
    /// Hold the window against another period: `before` it, so much earlier (1d, 7d), or BEGINNING/END.
    #[arg(long, value_name = "PERIOD")]
    pub against: Option<String>,
}

#[derive(Args)]
#[command(after_help = "Example:\n  outcrop occurrences kobal-tirun --limit 10")]
pub struct Occurrences {
    /// The error's reference.
    #[arg(value_name = "REF")]
    pub reference: String,
    #[command(flatten)]
    pub client: Client,
    /// Items per page, 1 to 500.
    #[arg(long, value_name = "N", default_value_t = 50)]
    pub limit: u32,
    /// The page that begins here: `next` of the page before.
    #[arg(long, value_name = "CURSOR")]
    pub cursor: Option<String>,
    /// Only occurrences for which this holds, such as 'http.route like "/v1/quotes/*" and user = u-7'.
    #[arg(long = "where", value_name = "PREDICATE")]
    pub predicate: Option<String>,
}

#[derive(Args)]
#[command(
    after_help = "Examples:\n  outcrop find kobal-tirun\n  outcrop find 4bf92f3577b34da6a3ce929d0e0e4736\n  outcrop \
        find app/tariff.py:92\n  outcrop find 'fares answered 500'\n  journalctl -u fares -n 30 | outcrop find -"
)]
pub struct Find {
    /// What to find; - reads standard input.
    #[arg(value_name = "TEXT")]
    pub text: String,
    #[command(flatten)]
    pub client: Client,
}

#[derive(Args)]
#[command(
    after_help = "Examples:\n  outcrop occurrence 0199aa2e5a02b8d1c4f04f6e1c0b7a55\n  outcrop occurrence \
        0199aa2e5a02b8d1c4f04f6e1c0b7a55 --json | jq .sent"
)]
pub struct Occurrence {
    /// The occurrence's id, 32 hex digits.
    pub id: String,
    #[command(flatten)]
    pub client: Client,
    /// Show library frames too.
    #[arg(long)]
    pub all_frames: bool,
}

#[derive(Args)]
#[command(after_help = "Examples:\n  \
    outcrop send --service ledger --message 'nightly batch stopped at port 7' --type BatchStopped port=7\n  \
    ./settle.py 2> error.txt || outcrop send --service ledger --message 'settlement failed' --stack error.txt\n  \
    some-job || outcrop send --service some-job --severity fatal --message \"exit code $?\"\n\n\
    The sender key is read from OUTCROP_KEY.")]
pub struct Send {
    /// Where the service takes OTLP/HTTP.
    #[arg(
        long,
        env = "OUTCROP_URL",
        value_name = "URL",
        default_value = "http://127.0.0.1:8471"
    )]
    pub url: String,
    /// The sender key; better given by the environment.
    #[arg(long, env = "OUTCROP_KEY", value_name = "KEY", hide_env_values = true)]
    pub key: Option<String>,
    /// What happened; may be left out where a stack says it.
    #[arg(long, value_name = "TEXT", required_unless_present = "stack")]
    pub message: Option<String>,
    /// The exception's type, or what kind of failure it is; what the stack says itself goes before it.
    #[arg(long = "type", value_name = "TYPE")]
    pub type_name: Option<String>,
    /// The stack's text as the runtime printed it: a file, or - for standard input.
    #[arg(long, value_name = "FILE")]
    pub stack: Option<PathBuf>,
    /// How severe it is: trace, debug, info, warn, error or fatal, or by another usual name, such as critical.
    #[arg(long, value_name = "SEVERITY", default_value = "error")]
    pub severity: Severity,
    /// The user it happened to.
    #[arg(long, value_name = "ID")]
    pub user: Option<String>,
    /// The service it happened in.
    #[arg(long, env = "OUTCROP_SERVICE", value_name = "S")]
    pub service: String,
    /// The environment it happened in.
    #[arg(long, env = "OUTCROP_ENVIRONMENT", value_name = "E")]
    pub environment: Option<String>,
    /// The version it happened in.
    #[arg(long = "in-version", env = "OUTCROP_VERSION", value_name = "V")]
    pub in_version: Option<String>,
    /// Further attributes.
    #[arg(value_name = "KEY=VALUE")]
    pub attributes: Vec<String>,
    /// Print one JSON document.
    #[arg(long)]
    pub json: bool,
}

#[derive(Args)]
#[command(
    after_help = "Examples:\n  outcrop parts kind --since 7d\n  outcrop parts touches --service fares\n  outcrop \
        parts cloud.region --where 'slice = edge'"
)]
pub struct Parts {
    /// The field or attribute.
    #[arg(value_name = "FIELD")]
    pub by: String,
    #[command(flatten)]
    pub client: Client,
    #[command(flatten)]
    pub window: Window,
}

#[derive(Args)]
#[command(
    after_help = "Example:\n  outcrop users kobal-tirun --since 7d\n\nAll errors of one user: outcrop errors --where \
        'user = u-7'"
)]
pub struct Users {
    /// The error's reference.
    #[arg(value_name = "REF")]
    pub reference: String,
    #[command(flatten)]
    pub client: Client,
    /// How far back from now: 30m, 24h, 7d.
    #[arg(long, value_name = "DURATION", default_value = "24h")]
    pub since: String,
    /// Only this environment.
    #[arg(long, value_name = "E")]
    pub environment: Option<String>,
    /// Only occurrences for which this holds.
    #[arg(long = "where", value_name = "PREDICATE")]
    pub predicate: Option<String>,
    /// Items per page, 1 to 500.
    #[arg(long, value_name = "N", default_value_t = 50)]
    pub limit: u32,
    /// The page that begins here: `next` of the page before.
    #[arg(long, value_name = "CURSOR")]
    pub cursor: Option<String>,
}

#[derive(Args)]
#[command(
    after_help = "Examples:\n  outcrop trace 0af7651916cd43dd8448eb211c80319c\n  outcrop trace \
        0af7651916cd43dd8448eb211c80319c --attributes\n  outcrop trace 0af7651916cd43dd8448eb211c80319c --all --json"
)]
pub struct Trace {
    /// The trace's id, 32 hex digits.
    #[arg(value_name = "TRACE_ID")]
    pub id: String,
    #[command(flatten)]
    pub client: Client,
    /// Show every span: runs of the same are summed up else.
    #[arg(long)]
    pub all: bool,
    /// Show what each span says: its attributes, and the events on it with theirs.
    #[arg(long)]
    pub attributes: bool,
}

/// Which traffic is looked at.
#[derive(Args)]
pub struct TrafficWindow {
    /// The window, back from now.
    #[arg(long, value_name = "TIME", default_value = "24h")]
    pub since: String,
    /// Only services of this name.
    #[arg(long, value_name = "S")]
    pub service: Option<String>,
    /// Only this environment.
    #[arg(long, value_name = "E")]
    pub environment: Option<String>,
    /// Only this version.
    #[arg(long = "in-version", value_name = "V")]
    pub in_version: Option<String>,
}

#[derive(Args)]
#[command(
    after_help = "Examples:\n  outcrop endpoints --service fares --since 3h\n  outcrop endpoints --slow-from fares \
        'POST /v1/quotes/{sailing}' 400ms\n  \
    outcrop endpoints --slow-from fares 'POST /v1/quotes/{sailing}' auto\n  outcrop endpoints --by-group --service \
    fares\n\n\
    A request is slow past twice the time that 95 % of its endpoint's requests of the last seven days stayed below, \
    at least 20 ms, or past what was set."
)]
pub struct Endpoints {
    #[command(flatten)]
    pub client: Client,
    #[command(flatten)]
    pub window: TrafficWindow,
    /// Endpoints at most, 1 to 500.
    #[arg(long, value_name = "N", default_value_t = 50)]
    pub limit: u32,
    /// Hold the window against another period: `before` it, so much earlier (1d, 7d), or BEGINNING/END.
    #[arg(long, value_name = "PERIOD")]
    pub against: Option<String>,
    /// What the instance groups of one service serve, each against the others (`outcrop services
    /// set --instance-group` says what tells them apart); needs --service.
    #[arg(long, conflicts_with_all = ["against", "slow_from"])]
    pub by_group: bool,
    /// With --by-group: of this endpoint alone.
    #[arg(long, value_name = "ENDPOINT", requires = "by_group")]
    pub endpoint: Option<String>,
    /// Say from when on a request of an endpoint is slow; `auto` leaves it to its history.
    #[arg(long, num_args = 3, value_names = ["SERVICE", "ENDPOINT", "TIME"])]
    pub slow_from: Option<Vec<String>>,
}

#[derive(Args)]
#[command(after_help = "Example:\n  outcrop slow --service gangway --since 3h")]
pub struct Slow {
    #[command(flatten)]
    pub client: Client,
    #[command(flatten)]
    pub window: TrafficWindow,
    /// Reasons at most, 1 to 500.
    #[arg(long, value_name = "N", default_value_t = 20)]
    pub limit: u32,
}

/// Requests of one kind.
#[derive(Clone, Copy, ValueEnum)]
pub enum Only {
    /// Failed requests.
    Failed,
    /// Slow requests, the slowest first.
    Slow,
}

impl Only {
    /// As the API calls it.
    pub const fn name(self) -> &'static str {
        match self {
            Self::Failed => "failed",
            Self::Slow => "slow",
        }
    }
}

#[derive(Args)]
#[command(
    after_help = "Examples:\n  outcrop requests --service gangway --status 404\n  outcrop requests --only slow \
        --since 3h"
)]
pub struct Requests {
    #[command(flatten)]
    pub client: Client,
    #[command(flatten)]
    pub window: TrafficWindow,
    /// Only this endpoint.
    #[arg(long, value_name = "E")]
    pub endpoint: Option<String>,
    /// Only answers with this status.
    #[arg(long, value_name = "N")]
    pub status: Option<u16>,
    /// Only requests of this kind.
    #[arg(long, value_enum)]
    pub only: Option<Only>,
    /// Only requests with this text in their endpoint's name or in what they said of themselves.
    #[arg(long, value_name = "TEXT")]
    pub text: Option<String>,
    /// Requests per page, 1 to 500.
    #[arg(long, value_name = "N", default_value_t = 50)]
    pub limit: u32,
    /// The page that begins here: `next` of the page before.
    #[arg(long, value_name = "CURSOR")]
    pub cursor: Option<String>,
}

#[derive(Args)]
#[command(
    after_help = "Examples:\n  outcrop watch --service fares\n  outcrop watch --only failed --json      one JSON \
        document a line\n\nWhere more passes than can be read, the rates of the busiest endpoints stand in its place."
)]
pub struct Watch {
    #[command(flatten)]
    pub client: Client,
    /// Only services of this name.
    #[arg(long, value_name = "S")]
    pub service: Option<String>,
    /// Only this environment.
    #[arg(long, value_name = "E")]
    pub environment: Option<String>,
    /// Only requests of this kind.
    #[arg(long, value_enum)]
    pub only: Option<Only>,
    /// Only requests with this text in their endpoint's name or in what they said of themselves.
    #[arg(long, value_name = "TEXT")]
    pub text: Option<String>,
    /// Show what passed in the last half minute, and end.
    #[arg(long)]
    pub once: bool,
}

#[derive(Subcommand)]
pub enum DeployCommand {
    /// Record a deploy; what runs is seen without it, but later and without who, why and when it ended.
    #[command(
        after_help = "Examples:\n  outcrop deploy record fares@2.4.0 --environment production --link \
            https://ci.skerry.example/4110\n  outcrop deploy record fares@2.4.1 --environment production --share \
            0.1      a canary\n  outcrop deploy record fares@2.4.0 --environment production --repo . --from \
            v2.3.9      with the commits it brought"
    )]
    Record(RecordArgs),
    /// Show one deploy in full: its answer, its endpoints before and after, what stopped, what it brought.
    #[command(after_help = "Example:\n  outcrop deploy show fares@2.4.0 --environment production")]
    Show(ShowDeploy),
    /// Ask whether a deploy did harm. Exit codes: 0 clear, 1 flagged, 3 too early, 2 wrong usage, 4
    /// not reachable or refused.
    #[command(
        after_help = "Examples:\n  outcrop deploy check fares@2.4.0 --environment production\n  outcrop deploy check \
            fares@2.4.0 --environment production --wait 30m --fail-on new,surging"
    )]
    Check(CheckArgs),
}

#[derive(Args)]
pub struct ShowDeploy {
    /// The deploy.
    #[arg(value_name = "SERVICE@VERSION")]
    pub target: String,
    /// The environment.
    #[arg(long, value_name = "E")]
    pub environment: String,
    #[command(flatten)]
    pub client: Client,
}

#[derive(Args)]
#[command(after_help = "Example:\n  outcrop why kobal-tirun")]
pub struct Why {
    /// The error's reference.
    #[arg(value_name = "REF")]
    pub reference: String,
    #[command(flatten)]
    pub client: Client,
}

#[derive(Args)]
pub struct RecordArgs {
    /// What was deployed: SERVICE@VERSION.
    #[arg(value_name = "SERVICE@VERSION")]
    pub target: String,
    /// Where to.
    #[arg(long, value_name = "E")]
    pub environment: String,
    /// When it began, RFC 3339 [default: now].
    #[arg(long, value_name = "T")]
    pub at: Option<chrono::DateTime<chrono::Utc>>,
    /// When it was over, or a canary ended.
    #[arg(long, value_name = "T")]
    pub ended_at: Option<chrono::DateTime<chrono::Utc>>,
    /// The part of the traffic that a canary takes, above 0 and below 1.
    #[arg(long, value_name = "S")]
    pub share: Option<f32>,
    /// The instance group that it goes to, as the service's attribute for groups names it (`outcrop
    /// services set --instance-group`).
    #[arg(long, value_name = "G")]
    pub group: Option<String>,
    /// The commit; with --repo the deployed revision [default there: HEAD].
    #[arg(long, value_name = "SHA")]
    pub revision: Option<String>,
    /// The pipeline's page.
    #[arg(long, value_name = "URL")]
    pub link: Option<String>,
    /// A Git repository to read what the deploy brought from: commits, lines, authors, CODEOWNERS.
    #[arg(long, value_name = "DIR", requires = "from")]
    pub repo: Option<PathBuf>,
    /// The revision that was deployed before: what came after it is sent.
    #[arg(long, value_name = "REV", requires = "repo")]
    pub from: Option<String>,
    #[command(flatten)]
    pub client: Client,
}

#[derive(Args)]
pub struct CheckArgs {
    /// What was deployed: SERVICE@VERSION.
    #[arg(value_name = "SERVICE@VERSION")]
    pub target: String,
    /// Where to.
    #[arg(long, value_name = "E")]
    pub environment: String,
    /// Ask again for so long, until it is flagged or the time is over.
    #[arg(long, value_name = "TIME")]
    pub wait: Option<String>,
    /// What counts: new, surging, returned, slower [default: the first three].
    #[arg(long, value_name = "FLAGS")]
    pub fail_on: Option<String>,
    #[command(flatten)]
    pub client: Client,
}

#[derive(Args)]
#[command(after_help = "Example:\n  outcrop deploys --service fares --since 30d")]
pub struct Deploys {
    #[command(flatten)]
    pub client: Client,
    /// The window, back from now.
    #[arg(long, value_name = "TIME", default_value = "7d")]
    pub since: String,
    /// Only of services of this name.
    #[arg(long, value_name = "S")]
    pub service: Option<String>,
    /// Only into this environment.
    #[arg(long, value_name = "E")]
    pub environment: Option<String>,
    /// Deploys at most, 1 to 500.
    #[arg(long, value_name = "N", default_value_t = 50)]
    pub limit: u32,
}

#[derive(Args)]
#[command(
    after_help = "Examples:\n  outcrop backtest week.jsonl.gz > flags.jsonl\n  outcrop backtest - < week.jsonl\n\n\
    The stream is JSON Lines in order of time: deploys, requests and errors by the minute, and what was settled. \
    docs/flags.md has the format\n\
    and the model; the code is the one that says the flags of the running service."
)]
pub struct Backtest {
    /// The stream, plain or gzip; - reads standard input.
    #[arg(value_name = "FILE")]
    pub file: PathBuf,
}

#[derive(Args)]
#[command(after_help = "Example:\n  outcrop refused --minutes 60")]
pub struct Refused {
    /// How many minutes back, 1 to 1440 [default: 15].
    #[arg(long, value_name = "N")]
    pub minutes: Option<u32>,
    #[command(flatten)]
    pub client: Client,
}

#[derive(Subcommand)]
pub enum Drops {
    /// Drop what a predicate holds of, or a whole error, from now on.
    #[command(
        after_help = "Examples:\n  outcrop drops add --where 'type = ClientGone and service = gangway' --note \
            'passengers close the tab'\n  outcrop drops add --error kobal-tirun"
    )]
    Add {
        /// A predicate over single occurrences; `outcrop errors --where` shows what it holds of.
        #[arg(
            long = "where",
            value_name = "PREDICATE",
            required_unless_present = "error",
            conflicts_with = "error"
        )]
        predicate: Option<String>,
        /// The error's reference.
        #[arg(long, value_name = "REF")]
        error: Option<String>,
        /// Why.
        #[arg(long, default_value = "")]
        note: String,
    },
    /// End a rule: what it dropped counts again.
    End {
        /// The rule's number.
        id: i64,
    },
}

#[derive(Subcommand)]
pub enum Scrubbing {
    /// Remove values by name: `passport number` finds `passportNumber`, `PASSPORT_NUMBER`, `skerry.passport-number`.
    #[command(after_help = "Example:\n  outcrop scrubbing remove 'passport number' --service boarding")]
    Remove {
        /// The words that the name ends with.
        name: String,
        #[command(flatten)]
        rule: ScrubRule,
    },
    /// Keep values by name, though a built-in name says otherwise.
    #[command(after_help = "Example:\n  outcrop scrubbing keep client.address --service gangway")]
    Keep {
        /// The words that the name ends with.
        name: String,
        /// The service it is for; without it, all.
        #[arg(long)]
        service: Option<String>,
    },
    /// Remove what a regular expression finds, in any text.
    #[command(
        after_help = "Example:\n  outcrop scrubbing shape 'SK-[0-9]{8}' --reason 'booking code' --service berths"
    )]
    Shape {
        /// The regular expression.
        expression: String,
        #[command(flatten)]
        rule: ScrubRule,
    },
    /// End a rule: what comes from now on is scrubbed without it.
    End {
        /// The rule's number.
        id: i64,
    },
    /// Show what would be stored of a text, read from standard input.
    #[command(
        after_help = "Example:\n  echo 'no berth for SK-20260001' | outcrop scrubbing try --service berths --shape \
            'SK-[0-9]{8}'"
    )]
    Try {
        /// The service whose rules hold; without it, those for all.
        #[arg(long)]
        service: Option<String>,
        /// Try this name as well.
        #[arg(long, value_name = "NAME", conflicts_with = "shape")]
        remove: Option<String>,
        /// Try this regular expression as well.
        #[arg(long, value_name = "REGEX")]
        shape: Option<String>,
    },
}

#[derive(Args)]
pub struct ScrubRule {
    /// The service it is for; without it, all.
    #[arg(long)]
    pub service: Option<String>,
    /// What the mark says in the place of the value [default: the name].
    #[arg(long)]
    pub reason: Option<String>,
}

#[derive(Subcommand)]
pub enum Slices {
    /// Save a predicate under a name.
    #[command(
        after_help = "Example:\n  outcrop slices save edge 'service in (gangway, boarding) and environment = \
            production'"
    )]
    Save {
        /// The name.
        name: String,
        /// The predicate.
        predicate: String,
    },
    /// Remove a slice.
    Remove {
        /// The name.
        name: String,
    },
}

#[derive(Subcommand)]
pub enum Services {
    /// Say something of a service, or of `all`; an empty text takes it back.
    #[command(
        after_help = "Examples:\n  outcrop services set fares --source-root /srv/skerry/fares --source-url \
            'https://git.skerry.example/fares/{revision}/{path}#L{line}'\n  outcrop services set all --instance-group \
            cloud.region\n  outcrop services set gangway --weight 1.5 --endpoint-weight 'GET /internal/health=0.2'"
    )]
    Set {
        /// The service, or `all` for every one that has nothing of its own.
        service: String,
        /// Template of a link to a line: {path}, {line}, {revision} (the commit, else the version), {service}.
        #[arg(long, value_name = "URL")]
        source_url: Option<String>,
        /// The folder the code runs in: no part of the path in its repository.
        #[arg(long, value_name = "DIR")]
        source_root: Option<String>,
        /// The attribute that tells instance groups apart.
        #[arg(long, value_name = "ATTRIBUTE")]
        instance_group: Option<String>,
        /// The attribute that names the customer.
        #[arg(long, value_name = "ATTRIBUTE")]
        customer: Option<String>,
        /// Keep e-mail addresses as they are; without it pseudonyms stand for them [default: false].
        #[arg(long, value_name = "true|false")]
        keep_addresses: Option<bool>,
        /// What attention to its errors is multiplied with, 0.1 to 4; 1 takes it away.
        #[arg(long, value_name = "FACTOR")]
        weight: Option<f64>,
        /// The same for one endpoint, which wins over the service's; 1 takes it away.
        #[arg(long = "endpoint-weight", value_name = "ENDPOINT=FACTOR")]
        endpoint_weights: Vec<String>,
    },
    /// Show what is said of a service, or of `all`.
    Show {
        /// The service.
        service: String,
    },
}

#[derive(Subcommand)]
#[command(
    after_help = "Every change can be tried with --dry-run, is kept in the history, and is undone by its number."
)]
pub enum Grouping {
    /// Join errors of one service by hand.
    #[command(after_help = "Example:\n  outcrop grouping join kobal-tirun dasup-nivel")]
    Join {
        /// The error that stays.
        #[arg(value_name = "REF")]
        error: String,
        /// Those that become part of it.
        #[arg(value_name = "REF", required = true)]
        with: Vec<String>,
        #[command(flatten)]
        how: ChangeArgs,
    },
    /// From now on, and for what is known: whatever a predicate holds for is one error.
    #[command(
        after_help = "Example:\n  outcrop grouping join-where gangway 'type = ConnectTimeout and function like \
            \"*dial\"' --dry-run"
    )]
    JoinWhere {
        /// The service.
        service: String,
        /// What must hold of a single occurrence; docs/language.md has the language.
        predicate: String,
        /// The service's namespace, where several have one of this name.
        #[arg(long, value_name = "NS")]
        namespace: Option<String>,
        #[command(flatten)]
        how: ChangeArgs,
    },
    /// Split an error: by an attribute's value from now on, or off it causes that do not belong there.
    #[command(
        after_help = "Examples:\n  outcrop grouping split kobal-tirun --by season --dry-run --days 14\n  outcrop \
            grouping split kobal-tirun --cause 12 --cause 15"
    )]
    Split {
        /// The error; its largest part keeps the reference.
        #[arg(value_name = "REF")]
        error: String,
        /// Tell it apart by the value of this attribute, from now on.
        #[arg(
            long,
            value_name = "ATTRIBUTE",
            required_unless_present = "causes",
            conflicts_with = "causes"
        )]
        by: Option<String>,
        /// Make this cause of it an error of its own; `outcrop grouping causes REF` lists them.
        #[arg(long = "cause", value_name = "N")]
        causes: Vec<i64>,
        #[command(flatten)]
        how: ChangeArgs,
    },
    /// Say which code is a service's own and which belongs to libraries, by beginnings of paths, modules or functions.
    #[command(
        after_help = "Example:\n  outcrop grouping own-code fares --own vendor/skerry_tariffs --library \
            fares.generated --dry-run\n\n\
        The longest beginning that fits a frame decides; what was said last of a beginning holds."
    )]
    OwnCode {
        /// The service.
        service: String,
        /// Frames of files, modules or functions that begin so are own code.
        #[arg(long, value_name = "PREFIX", required_unless_present = "library")]
        own: Vec<String>,
        /// Frames that begin so belong to a library.
        #[arg(long, value_name = "PREFIX")]
        library: Vec<String>,
        /// The service's namespace, where several have one of this name.
        #[arg(long, value_name = "NS")]
        namespace: Option<String>,
        #[command(flatten)]
        how: ChangeArgs,
    },
    /// List the causes an error was put together from.
    Causes {
        /// The error.
        #[arg(value_name = "REF")]
        error: String,
        #[command(flatten)]
        client: Client,
    },
    /// List what was changed, the newest first.
    #[command(after_help = "Examples:\n  outcrop grouping changes\n  outcrop grouping changes kobal-tirun")]
    Changes {
        /// Only what concerns this error.
        #[arg(value_name = "REF")]
        error: Option<String>,
        #[command(flatten)]
        client: Client,
    },
    /// Undo a change: causes go back to their errors, a rule ends.
    Undo {
        /// The change's number.
        #[arg(value_name = "N")]
        id: i64,
        #[command(flatten)]
        client: Client,
    },
}

#[derive(Args)]
pub struct ChangeArgs {
    /// Only say what it would do.
    #[arg(long)]
    pub dry_run: bool,
    /// Work it out over so many days back, 1 to 30.
    #[arg(long, value_name = "N", default_value_t = 7)]
    pub days: u32,
    #[command(flatten)]
    pub client: Client,
}

#[derive(Args)]
#[command(
    after_help = "Examples:\n  outcrop collect /var/log/fares/*.log --service fares --follow\n  outcrop collect \
        app.log --dry-run\n  \
    journalctl -u fares -o export -f | outcrop collect - --service fares\n\n\
    Plain lines of any logger, JSON lines, key=value pairs, container runtimes' files, the lines of several processes \
    in one file, the\n\
    journal's export. A file is read on from where it was left, also after it was rotated; positions advance once \
    what was found is\n\
    stored. Without --service: what a line names, else its process, else the file's name. The sender key is read from \
    OUTCROP_KEY."
)]
pub struct Collect {
    /// Files; - reads standard input.
    #[arg(value_name = "FILE", required = true)]
    pub files: Vec<PathBuf>,
    /// Where the service takes OTLP/HTTP.
    #[arg(
        long,
        env = "OUTCROP_URL",
        value_name = "URL",
        default_value = "http://127.0.0.1:8471"
    )]
    pub url: String,
    /// The sender key; better given by the environment.
    #[arg(long, env = "OUTCROP_KEY", value_name = "KEY", hide_env_values = true)]
    pub key: Option<String>,
    /// The service that wrote the logs.
    #[arg(long, env = "OUTCROP_SERVICE", value_name = "S")]
    pub service: Option<String>,
    /// The environment it ran in.
    #[arg(long, env = "OUTCROP_ENVIRONMENT", value_name = "E")]
    pub environment: Option<String>,
    /// The version that ran.
    #[arg(long = "in-version", env = "OUTCROP_VERSION", value_name = "V")]
    pub in_version: Option<String>,
    /// Go on with what is written from now on, until stopped.
    #[arg(long)]
    pub follow: bool,
    /// Which lines are sent.
    #[arg(long, value_enum, default_value = "failures")]
    pub lines: LinesArg,
    /// Where positions are kept [default: `$XDG_STATE_HOME/outcrop/collect.json`].
    #[arg(long, env = "OUTCROP_COLLECT_STATE", value_name = "FILE")]
    pub state: Option<PathBuf>,
    /// Say what would be found; send nothing, remember nothing.
    #[arg(long)]
    pub dry_run: bool,
    /// Print one JSON document, with --dry-run.
    #[arg(long, requires = "dry_run")]
    pub json: bool,
}

#[derive(Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum LinesArg {
    /// Failures alone.
    Failures,
    /// Failures and up to twenty events before each.
    Around,
    /// All.
    All,
}

#[derive(Args)]
#[command(
    after_help = "Reads JSON Lines {\"id\",\"service\",\"runtime\",\"version\",\"type\",\"message\",\"stacktrace\"}, \
        writes per line\n\
    {\"id\",\"group\",\"title\",\"own_frame\",\"runtime\"}: `group` is equal exactly when two would be one error.\n\
    Versions are compared in the order of their numbers: where code has moved, \"moved\" says what was edited, \
    \"may_be\" which groups it could be.\n\n\
    Examples:\n  outcrop group stacks.jsonl\n  jq -c . report.json | outcrop group"
)]
pub struct Group {
    /// The file; standard input where none is given.
    pub file: Option<PathBuf>,
}
