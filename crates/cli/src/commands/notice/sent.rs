//! `outcrop notice sent`: what went to whom.

use clap::Args;
use outcrop_api::{NoticeItem, NoticeList};
use outcrop_core::text::printable;

use crate::client::Api;
use crate::fault::Fault;
use crate::output::{Column, Fit, json, line, table, time};

#[derive(Args)]
#[command(after_help = "Examples:\n  outcrop notice sent --failed\n  outcrop notice sent --error kobal-tirun")]
pub struct Sent {
    /// Only notices that were given up.
    #[arg(long, conflicts_with = "waiting")]
    failed: bool,
    /// Only notices that wait.
    #[arg(long)]
    waiting: bool,
    /// Only notices of this error.
    #[arg(long, value_name = "REF")]
    error: Option<String>,
    /// Only notices to you, and by ways that go to nobody.
    #[arg(long)]
    mine: bool,
    /// Go on where the page before ended.
    #[arg(long, value_name = "CURSOR")]
    cursor: Option<String>,
}

pub(super) async fn run(api: &Api, asked: &Sent, as_json: bool) -> Result<(), Fault> {
    let state = match (asked.failed, asked.waiting) {
        (true, _) => Some("failed".to_owned()),
        (_, true) => Some("waiting".to_owned()),
        _ => None,
    };
    let query = [
        ("state", state),
        ("ref", asked.error.clone()),
        ("mine", asked.mine.then(|| "true".to_owned())),
        ("cursor", asked.cursor.clone()),
    ];
    let list: NoticeList = api.get("/notices", &query).await?;
    if as_json {
        return json(&list);
    }
    if list.items.is_empty() {
        return line("There are none.");
    }
    let columns = [
        Column("no.", Fit::Number),
        Column("at", Fit::Whole),
        Column("by", Fit::Whole),
        Column("to", Fit::Text(10)),
        Column("what it is about", Fit::Text(24)),
        Column("what became of it", Fit::Text(16)),
    ];
    table(&columns, list.items.into_iter().map(row))?;
    if let Some(next) = list.next {
        line(printable(&format!("\nmore: --cursor {next}")))?;
    }
    Ok(())
}

fn row(notice: NoticeItem) -> Vec<String> {
    let became = became(&notice);
    vec![
        notice.id.to_string(),
        time(notice.at),
        notice.way,
        notice.to,
        notice.subject,
        became,
    ]
}

fn became(notice: &NoticeItem) -> String {
    match (notice.state.as_str(), notice.next_at) {
        ("sent", _) => format!("sent: {}", notice.answer),
        ("waiting", Some(next)) if notice.attempts > 0 => {
            format!(
                "tried {} times, again at {}: {}",
                notice.attempts,
                time(next),
                notice.answer
            )
        }
        ("waiting", _) => "waiting".to_owned(),
        _ => format!("given up: {}", notice.answer),
    }
}

#[cfg(test)]
mod tests {
    use chrono::DateTime;

    use super::*;

    #[test]
    fn what_became_of_a_notice_is_said() {
        let mut notice = NoticeItem {
            id: 7,
            rule: "Fares".to_owned(),
            way: "mail".to_owned(),
            to: "purser@skerry.example".to_owned(),
            reason: "rule".to_owned(),
            subject: "New in fares".to_owned(),
            references: vec![],
            at: DateTime::UNIX_EPOCH,
            state: "sent".to_owned(),
            attempts: 1,
            next_at: None,
            ended_at: None,
            answer: "250 taken".to_owned(),
        };
        assert_eq!(became(&notice), "sent: 250 taken");
        notice.state = "failed".to_owned();
        assert_eq!(became(&notice), "given up: 250 taken");
        notice.state = "waiting".to_owned();
        notice.next_at = Some(DateTime::UNIX_EPOCH);
        assert!(became(&notice).starts_with("tried 1 times, again at "));
        notice.attempts = 0;
        assert_eq!(became(&notice), "waiting");
    }
}
