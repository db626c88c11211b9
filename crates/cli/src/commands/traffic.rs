//! Endpoints, slow requests, kept requests, and requests as they pass.

use clap::{Args, ValueEnum};
use outcrop_api::{EndpointItem, EndpointList, GroupList, RequestItem, RequestPage, SlowList, SlowSetting};
use outcrop_core::attention::{least_share, percent};
use outcrop_core::trace::in_words;
use reqwest::Method;

use crate::client::{Api, Client};
use crate::fault::Fault;
use crate::output::{Column, Fit, counted, grouped, json, line, table, time};
use crate::window::TrafficWindow;

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
    /// Compare with another period: `before` (just before the window), an offset (1d, 7d), or START/END.
    #[arg(long, value_name = "PERIOD")]
    pub against: Option<String>,
    /// Compare the instance groups of one service (chosen by `outcrop services set --instance-group`); needs
    /// --service.
    #[arg(long, conflicts_with_all = ["against", "slow_from"])]
    pub by_group: bool,
    /// With --by-group: only this endpoint.
    #[arg(long, value_name = "ENDPOINT", requires = "by_group")]
    pub endpoint: Option<String>,
    /// Set from which duration on a request of an endpoint is slow; `auto` learns it from the endpoint's history.
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
    /// Only requests with this text in the name of their endpoint or in an attribute.
    #[arg(long, value_name = "TEXT")]
    pub text: Option<String>,
    /// Requests per page, 1 to 500.
    #[arg(long, value_name = "N", default_value_t = 50)]
    pub limit: u32,
    /// Where the page starts: `next` of the page before.
    #[arg(long, value_name = "CURSOR")]
    pub cursor: Option<String>,
}

pub(super) fn query(window: &TrafficWindow) -> Vec<(&'static str, Option<String>)> {
    vec![
        ("since", Some(window.since.clone())),
        ("service", window.service.clone()),
        ("environment", window.environment.clone()),
        ("version", window.in_version.clone()),
    ]
}

#[expect(clippy::cast_possible_truncation, reason = "durations of requests")]
pub(super) fn took(millis: Option<f64>) -> String {
    millis.map_or_else(|| "—".to_owned(), |millis| in_words((millis * 1e6) as i64))
}

#[expect(clippy::cast_precision_loss, reason = "a share")]
pub(super) fn share(failed: i64, all: i64) -> String {
    if all == 0 {
        "—".to_owned()
    } else {
        percent(failed as f64 / all as f64)
    }
}

pub async fn endpoints(arguments: Endpoints) -> Result<(), Fault> {
    let api = Api::new(&arguments.client)?;
    if let Some(endpoint) = arguments.slow_from {
        let [service, endpoint, limit] = <[String; 3]>::try_from(endpoint)
            .map_err(|_given| Fault::Usage("--slow-from takes SERVICE ENDPOINT TIME".to_owned()))?;
        let slow_from_ms = if limit == "auto" {
            None
        } else {
            let limit = humantime::parse_duration(&limit)
                .map_err(|error| Fault::Usage(format!("`{limit}`: {error}; write it like 250ms, or auto")))?;
            Some(limit.as_secs_f64() * 1_000.0)
        };
        api.send(
            Method::PUT,
            "/endpoints/slow",
            Some(&SlowSetting {
                service,
                endpoint,
                slow_from_ms,
            }),
        )
        .await?;
        return line("Said. It holds for what comes within a minute.");
    }
    if arguments.by_group {
        return by_group(&api, arguments).await;
    }
    let mut query = query(&arguments.window);
    query.push(("limit", Some(arguments.limit.to_string())));
    query.push(("against", arguments.against.clone()));
    let list: EndpointList = api.get("/endpoints", &query).await?;
    if arguments.client.json {
        return json(&list);
    }
    let Some(worst) = list
        .items
        .iter()
        .max_by(|one, other| doubted(one).total_cmp(&doubted(other)))
    else {
        return line(format!("No request came in the last {}.", arguments.window.since));
    };
    let shown = if list.items.len() < list.total {
        format!(", the {} busiest shown", list.items.len())
    } else {
        String::new()
    };
    let failing = if worst.failed > 0 {
        format!(
            "; {} of {} fails most: {}",
            worst.endpoint,
            worst.service,
            share(worst.failed, worst.count)
        )
    } else {
        "; none fails".to_owned()
    };
    line(format!(
        "{} had requests in the last {}{shown}{failing}.\n",
        counted(i64::try_from(list.total).unwrap_or_default(), "endpoint", "endpoints"),
        arguments.window.since
    ))?;
    let mut columns = vec![
        Column("service", Fit::Whole),
        Column("endpoint", Fit::Text(20)),
        Column("requests", Fit::Number),
        Column("failed", Fit::Number),
        Column("p50", Fit::Number),
        Column("p95", Fit::Number),
        Column("p99", Fit::Number),
        Column("slow from", Fit::Number),
        Column("4xx and 5xx", Fit::Text(12)),
    ];
    if arguments.against.is_some() {
        columns.push(Column("then", Fit::Text(20)));
    }
    table(&columns, list.items.into_iter().map(endpoint))?;
    for note in &list.sampling {
        line(format!("\n{}: {}.", note.services.join(", "), note.note))?;
    }
    Ok(())
}

async fn by_group(api: &Api, arguments: Endpoints) -> Result<(), Fault> {
    let service = arguments
        .window
        .service
        .clone()
        .ok_or_else(|| Fault::Usage("--by-group needs --service: groups are a service's own".to_owned()))?;
    let mut query = query(&arguments.window);
    query.push(("endpoint", arguments.endpoint));
    let list: GroupList = api.get("/endpoints/groups", &query).await?;
    if arguments.client.json {
        return json(&list);
    }
    let Some(attribute) = &list.attribute else {
        return line(format!(
            "Nobody has said what tells instance groups apart. outcrop services set {service} --instance-group \
             cloud.region"
        ));
    };
    let since = &arguments.window.since;
    match list.items.iter().find(|item| !item.changes.is_empty()) {
        _ if list.items.is_empty() => {
            return line(format!(
                "No request of {service} named its group ({attribute}) in the last {since}; groups are counted since \
                 what tells them apart was said."
            ));
        }
        Some(_) => {
            let worst = list.items.iter().find(|item| {
                item.changes
                    .iter()
                    .any(|change| matches!(change.as_str(), "fails more" | "slower"))
            });
            let told = worst.or_else(|| list.items.iter().find(|item| !item.changes.is_empty()));
            if let Some(item) = told {
                line(format!(
                    "{} of {service}, told apart by {attribute}, {}.\n",
                    item.group,
                    item.changes.join(" and is ")
                ))?;
            }
        }
        None => line(format!(
            "No group of {service}, told apart by {attribute}, is shown to differ from the others.\n"
        ))?,
    }
    let columns = [
        Column("group", Fit::Text(16)),
        Column("requests", Fit::Number),
        Column("failed", Fit::Number),
        Column("p50", Fit::Number),
        Column("p95", Fit::Number),
        Column("p99", Fit::Number),
        Column("4xx", Fit::Number),
        Column("5xx", Fit::Number),
        Column("against the others", Fit::Text(14)),
    ];
    table(
        &columns,
        list.items.into_iter().map(|item| {
            let status = |at: usize| grouped(item.statuses.get(at).copied().unwrap_or_default());
            let failed = format!("{} ({})", grouped(item.failed), share(item.failed, item.count));
            let changes = if item.changes.is_empty() {
                "nothing shown".to_owned()
            } else {
                item.changes.join(", ")
            };
            let (count, four, five) = (grouped(item.count), status(3), status(4));
            vec![
                item.group,
                count,
                failed,
                took(item.p50_ms),
                took(item.p95_ms),
                took(item.p99_ms),
                four,
                five,
                changes,
            ]
        }),
    )?;
    line("\nGroups are counted since what tells them apart was said: requests before that are in none.")
}

/// The least that the share of failed requests can be: one run that failed says less than many.
#[expect(clippy::cast_precision_loss, reason = "a share")]
fn doubted(item: &EndpointItem) -> f64 {
    let rate = if item.count == 0 {
        0.0
    } else {
        item.failed as f64 / item.count as f64
    };
    least_share(rate, item.count.unsigned_abs())
}

fn endpoint(item: EndpointItem) -> Vec<String> {
    let statuses: Vec<String> = item
        .statuses
        .iter()
        .map(|status| format!("{} {}", grouped(status.count), status.status))
        .collect();
    let slow = match item.slow_by.as_str() {
        "endpoint" => took(Some(item.slow_from_ms)),
        by => format!("{} ({by})", took(Some(item.slow_from_ms))),
    };
    let failed = if item.failed > 0 {
        format!("{} ({})", grouped(item.failed), share(item.failed, item.count))
    } else {
        "0".to_owned()
    };
    let mut cells = vec![
        item.service,
        item.endpoint,
        grouped(item.count),
        failed,
        took(item.p50_ms),
        took(item.p95_ms),
        took(item.p99_ms),
        slow,
        statuses.join(", "),
    ];
    cells.extend(item.against.map(|then| {
        let changes = if then.changes.is_empty() {
            String::new()
        } else {
            format!(": {} now", then.changes.join(", "))
        };
        format!(
            "{} of {} failed, p95 {}{changes}",
            grouped(then.failed),
            grouped(then.count),
            took(then.p95_ms)
        )
    }));
    cells
}

pub async fn slow(arguments: Slow) -> Result<(), Fault> {
    let mut query = query(&arguments.window);
    query.push(("limit", Some(arguments.limit.to_string())));
    let list: SlowList = Api::new(&arguments.client)?.get("/slow", &query).await?;
    if arguments.client.json {
        return json(&list);
    }
    let Some(worst) = list.items.first() else {
        return line(format!("No slow request came in the last {}.", arguments.window.since));
    };
    let looked_at = counted(
        i64::try_from(list.looked_at).unwrap_or_default(),
        "slow request",
        "slow requests",
    );
    line(format!(
        "Of {looked_at} of the last {}, {} waited mostly for {}.\n",
        arguments.window.since, worst.count, worst.why
    ))?;
    let columns = [
        Column("requests", Fit::Number),
        Column("worst", Fit::Number),
        Column("time there", Fit::Number),
        Column("service", Fit::Whole),
        Column("endpoint", Fit::Text(16)),
        Column("mostly waiting for", Fit::Text(24)),
        Column("trace of the worst", Fit::Whole),
    ];
    table(
        &columns,
        list.items.into_iter().map(|item| {
            let count = i64::try_from(item.count).unwrap_or_default();
            vec![
                grouped(count),
                took(Some(item.worst_ms)),
                took(Some(item.total_ms)),
                item.service,
                item.endpoint,
                item.why,
                item.trace_id,
            ]
        }),
    )
}

const COLUMNS: [Column; 6] = [
    Column("at", Fit::Whole),
    Column("service", Fit::Whole),
    Column("endpoint", Fit::Text(20)),
    Column("status", Fit::Number),
    Column("took", Fit::Number),
    Column("trace", Fit::Whole),
];

pub(super) fn request(item: &RequestItem) -> Vec<String> {
    let status = item.status.map_or_else(
        || {
            if item.failed {
                "failed".to_owned()
            } else {
                "—".to_owned()
            }
        },
        |status| status.to_string(),
    );
    let service = format!("{} {}", item.service, item.version);
    vec![
        time(item.at),
        service,
        item.endpoint.clone(),
        status,
        took(Some(item.duration_ms)),
        item.trace_id.clone(),
    ]
}

pub async fn requests(arguments: Requests) -> Result<(), Fault> {
    let mut query = query(&arguments.window);
    query.push(("limit", Some(arguments.limit.to_string())));
    query.push(("cursor", arguments.cursor));
    query.push(("endpoint", arguments.endpoint));
    query.push(("status", arguments.status.map(|status| status.to_string())));
    query.push(("only", arguments.only.map(|only| only.name().to_owned())));
    query.push(("text", arguments.text));
    let page: RequestPage = Api::new(&arguments.client)?.get("/requests", &query).await?;
    if arguments.client.json {
        return json(&page);
    }
    if page.items.is_empty() {
        return line(format!(
            "No such request of the last {} is kept. Kept are failed and slow ones, answers of 4xx and 5xx, and one \
             in 100.",
            arguments.window.since
        ));
    }
    table(&COLUMNS, page.items.iter().map(request))?;
    match page.next {
        Some(next) => line(format!("\nMore: --cursor {next}")),
        None => Ok(()),
    }
}
