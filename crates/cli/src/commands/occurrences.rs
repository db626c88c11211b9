//! `outcrop occurrences`: those of one error, newest first.

use clap::Args;
use outcrop_api::OccurrencePage;

use crate::client::{Api, Client};
use crate::fault::Fault;
use crate::output::{Column, Fit, counted, grouped, json, line, table, time};

/// Occurrences that the service counts at most.
const COUNTED: i64 = 10_000;

#[derive(Args)]
#[command(
    after_help = "Examples:\n  outcrop occurrences kobal-tirun --limit 10\n  outcrop occurrences kobal-tirun --since 24h \
        --columns skerry.season,host.name"
)]
pub struct Occurrences {
    /// The error's reference.
    #[arg(value_name = "REF")]
    pub reference: String,
    #[command(flatten)]
    pub client: Client,
    /// Items per page, 1 to 500.
    #[arg(long, value_name = "N", default_value_t = 50)]
    pub limit: u32,
    /// Where the page starts: `next` of the page before.
    #[arg(long, value_name = "CURSOR")]
    pub cursor: Option<String>,
    /// The window, back from now: 30m, 24h, 7d; all that is kept where not given.
    #[arg(long, value_name = "DURATION")]
    pub since: Option<String>,
    /// Only what happened in this environment.
    #[arg(long, value_name = "NAME")]
    pub environment: Option<String>,
    /// Fields and attributes to show of each, such as skerry.season,host.name; 8 at most.
    #[arg(long, value_name = "NAMES", value_delimiter = ',')]
    pub columns: Vec<String>,
    /// Only occurrences that match this predicate, such as 'http.route like "/v1/quotes/*" and user = u-7'.
    #[arg(long = "where", value_name = "PREDICATE")]
    pub predicate: Option<String>,
}

pub async fn run(arguments: Occurrences) -> Result<(), Fault> {
    let api = Api::new(&arguments.client)?;
    let query = [
        ("limit", Some(arguments.limit.to_string())),
        ("cursor", arguments.cursor.clone()),
        ("since", arguments.since.clone()),
        ("environment", arguments.environment.clone()),
        (
            "columns",
            Some(arguments.columns.join(",")).filter(|names| !names.is_empty()),
        ),
        ("where", arguments.predicate.clone()),
    ];
    let page: OccurrencePage = api
        .get(&format!("/errors/{}/occurrences", arguments.reference), &query)
        .await?;
    if arguments.client.json {
        return json(&page);
    }
    let number = i64::try_from(page.items.len()).unwrap_or(i64::MAX);
    let is_narrowed = arguments.predicate.is_some() || arguments.since.is_some() || arguments.environment.is_some();
    if page.items.is_empty() && is_narrowed {
        return line(format!("No occurrence of {} matches.", arguments.reference));
    }
    if page.items.is_empty() {
        return line(format!(
            "No occurrence of {} is kept any more; its counts are: outcrop show {0}",
            arguments.reference
        ));
    }
    let of = match page.total {
        total if total <= number => String::new(),
        total if total > COUNTED => format!(" of more than {}", grouped(COUNTED)),
        total => format!(" of {}", grouped(total)),
    };
    line(format!(
        "{}{of} of {}, the newest first.",
        counted(number, "occurrence", "occurrences"),
        arguments.reference
    ))?;
    line("")?;
    let mut columns = vec![
        Column("occurrence", Fit::Whole),
        Column("at", Fit::Whole),
        Column("version", Fit::Whole),
        Column("endpoint", Fit::Text(12)),
        Column("user", Fit::Text(6)),
    ];
    columns.extend(arguments.columns.iter().map(|name| Column(name.trim(), Fit::Text(12))));
    columns.push(Column("message", Fit::Text(16)));
    let dash = |text: Option<String>| text.unwrap_or_else(|| "—".to_owned());
    table(
        &columns,
        page.items.into_iter().map(|item| {
            let message: String = item.message.chars().take(200).collect();
            let mut cells = vec![
                item.id,
                time(item.at),
                item.version,
                dash(item.endpoint),
                dash(item.user),
            ];
            cells.extend(item.values.into_iter().map(dash));
            cells.push(message);
            cells
        }),
    )?;
    if let Some(next) = page.next {
        line(format!("\nMore: --cursor {next}"))?;
    }
    Ok(())
}
