//! Deploys: recorded, listed, checked.

use std::io::Write;
use std::path::PathBuf;
use std::time::{Duration, Instant};

use chrono::{DateTime, Utc};
use clap::{Args, Subcommand};
use outcrop_api::{DeployCheck, DeployDetail, DeployList, EndpointChange, NewDeploy};
use outcrop_core::text::printable;
use reqwest::Method;

use super::repository;
use super::traffic::{share, took};
use crate::client::{Api, Client};
use crate::fault::Fault;
use crate::output::{Column, Fit, ago, counted, grouped, json, line, table, time};

#[derive(Subcommand)]
pub enum DeployCommand {
    /// Record a deploy. Without it, a deploy is seen by its first telemetry: later, and without author, reason and
    /// end.
    #[command(
        after_help = "Examples:\n  outcrop deploy record fares@2.4.0 --environment production --link \
            https://ci.skerry.example/4110\n  outcrop deploy record fares@2.4.1 --environment production --share \
            0.1      a canary\n  outcrop deploy record fares@2.4.0 --environment production --repo . --from \
            v2.3.9      with the commits it brought\n  outcrop deploy record fares@2.4.1 --environment production --settles \
            kobal-tirun      an error that must not occur from 2.4.1 on"
    )]
    Record(RecordArgs),
    /// Show one deploy in full: its answer, its endpoints before and after, what stopped, what it brought.
    #[command(after_help = "Example:\n  outcrop deploy show fares@2.4.0 --environment production")]
    Show(ShowDeploy),
    /// Check whether a deploy did harm. Exit codes: 0 clear, 1 flagged, 3 too early, 2 wrong usage, 4 not reachable
    /// or refused.
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
pub struct RecordArgs {
    /// What was deployed: SERVICE@VERSION.
    #[arg(value_name = "SERVICE@VERSION")]
    pub target: String,
    /// Where to.
    #[arg(long, value_name = "E")]
    pub environment: String,
    /// When it began, RFC 3339 [default: now].
    #[arg(long, value_name = "T")]
    pub at: Option<DateTime<Utc>>,
    /// When the deploy or the canary ended.
    #[arg(long, value_name = "T")]
    pub ended_at: Option<DateTime<Utc>>,
    /// Share of the traffic that a canary takes, above 0 and below 1.
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
    /// References of errors that it settles, comma-separated; with --repo also those that its commits name in lines such
    /// as `Settles: kobal-tirun` at the end of their messages.
    #[arg(long, value_name = "REFS", value_delimiter = ',')]
    pub settles: Vec<String>,
    /// Git repository to read the commits, lines, authors and CODEOWNERS of the deploy from.
    #[arg(long, value_name = "DIR", requires = "from")]
    pub repo: Option<PathBuf>,
    /// Revision that was deployed before; the commits after it are sent.
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
    /// Ask every ten seconds until the deploy is flagged or this time is over.
    #[arg(long, value_name = "TIME")]
    pub wait: Option<String>,
    /// Kinds of harm that count: new, surging, returned, failing, slower [default: all].
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
    /// How far back from now: 30m, 24h, 7d.
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

/// How often a check that waits asks again.
const EVERY: Duration = Duration::from_secs(10);

pub async fn run(command: DeployCommand) -> Result<(), Fault> {
    match command {
        DeployCommand::Record(arguments) => record(arguments).await,
        DeployCommand::Check(arguments) => check(arguments).await,
        DeployCommand::Show(arguments) => show_one(arguments).await,
    }
}

fn target(text: &str) -> Result<(String, String), Fault> {
    let parts = text
        .rsplit_once('@')
        .filter(|(service, version)| !service.is_empty() && !version.is_empty());
    let (service, version) =
        parts.ok_or_else(|| Fault::Usage(format!("`{text}` must be SERVICE@VERSION, such as fares@2.4.0")))?;
    Ok((service.to_owned(), version.to_owned()))
}

async fn record(arguments: RecordArgs) -> Result<(), Fault> {
    let (service, version) = target(&arguments.target)?;
    let mut settles = arguments.settles;
    let (revision, changes) = match (&arguments.repo, &arguments.from) {
        (Some(folder), Some(from)) => {
            let read = repository::changes(folder, from, arguments.revision.as_deref().unwrap_or("HEAD"))?;
            settles.extend(read.settles);
            (read.revision, Some(read.changes))
        }
        _ => (arguments.revision.unwrap_or_default(), None),
    };
    let brought = changes.as_ref().map(|changes| changes.commits.len());
    let deploy = NewDeploy {
        service,
        version,
        environment: arguments.environment,
        at: arguments.at,
        ended_at: arguments.ended_at,
        share: arguments.share,
        instance_group: arguments.group,
        revision,
        link: arguments.link.unwrap_or_default(),
        changes,
        settles,
    };
    Api::new(&arguments.client)?
        .send(Method::POST, "/deploys", Some(&deploy))
        .await?;
    if arguments.client.json {
        return json(&deploy);
    }
    let settles = match deploy.settles.len() {
        0 => String::new(),
        n => format!(
            "; it settles {}",
            counted(i64::try_from(n).unwrap_or_default(), "error", "errors")
        ),
    };
    line(printable(&format!(
        "Recorded{}{settles}. Check it: outcrop deploy check {}@{} --environment {}",
        brought
            .map(|n| format!(
                " with {}",
                counted(i64::try_from(n).unwrap_or_default(), "commit", "commits")
            ))
            .unwrap_or_default(),
        deploy.service,
        deploy.version,
        deploy.environment
    )))
}

async fn check(arguments: CheckArgs) -> Result<(), Fault> {
    let (service, version) = target(&arguments.target)?;
    let wait = arguments
        .wait
        .as_deref()
        .map(|text| {
            humantime::parse_duration(text)
                .map_err(|error| Fault::Usage(format!("--wait {text}: {error}; write it like 30m")))
        })
        .transpose()?;
    let api = Api::new(&arguments.client)?;
    let query = [
        ("service", Some(service)),
        ("version", Some(version)),
        ("environment", Some(arguments.environment)),
        ("fail_on", arguments.fail_on),
    ];
    let until = Instant::now() + wait.unwrap_or_default();
    let answer: DeployCheck = loop {
        let answer: DeployCheck = match api.get("/deploys/check", &query).await {
            Ok(answer) => answer,
            // A service that is being restarted, or whose database is away, answers again while there is time to wait.
            Err(fault @ Fault::Away(_)) if Instant::now() < until => {
                drop(writeln!(
                    std::io::stderr(),
                    "outcrop: {fault}; asked again in {} s",
                    EVERY.as_secs()
                ));
                tokio::time::sleep(EVERY.min(until - Instant::now())).await;
                continue;
            }
            Err(fault) => return Err(fault),
        };
        // What is flagged stays so; what is clear may not, while there is time to wait.
        if answer.outcome == "flagged" || Instant::now() >= until {
            break answer;
        }
        tokio::time::sleep(EVERY.min(until - Instant::now())).await;
    };
    if arguments.client.json {
        json(&answer)?;
    } else {
        show(&answer)?;
    }
    match answer.outcome.as_str() {
        "flagged" => Err(Fault::Flagged),
        "too early" => Err(Fault::TooEarly),
        _ => Ok(()),
    }
}

fn show(answer: &DeployCheck) -> Result<(), Fault> {
    line(printable(&format!("{}: {}", answer.outcome, answer.sentence)))?;
    for flag in &answer.flags {
        line(printable(&format!(
            "  {:<9}{} {} {}",
            flag.flag, flag.reference, flag.service, flag.title
        )))?;
        line(printable(&format!("           {}", flag.evidence)))?;
        for sentence in &flag.why {
            line(printable(&format!("           why: {sentence}")))?;
        }
    }
    for flag in &answer.withdrawn {
        line(printable(&format!(
            "  taken back: {} {} {}",
            flag.flag, flag.reference, flag.title
        )))?;
        line("           data that came late showed that it was none")?;
    }
    for endpoint in &answer.failing {
        let share = |failed: i64, requests: i64| percent(failed, requests);
        let (after, before) = (
            share(endpoint.failed, endpoint.requests),
            share(endpoint.failed_before, endpoint.requests_before),
        );
        line(printable(&format!(
            "  fails more  {}: {after} of {} requests; {before} before",
            endpoint.endpoint, endpoint.requests
        )))?;
    }
    for endpoint in &answer.slower {
        line(printable(&format!(
            "  slower      {}: {}",
            endpoint.endpoint,
            p95s(endpoint)
        )))?;
    }
    for error in &answer.first_seen {
        let times = counted(error.count, "occurrence", "occurrences");
        line(printable(&format!(
            "  first seen  {} {} ({times}); its place was too young to call it new",
            error.reference, error.title
        )))?;
    }
    for error in &answer.settled {
        line(printable(&format!("  settled     {} {}", error.reference, error.title)))?;
        line(printable(&format!("              {}", error.verdict.sentence)))?;
    }
    let (before, after) = (answer.before, answer.after);
    line(format!(
        "  before: {} of {} requests failed in {} min; since: {} of {} in {} min",
        before.failed, before.requests, before.minutes, after.failed, after.requests, after.minutes
    ))?;
    if let Some(rates) = &answer.rates {
        line(printable(&format!("  {rates}")))?;
    }
    answer
        .page
        .as_ref()
        .map_or(Ok(()), |page| line(printable(&format!("  {page}"))))
}

#[expect(clippy::cast_precision_loss, reason = "a share of requests")]
fn percent(failed: i64, requests: i64) -> String {
    outcrop_core::attention::percent(if requests == 0 {
        0.0
    } else {
        failed as f64 / requests as f64
    })
}

/// The 95th percentiles on both sides.
fn p95s(endpoint: &EndpointChange) -> String {
    format!(
        "95 of 100 within {}; {} before",
        took(endpoint.p95_ms),
        took(endpoint.p95_before_ms)
    )
}

async fn show_one(arguments: ShowDeploy) -> Result<(), Fault> {
    let (service, version) = target(&arguments.target)?;
    let query = [
        ("service", Some(service)),
        ("version", Some(version)),
        ("environment", Some(arguments.environment)),
    ];
    let detail: DeployDetail = Api::new(&arguments.client)?.get("/deploys/one", &query).await?;
    if arguments.client.json {
        return json(&detail);
    }
    show(&detail.deploy.check)?;
    if let Some(what) = detail.beside_what.as_ref().filter(|_| !detail.beside.is_empty()) {
        line(format!("\nEndpoints of {}:\n", printable(what)))?;
        endpoints(detail.beside, "the rest")?;
    }
    if !detail.endpoints.is_empty() {
        line("\nEndpoints, against other versions in the day before:\n")?;
        endpoints(detail.endpoints, "before")?;
    }
    for error in &detail.stopped {
        line(printable(&format!(
            "better: {} {} has not occurred since; {} in the day before",
            error.reference, error.title, error.count
        )))?;
    }
    for marker in &detail.markers {
        line(printable(&format!(
            "marked: {} ({}) at {}",
            marker.title,
            marker.kind,
            time(marker.at)
        )))?;
    }
    for commit in detail.commits.iter().flatten() {
        let id = commit.id.get(..10).unwrap_or(&commit.id);
        let touches: Vec<String> = commit
            .touches
            .iter()
            .map(|touch| format!("{} at {}:{}", touch.reference, touch.path, touch.line))
            .collect();
        let near = if touches.is_empty() {
            String::new()
        } else {
            format!("; touches {}", touches.join(", "))
        };
        line(printable(&format!(
            "commit {id} {}: {}{near}",
            commit.author, commit.summary
        )))?;
    }
    Ok(())
}

pub async fn list(arguments: Deploys) -> Result<(), Fault> {
    let query = [
        ("since", Some(arguments.since.clone())),
        ("service", arguments.service),
        ("environment", arguments.environment),
        ("limit", Some(arguments.limit.to_string())),
    ];
    let list: DeployList = Api::new(&arguments.client)?.get("/deploys", &query).await?;
    if arguments.client.json {
        return json(&list);
    }
    if list.items.is_empty() {
        return line(format!(
            "No deploy in the last {}. Announce one: outcrop deploy record SERVICE@VERSION --environment E",
            arguments.since
        ));
    }
    let flagged = list.items.iter().filter(|item| item.check.outcome == "flagged").count();
    line(match flagged {
        0 => format!(
            "{} deploys in the last {}, none flagged.\n",
            list.items.len(),
            arguments.since
        ),
        n => format!(
            "{n} of {} deploys in the last {} flagged.\n",
            list.items.len(),
            arguments.since
        ),
    })?;
    let now = Utc::now();
    let columns = [
        Column("when", Fit::Whole),
        Column("deploy", Fit::Whole),
        Column("environment", Fit::Whole),
        Column("known by", Fit::Whole),
        Column("answer", Fit::Whole),
        Column("why", Fit::Text(30)),
    ];
    table(
        &columns,
        list.items.into_iter().map(|item| {
            let known = if item.announced {
                item.by
            } else {
                "its telemetry".to_owned()
            };
            let known = if item.rollback {
                format!("{known}, rollback")
            } else {
                known
            };
            let why = item
                .check
                .sentence
                .split_once(": ")
                .map(|(_, why)| why.to_owned())
                .unwrap_or_default();
            vec![
                ago(item.at, now),
                format!("{}@{}", item.service, item.version),
                item.environment,
                known,
                item.check.outcome,
                why,
            ]
        }),
    )
}

fn endpoints(items: Vec<EndpointChange>, rest: &'static str) -> Result<(), Fault> {
    let columns = [
        Column("endpoint", Fit::Text(20)),
        Column("requests", Fit::Number),
        Column("failed", Fit::Number),
        Column(rest, Fit::Number),
        Column("p95", Fit::Number),
        Column(rest, Fit::Number),
        Column("what changed", Fit::Text(12)),
    ];
    let row = |item: EndpointChange| {
        vec![
            item.endpoint,
            grouped(item.requests),
            share(item.failed, item.requests),
            share(item.failed_before, item.requests_before),
            took(item.p95_ms),
            took(item.p95_before_ms),
            if item.changes.is_empty() {
                "nothing shown".to_owned()
            } else {
                item.changes.join(", ")
            },
        ]
    };
    table(&columns, items.into_iter().map(row))
}
