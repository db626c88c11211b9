//! Who calls whom, statements, instances, and what is unwell now.

use clap::Args;
use outcrop_api::{CallItem, CallList, FleetItem, InstanceItem, InstanceList, NowItem, NowReport};
use outcrop_core::attention::percent;

use super::traffic::{query, share, took};
use crate::client::{Api, Client};
use crate::fault::Fault;
use crate::output::{Column, Fit, counted, grouped, json, line, table, time};
use crate::window::TrafficWindow;

#[derive(Args)]
#[command(after_help = "Example:\n  outcrop calls --service gangway --since 3h")]
pub struct Calls {
    #[command(flatten)]
    pub client: Client,
    #[command(flatten)]
    pub window: TrafficWindow,
    /// Compare with another period: `before` (just before the window, the default), an offset (1d, 7d), or START/END.
    #[arg(long, value_name = "PERIOD")]
    pub against: Option<String>,
    /// Calls at most, 1 to 500.
    #[arg(long, value_name = "N", default_value_t = 100)]
    pub limit: u32,
}

#[derive(Args)]
#[command(after_help = "Example:\n  outcrop statements --service stowage --since 7d")]
pub struct Statements {
    #[command(flatten)]
    pub client: Client,
    #[command(flatten)]
    pub window: TrafficWindow,
    /// Compare with another period: `before` (just before the window, the default), an offset (1d, 7d), or START/END.
    #[arg(long, value_name = "PERIOD")]
    pub against: Option<String>,
    /// Statements at most, 1 to 500.
    #[arg(long, value_name = "N", default_value_t = 50)]
    pub limit: u32,
}

#[derive(Args)]
#[command(after_help = "Example:\n  outcrop instances --service fares --since 1h")]
pub struct Instances {
    #[command(flatten)]
    pub client: Client,
    #[command(flatten)]
    pub window: TrafficWindow,
    /// Compare with another period: `before` (just before the window), an offset (1d, 7d), or START/END.
    #[arg(long, value_name = "PERIOD")]
    pub against: Option<String>,
    /// Instances at most, 1 to 500.
    #[arg(long, value_name = "N", default_value_t = 100)]
    pub limit: u32,
}

#[derive(Args)]
#[command(after_help = "Example:\n  outcrop now --environment production")]
pub struct Now {
    #[command(flatten)]
    pub client: Client,
    /// Only services of this name.
    #[arg(long, value_name = "S")]
    pub service: Option<String>,
    /// Only this environment.
    #[arg(long, value_name = "E")]
    pub environment: Option<String>,
}

/// What is called: the service behind the name where it is known.
fn whom(item: &CallItem) -> String {
    match &item.to_service {
        Some(service) => format!("{service} ({})", item.name),
        None => item.name.clone(),
    }
}

/// The heading of what was then.
fn mean_then(against: Option<&str>) -> &'static str {
    if against.is_none_or(|period| period == "before") {
        "mean before"
    } else {
        "mean then"
    }
}

fn numbers(item: &CallItem) -> [String; 5] {
    let failed = if item.failed > 0 {
        format!("{} ({})", grouped(item.failed), share(item.failed, item.count))
    } else {
        "0".to_owned()
    };
    [
        grouped(item.count),
        failed,
        took(Some(item.mean_ms)),
        took(item.mean_before_ms),
        took(Some(item.total_ms)),
    ]
}

pub async fn calls(arguments: Calls) -> Result<(), Fault> {
    let mut query = query(&arguments.window);
    query.push(("limit", Some(arguments.limit.to_string())));
    query.push(("against", arguments.against.clone()));
    let list: CallList = Api::new(&arguments.client)?.get("/calls", &query).await?;
    if arguments.client.json {
        return json(&list);
    }
    let Some(first) = list.items.first() else {
        return line(format!(
            "No service called another, a database or a queue in the last {}.",
            arguments.window.since
        ));
    };
    line(format!(
        "Most time of the last {} went from {} to {}: {} in all.\n",
        arguments.window.since,
        first.service,
        whom(first),
        took(Some(first.total_ms))
    ))?;
    let columns = [
        Column("service", Fit::Whole),
        Column("calls", Fit::Text(16)),
        Column("by", Fit::Whole),
        Column("times", Fit::Number),
        Column("failed", Fit::Number),
        Column("mean", Fit::Number),
        Column(mean_then(arguments.against.as_deref()), Fit::Number),
        Column("in all", Fit::Number),
    ];
    let row = |item: CallItem| {
        let by = if item.kind == "consumed" {
            "taken from".to_owned()
        } else {
            item.kind.clone()
        };
        [vec![item.service.clone(), whom(&item), by], numbers(&item).to_vec()].concat()
    };
    table(&columns, list.items.into_iter().map(row))
}

pub async fn statements(arguments: Statements) -> Result<(), Fault> {
    let mut query = query(&arguments.window);
    query.push(("limit", Some(arguments.limit.to_string())));
    query.push(("against", arguments.against.clone()));
    let list: CallList = Api::new(&arguments.client)?.get("/statements", &query).await?;
    if arguments.client.json {
        return json(&list);
    }
    let Some(first) = list.items.first() else {
        return line(format!(
            "No database statement was run in the last {}.",
            arguments.window.since
        ));
    };
    line(format!(
        "{} spent most of the last {} on one statement, run {}: {} in all.\n",
        first.service,
        arguments.window.since,
        counted(first.count, "time", "times"),
        took(Some(first.total_ms))
    ))?;
    let columns = [
        Column("service", Fit::Whole),
        Column("statement", Fit::Text(40)),
        Column("times", Fit::Number),
        Column("failed", Fit::Number),
        Column("mean", Fit::Number),
        Column(mean_then(arguments.against.as_deref()), Fit::Number),
        Column("in all", Fit::Number),
    ];
    table(
        &columns,
        list.items
            .into_iter()
            .map(|item| [vec![item.service.clone(), item.name.clone()], numbers(&item).to_vec()].concat()),
    )
}

pub async fn instances(arguments: Instances) -> Result<(), Fault> {
    let mut query = query(&arguments.window);
    query.push(("limit", Some(arguments.limit.to_string())));
    query.push(("against", arguments.against.clone()));
    let list: InstanceList = Api::new(&arguments.client)?.get("/instances", &query).await?;
    if arguments.client.json {
        return json(&list);
    }
    if list.items.is_empty() {
        return line(format!(
            "No instance sent anything in the last {}.",
            arguments.window.since
        ));
    }
    line(format!(
        "{} sent something in the last {}.\n",
        counted(
            i64::try_from(list.items.len()).unwrap_or_default(),
            "instance",
            "instances"
        ),
        arguments.window.since
    ))?;
    let columns = [
        Column("service", Fit::Whole),
        Column("instance", Fit::Text(16)),
        Column("host", Fit::Text(10)),
        Column("requests", Fit::Number),
        Column("failed", Fit::Number),
        Column("first seen", Fit::Whole),
        Column("last seen", Fit::Whole),
        Column("load", Fit::Text(12)),
    ];
    let mut columns = Vec::from(columns);
    if arguments.against.is_some() {
        columns.push(Column("then", Fit::Text(14)));
    }
    table(&columns, list.items.into_iter().map(instance))?;
    if list.platform_events.is_empty() {
        return Ok(());
    }
    line("\nWhat the platform said, the newest first:\n")?;
    let columns = [
        Column("at", Fit::Whole),
        Column("of", Fit::Text(14)),
        Column("event", Fit::Text(12)),
        Column("in its words", Fit::Text(24)),
    ];
    table(
        &columns,
        list.platform_events
            .into_iter()
            .take(EVENTS)
            .map(|event| vec![time(event.at), event.object, event.reason, event.message]),
    )
}

/// Events of the platform printed.
const EVENTS: usize = 20;

/// A reading of load in its unit: shares of one as percent, bytes as MB.
fn reading(name: &str, value: f64) -> String {
    let what = name.split_once('.').map_or(name, |(_, what)| what);
    if name.ends_with("utilization") {
        format!(
            "{} {}",
            what.trim_end_matches(".recent_utilization")
                .trim_end_matches(".utilization"),
            percent(value)
        )
    } else if name.contains("memory") {
        format!("memory {:.0} MB", value / 1e6)
    } else {
        format!("{what} {value:.2}")
    }
}

fn instance(item: InstanceItem) -> Vec<String> {
    let place = [item.host.as_str(), item.region.as_str()]
        .into_iter()
        .filter(|part| !part.is_empty())
        .collect::<Vec<_>>()
        .join(", ");
    let load: Vec<String> = item
        .readings
        .as_object()
        .into_iter()
        .flatten()
        .filter_map(|(name, value)| Some(reading(name, value.as_f64()?)))
        .collect();
    let then = item
        .against
        .as_ref()
        .map(|then| format!("{} of {} failed", grouped(then.failed), grouped(then.requests)));
    let mut cells = vec![
        format!("{} {}", item.service, item.version),
        item.instance,
        place,
        grouped(item.requests),
        share(item.failed, item.requests),
        time(item.first_seen),
        time(item.last_seen),
        load.join(", "),
    ];
    cells.extend(then);
    cells
}

pub async fn now(arguments: Now) -> Result<(), Fault> {
    let query = [("service", arguments.service), ("environment", arguments.environment)];
    let report: NowReport = Api::new(&arguments.client)?.get("/now", &query).await?;
    if arguments.client.json {
        return json(&report);
    }
    line(&report.sentence)?;
    line(if report.requests == 0 {
        "No request came in the last 15 minutes.\n".to_owned()
    } else {
        format!(
            "{} of the last 15 minutes at {}, {} failed.\n",
            counted(report.requests, "request", "requests"),
            counted(report.services, "service", "services"),
            share(report.failed, report.requests)
        )
    })?;
    for trouble in &report.troubles {
        line(format!(
            "Outcrop's own “{}”, since {}: {}.",
            trouble.name,
            time(trouble.since),
            trouble.says
        ))?;
    }
    let is_first = report.items.is_empty();
    if !is_first {
        told(report.items)?;
    }
    let gap = if is_first { "" } else { "\n" };
    if report.older > 0 {
        let (errors, occur) = if report.older == 1 {
            ("error", "occurs")
        } else {
            ("errors", "occur")
        };
        line(format!(
            "{gap}{} {errors} flagged more than four hours ago still {occur}: outcrop errors --where 'open and (new or \
             surging or returned)'",
            grouped(report.older)
        ))?;
    }
    let gap = if report.older == 0 { gap } else { "\n" };
    let is_last = report.handled.is_empty();
    if !is_last {
        line(format!("{gap}Handled, and still occurring:\n"))?;
        told(report.handled)?;
    }
    if !report.fleet.is_empty() {
        let gap = if is_last { gap } else { "\n" };
        line(format!("{gap}Services in the last hour, the worst first:\n"))?;
        fleet(report.fleet)?;
    }
    Ok(())
}

/// What needs attention, with what follows from it.
fn told(items: Vec<NowItem>) -> Result<(), Fault> {
    let columns = [
        Column("since", Fit::Whole),
        Column("service", Fit::Whole),
        Column("what", Fit::Text(24)),
        Column("why", Fit::Text(30)),
        Column("error", Fit::Whole),
    ];
    let rows = items.into_iter().flat_map(|item| {
        let why = match item.handled {
            Some(handled) => format!("{}; {handled}", item.why),
            None => item.why,
        };
        let own = vec![
            time(item.since),
            item.service,
            item.what,
            why,
            item.reference.unwrap_or_default(),
        ];
        let echoes = item.echoes.into_iter().map(|echo| {
            let with_it = format!("with it: {}", echo.why);
            vec![
                String::new(),
                echo.service,
                echo.what,
                with_it,
                echo.reference.unwrap_or_default(),
            ]
        });
        std::iter::once(own).chain(echoes).collect::<Vec<_>>()
    });
    table(&columns, rows)
}

/// Every service in one row.
fn fleet(items: Vec<FleetItem>) -> Result<(), Fault> {
    let columns = [
        Column("service", Fit::Whole),
        Column("requests", Fit::Number),
        Column("failed", Fit::Number),
        Column("95 % within", Fit::Number),
        Column("usually", Fit::Number),
        Column("errors", Fit::Whole),
        Column("runs", Fit::Whole),
        Column("deploy", Fit::Whole),
        Column("owner", Fit::Text(10)),
    ];
    let none = || "—".to_owned();
    let rows = items.into_iter().map(|item| {
        let kinds = [
            (item.new, "new"),
            (item.surging, "surging"),
            (item.returned, "returned"),
        ];
        let errors: Vec<String> = kinds
            .into_iter()
            .filter(|(n, _)| *n > 0)
            .map(|(n, kind)| format!("{n} {kind}"))
            .collect();
        vec![
            item.service,
            grouped(item.requests),
            share(item.failed, item.requests),
            took(item.p95_ms),
            took(item.p95_before_ms),
            if errors.is_empty() { none() } else { errors.join(", ") },
            item.versions
                .into_iter()
                .next()
                .map_or_else(none, |latest| latest.version),
            item.deploy.map_or_else(none, |deploy| deploy.outcome),
            item.owner.unwrap_or_else(|| "nobody".to_owned()),
        ]
    });
    table(&columns, rows)
}
