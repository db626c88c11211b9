//! `outcrop occurrences`: those of one error, newest first.

use clap::Args;
use outcrop_api::OccurrencePage;

use crate::client::{Api, Client};
use crate::fault::Fault;
use crate::output::{Column, Fit, counted, json, line, table, time};

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
    /// Where the page starts: `next` of the page before.
    #[arg(long, value_name = "CURSOR")]
    pub cursor: Option<String>,
    /// Only occurrences that match this predicate, such as 'http.route like "/v1/quotes/*" and user = u-7'.
    #[arg(long = "where", value_name = "PREDICATE")]
    pub predicate: Option<String>,
}

pub async fn run(arguments: Occurrences) -> Result<(), Fault> {
    let api = Api::new(&arguments.client)?;
    let query = [
        ("limit", Some(arguments.limit.to_string())),
        ("cursor", arguments.cursor.clone()),
        ("where", arguments.predicate.clone()),
    ];
    let page: OccurrencePage = api
        .get(&format!("/errors/{}/occurrences", arguments.reference), &query)
        .await?;
    if arguments.client.json {
        return json(&page);
    }
    let number = i64::try_from(page.items.len()).unwrap_or(i64::MAX);
    if page.items.is_empty() && arguments.predicate.is_some() {
        return line(format!("No occurrence of {} matches.", arguments.reference));
    }
    if page.items.is_empty() {
        return line(format!(
            "No occurrence of {} is kept any more; its counts are: outcrop show {0}",
            arguments.reference
        ));
    }
    line(format!(
        "{} of {}, the newest first.",
        counted(number, "occurrence", "occurrences"),
        arguments.reference
    ))?;
    line("")?;
    let columns = [
        Column("occurrence", Fit::Whole),
        Column("at", Fit::Whole),
        Column("version", Fit::Whole),
        Column("endpoint", Fit::Text(12)),
        Column("user", Fit::Text(6)),
        Column("message", Fit::Text(16)),
    ];
    let dash = |text: Option<String>| text.unwrap_or_else(|| "—".to_owned());
    table(
        &columns,
        page.items.into_iter().map(|item| {
            let message: String = item.message.chars().take(200).collect();
            vec![
                item.id,
                time(item.at),
                item.version,
                dash(item.endpoint),
                dash(item.user),
                message,
            ]
        }),
    )?;
    if let Some(next) = page.next {
        line(format!("\nMore: --cursor {next}"))?;
    }
    Ok(())
}
