//! `outcrop watch`: follows requests as they pass.

use std::collections::HashSet;
use std::time::Duration;

use chrono::{DurationRound as _, TimeDelta, Utc};
use clap::Args;
use outcrop_api::{EndpointList, NoticeItem, NoticeList, RequestItem, RequestPage};

use crate::client::{Api, Client};
use crate::commands::traffic::{Only, request};
use crate::fault::Fault;
use crate::output::{Column, Fit, grouped, line, table, time};

#[derive(Args)]
#[command(
    after_help = "Examples:\n  outcrop watch --service fares\n  outcrop watch --only failed --json      one JSON \
        document a line\n  outcrop watch --notices\n\nWhere more passes than can be read, the rates of the busiest endpoints stand in its place."
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
    /// Only requests with this text in the name of their endpoint or in an attribute.
    #[arg(long, value_name = "TEXT")]
    pub text: Option<String>,
    /// Follow the notices to you, in place of requests.
    #[arg(long, conflicts_with_all = ["service", "environment", "only", "text"])]
    pub notices: bool,
    /// Show what passed in the last half minute, and end.
    #[arg(long)]
    pub once: bool,
}

/// Follows the notices to whoever asks, and those by ways that go to nobody.
async fn notices(api: &Api, arguments: &Watch) -> Result<(), Fault> {
    let mut last: Option<i64> = None;
    if !arguments.client.json {
        line("Notices to you, and by ways that go to nobody, as they are sent; Ctrl-C ends it.")?;
    }
    loop {
        let page: NoticeList = api.get("/notices", &[("mine", Some("true".to_owned()))]).await?;
        let recent = Utc::now() - TimeDelta::minutes(10);
        // At first those of the last minutes; then each that is newer than the last.
        let is_fresh = |notice: &&NoticeItem| last.map_or(notice.at >= recent, |last| notice.id > last);
        for notice in page.items.iter().filter(is_fresh).rev() {
            if arguments.client.json {
                line(serde_json::to_string(notice).map_err(std::io::Error::from)?)?;
            } else {
                let references = notice.references.join(" ");
                let said = [time(notice.at), notice.way.clone(), notice.subject.clone(), references].join("  ");
                line(outcrop_core::text::printable(said.trim_end()))?;
            }
        }
        last = page.items.iter().map(|notice| notice.id).max().or(last).or(Some(0));
        if arguments.once {
            return Ok(());
        }
        tokio::time::sleep(EVERY).await;
    }
}

/// The rates of the last two whole minutes, in the place of requests that are too many to read.
pub(super) async fn rates(api: &Api, arguments: &Watch) -> Result<(), Fault> {
    let to = Utc::now()
        .duration_trunc(TimeDelta::minutes(1))
        .unwrap_or_else(|_| Utc::now());
    let query = [
        ("from", Some((to - TimeDelta::minutes(2)).to_rfc3339())),
        ("to", Some(to.to_rfc3339())),
        ("service", arguments.service.clone()),
        ("environment", arguments.environment.clone()),
        ("limit", Some("500".to_owned())),
    ];
    let list: EndpointList = api.get("/endpoints", &query).await?;
    let a_minute = |count: i64| grouped((count + 1) / 2);
    let (all, failed) = list
        .items
        .iter()
        .fold((0, 0), |(all, failed), item| (all + item.count, failed + item.failed));
    line(format!(
        "\nMore pass than can be read: {} requests a minute, {} of them fail. --only failed, --service or --text show \
         single ones.",
        a_minute(all),
        a_minute(failed)
    ))?;
    let columns = [
        Column("a minute", Fit::Number),
        Column("fail", Fit::Number),
        Column("service", Fit::Whole),
        Column("endpoint", Fit::Text(20)),
    ];
    table(
        &columns,
        list.items
            .into_iter()
            .take(RATES)
            .map(|item| vec![a_minute(item.count), a_minute(item.failed), item.service, item.endpoint]),
    )
}

/// Endpoints whose rates are shown, and how often.
pub(super) const RATES: usize = 12;

pub(super) const RATES_EVERY: Duration = Duration::from_secs(10);

/// How often it is asked what has passed.
pub(super) const EVERY: Duration = Duration::from_secs(2);

/// Requests asked for at once: more in two seconds is nothing to read.
pub(super) const AT_ONCE: &str = "100";

pub async fn watch(arguments: Watch) -> Result<(), Fault> {
    let api = Api::new(&arguments.client)?;
    if arguments.notices {
        return notices(&api, &arguments).await;
    }
    let mut seen: HashSet<String> = HashSet::new();
    let mut since = Utc::now() - TimeDelta::seconds(30);
    let mut rates_at = None;
    line(
        "Failed and slow requests, answers of 4xx and 5xx, and one in 100 of the others, as they come; Ctrl-C ends it.",
    )?;
    loop {
        let query = [
            ("from", Some(since.to_rfc3339())),
            ("service", arguments.service.clone()),
            ("environment", arguments.environment.clone()),
            ("only", arguments.only.map(|only| only.name().to_owned())),
            ("text", arguments.text.clone()),
            ("limit", Some(AT_ONCE.to_owned())),
        ];
        let page: RequestPage = api.get("/requests", &query).await?;
        let fresh: Vec<&RequestItem> = page
            .items
            .iter()
            .rev()
            .filter(|item| !seen.contains(&item.span_id))
            .collect();
        let is_too_much = page.next.is_some() && !arguments.client.json;
        for item in fresh.iter().filter(|_| !is_too_much) {
            if arguments.client.json {
                line(serde_json::to_string(item).map_err(std::io::Error::from)?)?;
            } else {
                line(outcrop_core::text::printable(&request(item).join("  ")))?;
            }
        }
        if is_too_much
            && rates_at.is_none_or(|at| Utc::now() - at >= TimeDelta::from_std(RATES_EVERY).unwrap_or_default())
        {
            rates_at = Some(Utc::now());
            rates(&api, &arguments).await?;
        }
        // Spans come a few seconds after their requests: what was asked for before is asked for again, and left out.
        since = Utc::now() - TimeDelta::seconds(30);
        seen = page.items.into_iter().map(|item| item.span_id).collect();
        if arguments.once {
            return Ok(());
        }
        tokio::time::sleep(EVERY).await;
    }
}
