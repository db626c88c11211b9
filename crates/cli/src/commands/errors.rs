//! `outcrop errors`: the list of errors.

use chrono::Utc;
use clap::Args;
use outcrop_api::{ErrorItem, ErrorPage, Then, settled_in_words};
use outcrop_core::attention::percent;
use outcrop_core::text::printable;

use crate::client::{Api, Client};
use crate::fault::Fault;
use crate::output::{Column, Fit, ago, counted, grouped, json, line, table, time};
use crate::window::Window;

#[derive(Args)]
#[command(
    after_help = "Examples:\n  outcrop errors\n  outcrop errors --service fares --environment production --since \
        7d\n  outcrop errors --where 'uncaught and version >= 2.4.0 and not http.route like \"/internal/*\"'\n  \
        outcrop errors --order users\n  outcrop errors --json | jq -r '.items[0].ref'"
)]
pub struct Errors {
    #[command(flatten)]
    pub client: Client,
    #[command(flatten)]
    pub window: Window,
    /// Items per page, 1 to 500.
    #[arg(long, value_name = "N", default_value_t = 50)]
    pub limit: u32,
    /// What comes first: `attention`, `count`, `users`, `request_share`, `first_seen` or `last_seen`; `count up`: the
    /// least.
    #[arg(long, value_name = "ORDER", default_value = "attention")]
    pub order: String,
    /// Where the page starts: `next` of the page before.
    #[arg(long, value_name = "CURSOR")]
    pub cursor: Option<String>,
    /// Compare with another period: `before` (just before the window), an offset (1d, 7d), or START/END.
    #[arg(long, value_name = "PERIOD")]
    pub against: Option<String>,
}

pub async fn run(arguments: Errors) -> Result<(), Fault> {
    let api = Api::new(&arguments.client)?;
    let mut query = window_query(&arguments.window);
    query.push(("limit", Some(arguments.limit.to_string())));
    query.push(("cursor", arguments.cursor.clone()));
    query.push(("order", Some(arguments.order.clone())));
    query.push(("against", arguments.against.clone()));
    let page: ErrorPage = api.get("/errors", &query).await?;
    if arguments.client.json {
        return json(&page);
    }
    line(sentence(&page, &arguments))?;
    if let (Some(then), Some(traffic)) = (&page.against, &page.traffic) {
        line(format!(
            "Against {} to {}: {} then, {} of them gone now; {} of {} failed then, {} of {} now.",
            time(then.from),
            time(then.to),
            counted(then.errors, "error", "errors"),
            grouped(then.gone),
            grouped(then.failed),
            counted(then.requests, "request", "requests"),
            grouped(traffic.failed),
            grouped(traffic.requests)
        ))?;
    }
    let Some(first) = page.items.first() else { return Ok(()) };
    line("")?;
    let now = Utc::now();
    let mut columns = vec![
        Column("att.", Fit::Number),
        Column("error", Fit::Whole),
        Column("service", Fit::Whole),
        Column("what", Fit::Text(20)),
        Column("where", Fit::Text(16)),
        Column("share", Fit::Number),
        Column("count", Fit::Number),
        Column("users", Fit::Number),
        Column("last", Fit::Whole),
    ];
    if page.against.is_some() {
        columns.push(Column("then", Fit::Whole));
    }
    table(&columns, page.items.iter().map(|item| row(item, now)))?;
    line("")?;
    if arguments.order == "attention" {
        line(format!(
            "Ranked first: {} — {}",
            first.reference,
            printable(&first.attention.reasons.join(", "))
        ))?;
    }
    if let Some(next) = page.next {
        line(format!("More: --cursor {next}"))?;
    }
    Ok(())
}

/// The window's parameters, as the API calls them.
pub fn window_query(window: &Window) -> Vec<(&'static str, Option<String>)> {
    vec![
        ("since", Some(window.since.clone())),
        ("service", window.service.clone()),
        ("environment", window.environment.clone()),
        ("version", window.in_version.clone()),
        ("where", window.predicate.clone()),
    ]
}

fn sentence(page: &ErrorPage, arguments: &Errors) -> String {
    let window = &arguments.window;
    let place = window
        .service
        .as_deref()
        .map(|service| format!(" in {service}"))
        .unwrap_or_default();
    let environment = window
        .environment
        .as_deref()
        .map(|name| format!(" ({name})"))
        .unwrap_or_default();
    let place = format!(
        "{place}{}",
        window
            .predicate
            .as_deref()
            .map(|text| format!(" where {}", printable(text)))
            .unwrap_or_default()
    );
    let when = format!("in the last {}", window.since);
    if page.items.is_empty() {
        return if arguments.cursor.is_some() {
            "No further errors.".to_owned()
        } else if let Some(note) = &page.note {
            format!("No error occurred{place}{environment} {when}: {}", printable(note))
        } else if window.predicate.is_some() {
            format!("No error occurred{place}{environment} {when}.")
        } else {
            format!(
                "No error occurred{place}{environment} {when}. A test report: outcrop send --service test --message \
                 'it works'"
            )
        };
    }
    let number = i64::try_from(page.items.len()).unwrap_or(i64::MAX);
    let uncaught = page.items.iter().filter(|item| item.uncaught).count();
    let occurrences = page.items.iter().map(|item| item.count).sum();
    let errors = if page.total > number && arguments.cursor.is_none() {
        format!(
            "The first {} of {}",
            grouped(number),
            counted(page.total, "error", "errors")
        )
    } else if page.total > number {
        format!(
            "{} further of {}",
            grouped(number),
            counted(page.total, "error", "errors")
        )
    } else {
        counted(number, "error", "errors")
    };
    let said = [
        (page.flagged.new, "new"),
        (page.flagged.surging, "surging"),
        (page.flagged.returned, "returned"),
        (page.handled, "settled or quiet"),
    ];
    let said: Vec<String> = (said.into_iter().filter(|(n, _)| *n > 0))
        .map(|(n, what)| format!(", {} {what}", grouped(n)))
        .collect();
    let said = said.concat();
    format!(
        "{errors}{place}{environment} with {} {when}, {uncaught} uncaught{said}. {} first: {}",
        counted(occurrences, "occurrence", "occurrences"),
        if arguments.order == "attention" {
            "Open"
        } else {
            "Listed"
        },
        page.items
            .first()
            .map(|item| item.reference.as_str())
            .unwrap_or_default()
    )
}

fn row(item: &ErrorItem, now: chrono::DateTime<Utc>) -> Vec<String> {
    let mut cells = vec![
        item.attention.score.to_string(),
        item.reference.clone(),
        item.service.clone(),
        what(item),
        item.own_frame.clone().unwrap_or_else(|| "—".to_owned()),
        item.request_share.map_or_else(|| "—".to_owned(), percent),
        grouped(item.count),
        grouped(item.users),
        ago(item.last_seen, now),
    ];
    cells.extend(item.against.as_ref().map(then));
    cells
}

/// What is said of an error, what it is, and how it is handled.
fn what(item: &ErrorItem) -> String {
    let flags = if item.flags.is_empty() {
        String::new()
    } else {
        format!("{}: ", item.flags.join(", "))
    };
    let handled: Vec<String> = [
        item.taken_by.as_ref().map(|who| format!("taken by {who}")),
        settled_in_words(
            item.settled_in.as_deref(),
            item.settled_by.as_deref(),
            item.settled_from,
        ),
        item.quiet_until.as_ref().map(|until| format!("quiet until {until}")),
    ]
    .into_iter()
    .flatten()
    .collect();
    let handled = if handled.is_empty() {
        String::new()
    } else {
        format!(" [{}]", handled.join(", "))
    };
    format!("{flags}{}{handled}", item.title)
}

/// How many of an error there were, and whether it is more or less now.
pub fn then(then: &Then) -> String {
    match &then.change {
        Some(change) => format!("{} ({change} now)", grouped(then.count)),
        None => grouped(then.count),
    }
}
