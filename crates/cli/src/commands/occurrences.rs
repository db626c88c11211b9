use outcrop_server::wire::OccurrencePage;

use crate::args::Occurrences;
use crate::client::Api;
use crate::fault::Fault;
use crate::output::{Align, Column, counted, json, line, table, time};

pub async fn run(arguments: Occurrences) -> Result<(), Fault> {
    let api = Api::new(&arguments.client)?;
    let query = [("limit", Some(arguments.limit.to_string())), ("cursor", arguments.cursor.clone())];
    let page: OccurrencePage = api.get(&format!("/errors/{}/occurrences", arguments.reference), &query).await?;
    if arguments.client.json {
        return json(&page);
    }
    let number = i64::try_from(page.items.len()).unwrap_or(i64::MAX);
    if page.items.is_empty() {
        return line(format!("No occurrence of {} is kept any more; its counts are: outcrop show {0}", arguments.reference));
    }
    line(format!("{} of {}, the newest first.", counted(number, "occurrence", "occurrences"), arguments.reference))?;
    line("")?;
    let columns = [
        Column("at", Align::Left, 20),
        Column("version", Align::Left, 8),
        Column("environment", Align::Left, 11),
        Column("endpoint", Align::Left, 12),
        Column("host", Align::Left, 6),
        Column("user", Align::Left, 6),
        Column("message", Align::Left, 16),
        Column("occurrence", Align::Left, 32),
    ];
    let dash = |text: Option<String>| text.unwrap_or_else(|| "—".to_owned());
    table(
        &columns,
        page.items.into_iter().map(|item| {
            let message: String = item.message.chars().take(200).collect();
            vec![time(item.at), item.version, item.environment, dash(item.endpoint), dash(item.host), dash(item.user), message, item.id]
        }),
    )?;
    if let Some(next) = page.next {
        line(format!("\nMore: --cursor {next}"))?;
    }
    Ok(())
}
