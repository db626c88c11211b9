//! `outcrop show`: one error.

use chrono::Utc;
use clap::Args;
use outcrop_api::{AttributeValues, Common, ErrorDetail, Explanation, HandlingState, OccurrenceDetail};
use outcrop_core::attention::percent;
use outcrop_core::text::printable;

use super::errors::{then, window_query};
use super::{handling, stack};
use crate::client::{Api, Client};
use crate::fault::Fault;
use crate::output::{Column, Fit, counted, grouped, json, line, since, table, time};
use crate::window::Window;

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
    /// Show why the occurrences are one error: what counted, and what was left out.
    #[arg(long)]
    pub why: bool,
    /// Show the most frequent values of every attribute, each with its count and share.
    #[arg(long, conflicts_with = "why")]
    pub attributes: bool,
    /// Compare with another period: `before` (just before the window), an offset (1d, 7d), or START/END.
    #[arg(long, value_name = "PERIOD")]
    pub against: Option<String>,
}

/// Which errors it was before its code was edited, or may have been.
fn print_moved(detail: &ErrorDetail) -> Result<(), Fault> {
    for moved in &detail.moved {
        line(printable(&format!(
            "Known from before: it {} (not so? outcrop grouping undo {}).",
            moved.sentence, moved.change
        )))?;
    }
    for other in &detail.may_be {
        let join = format!("outcrop grouping join {} {}", other.reference, detail.error.reference);
        line(printable(&format!(
            "May be {}, its code having moved: {} (so? {join}).",
            other.reference, other.title
        )))?;
    }
    Ok(())
}

pub async fn run(arguments: Show) -> Result<(), Fault> {
    let api = Api::new(&arguments.client)?;
    if arguments.attributes {
        return attributes(&api, &arguments).await;
    }
    let mut query = window_query(&arguments.window);
    query.push(("against", arguments.against.clone()));
    let detail: ErrorDetail = api.get(&format!("/errors/{}", arguments.reference), &query).await?;
    if arguments.why {
        return why(&api, &arguments).await;
    }
    if arguments.client.json {
        return json(&detail);
    }
    let error = &detail.error;
    let now = Utc::now();
    line(printable(&error.title))?;
    line(printable(&sentence(&detail, &arguments.window.since)))?;
    line(format!(
        "First seen {} in {} {}, last {} ({}).",
        time(error.first_seen),
        printable(&error.service),
        printable(&error.first_version),
        time(error.last_seen),
        since(error.last_seen, now),
    ))?;
    line(format!(
        "Attention {}: {}.",
        error.attention.score,
        printable(&error.attention.reasons.join(", "))
    ))?;
    print_moved(&detail)?;
    let handling: HandlingState = api
        .get(&format!("/errors/{}/handling", arguments.reference), &[])
        .await?;
    handling::print(&handling)?;
    if let Some(against) = &error.against {
        let share = against
            .request_share
            .map(|share| format!(", {} of its requests", percent(share)))
            .unwrap_or_default();
        line(format!("Then: {}{share}.", then(against)))?;
    }
    print_endpoints(&detail)?;
    line("")?;
    let columns = [
        Column("version", Fit::Whole),
        Column("environment", Fit::Whole),
        Column("occurrences", Fit::Number),
        Column("uncaught", Fit::Number),
        Column("first", Fit::Whole),
        Column("last", Fit::Whole),
    ];
    table(
        &columns,
        detail.sightings.iter().map(|row| {
            vec![
                row.version.clone(),
                row.environment.clone(),
                grouped(row.count),
                grouped(row.uncaught),
                time(row.first_seen),
                time(row.last_seen),
            ]
        }),
    )?;
    let common: Common = api
        .get(
            &format!("/errors/{}/stands-out", arguments.reference),
            &window_query(&arguments.window),
        )
        .await?;
    print_common(&common)?;
    if let Some(latest) = &detail.latest_occurrence {
        let occurrence: OccurrenceDetail = api.get(&format!("/occurrences/{latest}"), &[]).await?;
        line("")?;
        line(format!(
            "Latest occurrence {latest}, {}:",
            time(occurrence.occurrence.at)
        ))?;
        stack::print(&occurrence, stack::Frames::OwnFirst)?;
    }
    line("")?;
    line(format!(
        "More: outcrop occurrences {0} · outcrop show {0} --attributes · outcrop show {0} --why · outcrop show {0} \
         --json",
        error.reference
    ))
}

fn print_endpoints(detail: &ErrorDetail) -> Result<(), Fault> {
    for hit in &detail.endpoints {
        let requests = hit.request_share.map_or_else(String::new, |share| {
            format!(
                ", {} of its {}",
                percent(share),
                counted(hit.requests, "request", "requests")
            )
        });
        line(printable(&format!(
            "  {} at {}{requests}",
            percent(hit.share),
            hit.endpoint
        )))?;
    }
    if let Some(note) = &detail.sampling {
        line(format!("  {}: {note}", detail.error.service))?;
    }
    Ok(())
}

/// Findings shown: what fits on a screen beside the rest.
const FINDINGS: usize = 6;

fn print_common(common: &Common) -> Result<(), Fault> {
    if common.occurrences == 0 {
        return Ok(());
    }
    line("")?;
    let against = format!(
        "{} against {}",
        counted_u64(common.occurrences, "occurrence", "occurrences"),
        counted_u64(common.requests, "sampled request", "sampled requests")
    );
    match &common.not_compared {
        Some(reason) => line(format!("Stands out: {reason}."))?,
        None if common.stands_out.is_empty() => line(format!("Nothing stands out ({against})."))?,
        None => line(format!("Stands out ({against}):"))?,
    }
    for finding in common.stands_out.iter().take(FINDINGS) {
        line(format!("  {}", printable(&finding.sentence)))?;
    }
    if let Some(rhythm) = &common.rhythm {
        line(format!("  It comes {rhythm}."))?;
    }
    Ok(())
}

fn counted_u64(number: u64, one: &str, many: &str) -> String {
    counted(i64::try_from(number).unwrap_or(i64::MAX), one, many)
}

/// Values shown of an attribute: those that are most of it; the document has twenty.
const VALUES: usize = 5;

/// The plain distribution of every attribute, the one with the fewest values first: by those occurrences are alike.
async fn attributes(api: &Api, arguments: &Show) -> Result<(), Fault> {
    let common: Common = api
        .get(
            &format!("/errors/{}/stands-out", arguments.reference),
            &window_query(&arguments.window),
        )
        .await?;
    if arguments.client.json {
        return json(&common);
    }
    let since = &arguments.window.since;
    if common.occurrences == 0 {
        return line(format!("{} did not occur in the last {since}.", arguments.reference));
    }
    line(format!(
        "{} of {} in the last {since}, by what they carry.",
        counted_u64(common.occurrences, "occurrence", "occurrences"),
        arguments.reference
    ))?;
    line("")?;
    let columns = [
        Column("attribute", Fit::Whole),
        Column("value", Fit::Text(24)),
        Column("count", Fit::Number),
        Column("share", Fit::Number),
    ];
    let mut sorted: Vec<&AttributeValues> = common.attributes.iter().collect();
    sorted.sort_by(|a, b| a.kinds.cmp(&b.kinds).then_with(|| a.name.cmp(&b.name)));
    table(
        &columns,
        sorted
            .into_iter()
            .flat_map(|attribute| values(attribute, common.occurrences)),
    )
}

fn values(attribute: &AttributeValues, of: u64) -> Vec<Vec<String>> {
    // A number of each occurrence's own says nothing of the others.
    if of > 2 && 2 * u64::try_from(attribute.kinds).unwrap_or_default() > of {
        let one = attribute.values.first().map_or("", |value| value.value.as_str());
        let value = format!("{} different, such as {one}", grouped(attribute.kinds));
        return vec![vec![attribute.name.clone(), value, String::new(), String::new()]];
    }
    let name = |place: usize| {
        if place == 0 {
            attribute.name.clone()
        } else {
            String::new()
        }
    };
    let shown = attribute.values.iter().take(VALUES).enumerate();
    let mut rows: Vec<Vec<String>> = shown
        .map(|(place, value)| {
            vec![
                name(place),
                value.value.clone(),
                grouped(value.count),
                percent(share(value.count, of)),
            ]
        })
        .collect();
    let more = attribute.kinds - i64::try_from(rows.len()).unwrap_or(i64::MAX);
    if more > 0 {
        rows.push(vec![
            String::new(),
            format!("… {} more", grouped(more)),
            String::new(),
            String::new(),
        ]);
    }
    rows
}

#[expect(clippy::cast_precision_loss, reason = "counts far below 2^53")]
fn share(count: i64, of: u64) -> f64 {
    count as f64 / of.max(1) as f64
}

async fn why(api: &Api, arguments: &Show) -> Result<(), Fault> {
    let explanation: Explanation = api
        .get(&format!("/errors/{}/explanation", arguments.reference), &[])
        .await?;
    if arguments.client.json {
        return json(&explanation);
    }
    line(format!(
        "Why these are one error, {}: {}",
        arguments.reference, explanation.sentence
    ))?;
    line("")?;
    line("Counted, of the latest occurrence:")?;
    table(
        &[Column("what", Fit::Whole), Column("as it counts", Fit::Text(20))],
        explanation
            .counted
            .iter()
            .map(|part| vec![part.kind.clone(), part.text.clone()]),
    )?;
    line("")?;
    line("Left out:")?;
    for reason in &explanation.ignored {
        line(format!("  {}", printable(reason)))?;
    }
    Ok(())
}

fn sentence(detail: &ErrorDetail, since: &str) -> String {
    let error = &detail.error;
    let place = error
        .own_frame
        .as_deref()
        .map(|frame| format!(" in {frame}"))
        .unwrap_or_default();
    let uncaught = if error.uncaught { "uncaught" } else { "caught" };
    let share = error
        .request_share
        .filter(|_| error.count > 0)
        .map(|share| format!(", {} of its requests", percent(share)))
        .unwrap_or_default();
    let what = if error.count == 0 {
        format!("none in the last {since}")
    } else {
        let users = if error.users == 0 {
            ", no user named".to_owned()
        } else {
            format!(" of {}", counted(error.users, "user", "users"))
        };
        format!(
            "{}{users} in the last {since}{share}",
            counted(error.count, "occurrence", "occurrences")
        )
    };
    format!(
        "{} · {}{place} · {uncaught}, {} · {what}",
        error.reference,
        error.service,
        error.severity.word()
    )
}
