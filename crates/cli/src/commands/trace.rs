//! One trace as a tree with bars.

use std::collections::HashMap;

use clap::Args;
use outcrop_api::{SpanItem, TraceDetail};
use outcrop_core::text::printable;
use outcrop_core::trace::in_words;

use crate::client::{Api, Client, segment};
use crate::fault::Fault;
use crate::output::{counted, json, line, time, width};

#[derive(Args)]
#[command(
    after_help = "Examples:\n  outcrop trace 0af7651916cd43dd8448eb211c80319c\n  outcrop trace \
        0af7651916cd43dd8448eb211c80319c --attributes\n  outcrop trace 0af7651916cd43dd8448eb211c80319c --all --json"
)]
pub struct Trace {
    /// The trace's id, 32 hex digits.
    #[arg(value_name = "TRACE_ID")]
    pub id: String,
    #[command(flatten)]
    pub client: Client,
    /// Show every span instead of summing up repeated ones.
    #[arg(long)]
    pub all: bool,
    /// Show the attributes and events of each span.
    #[arg(long)]
    pub attributes: bool,
}

/// Children of one name shown below one span before the others are summed up.
const SHOWN: usize = 3;
/// Width of the bars, in characters, and of the column of durations.
const DURATION: usize = 8;

pub async fn run(arguments: Trace) -> Result<(), Fault> {
    let trace: TraceDetail = Api::new(&arguments.client)?
        .get(&format!("/traces/{}", segment(&arguments.id)), &[])
        .await?;
    if arguments.client.json {
        return json(&trace);
    }
    if let Some(failed) = &trace.failed_first {
        line(printable(failed))?;
    }
    line(printable(&trace.sentence))?;
    line(format!(
        "{} over {}, {}, {}",
        counted(whole(trace.spans.len()), "span", "spans"),
        printable(&trace.services.join(", ")),
        time(trace.started_at),
        kept(&trace)
    ))?;
    for repeated in &trace.repeated {
        let total = in_words(nanos(repeated.total_ms));
        line(printable(&format!(
            "{} ran {} {} times below one span: {total}",
            repeated.service, repeated.statement, repeated.count
        )))?;
    }
    if trace.missing > 0 {
        line(format!(
            "{} never came: what is below them may hang elsewhere.",
            counted(whole(trace.missing), "span", "spans")
        ))?;
    }
    if trace.moved > 0 {
        line(format!(
            "{} moved into the call that caused them: clocks differ.",
            counted(whole(trace.moved), "span was", "spans were")
        ))?;
    }
    if trace.is_cut {
        line("There are more spans than are shown.")?;
    }
    line("")?;
    tree(&trace, &arguments)?;
    failures(&trace)
}

fn whole(number: usize) -> i64 {
    i64::try_from(number).unwrap_or(i64::MAX)
}

#[expect(clippy::cast_possible_truncation, reason = "durations of requests")]
fn nanos(millis: f64) -> i64 {
    (millis * 1e6) as i64
}

fn kept(trace: &TraceDetail) -> String {
    match (trace.kept_because.join(" and "), trace.is_kept) {
        (why, _) if why.is_empty() => "goes within the hour".to_owned(),
        (why, true) => format!("kept: {why}"),
        (why, false) => format!("will be kept: {why}"),
    }
}

fn tree(trace: &TraceDetail, arguments: &Trace) -> Result<(), Fault> {
    let mut hidden = left_out(&trace.spans);
    if arguments.all {
        hidden.clear();
    }
    let width = usize::from(width());
    let bars = (width / 3).clamp(12, 60);
    let names = width.saturating_sub(bars + DURATION + 4).max(20);
    let mut skipped_below: Option<usize> = None;
    for (at, span) in trace.spans.iter().enumerate() {
        if skipped_below.is_some_and(|depth| span.depth > depth) {
            continue;
        }
        skipped_below = None;
        match hidden.get(&at) {
            Some(None) => skipped_below = Some(span.depth),
            Some(Some((count, millis))) => {
                skipped_below = Some(span.depth);
                let text = format!(
                    "{}… {count} more {}, {} together",
                    "  ".repeat(span.depth),
                    span.name,
                    in_words(nanos(*millis))
                );
                line(printable(&text))?;
            }
            None => {
                line(row(trace, span, names, bars))?;
                if arguments.attributes {
                    said(span, width)?;
                }
            }
        }
    }
    Ok(())
}

/// What a span says, below its row: its attributes and its events.
fn said(span: &SpanItem, width: usize) -> Result<(), Fault> {
    let indent = "  ".repeat(span.depth.min(20) + 2);
    let pairs = |of: &serde_json::Value, indent: &str| -> Result<(), Fault> {
        for (name, value) in of.as_object().into_iter().flatten() {
            let value = value.as_str().map_or_else(|| value.to_string(), str::to_owned);
            line(fitted(
                &printable(&format!("{indent}{name} = {value}").replace('\n', "⏎ ")),
                width,
            ))?;
        }
        Ok(())
    };
    pairs(&span.attributes, &indent)?;
    for event in &span.events {
        line(printable(&format!(
            "{indent}{} after {}",
            event.name,
            in_words(nanos(event.offset_ms - span.offset_ms))
        )))?;
        pairs(&event.attributes, &format!("{indent}  "))?;
    }
    Ok(())
}

/// As much of a text as is so wide, with an ellipsis where it was cut.
fn fitted(text: &str, width: usize) -> String {
    if text.chars().count() > width {
        text.chars().take(width.saturating_sub(1)).chain(['…']).collect()
    } else {
        text.to_owned()
    }
}

type Sum = Option<(usize, f64)>;

/// Spans that are summed up: the first of them with how many there are and how long they took together, the others with
/// nothing. What failed is always shown.
fn left_out(spans: &[SpanItem]) -> HashMap<usize, Sum> {
    let mut alike: HashMap<(&Option<String>, &str, &str), Vec<usize>> = HashMap::new();
    for (at, span) in spans
        .iter()
        .enumerate()
        .filter(|(_, span)| span.parent_id.is_some() && span.status == "ok" && span.occurrences.is_empty())
    {
        alike
            .entry((&span.parent_id, &span.service, &span.name))
            .or_default()
            .push(at);
    }
    let mut hidden = HashMap::new();
    for places in alike.into_values().filter(|places| places.len() > SHOWN + 1) {
        let rest = &places[SHOWN..];
        let total = rest.iter().map(|at| spans[*at].duration_ms).sum();
        for (number, at) in rest.iter().enumerate() {
            hidden.insert(*at, (number == 0).then_some((rest.len(), total)));
        }
    }
    hidden
}

fn row(trace: &TraceDetail, span: &SpanItem, names: usize, bars: usize) -> String {
    let mark = if span.status == "error" { "✗ " } else { "" };
    let name = printable(&format!(
        "{}{mark}{} {}",
        "  ".repeat(span.depth.min(20)),
        span.service,
        span.name
    ));
    let name = fitted(&name, names);
    format!(
        "{name:<names$} {:>DURATION$}  {}",
        in_words(nanos(span.duration_ms)),
        bar(trace, span, bars)
    )
    .trim_end()
    .to_owned()
}

/// Where the span lies in the whole: full where the request was waiting for it or what it called, light where not.
#[expect(
    clippy::cast_possible_truncation,
    clippy::cast_sign_loss,
    clippy::cast_precision_loss,
    reason = "columns of a terminal"
)]
fn bar(trace: &TraceDetail, span: &SpanItem, bars: usize) -> String {
    let scale = bars as f64 / trace.duration_ms.max(0.001);
    let from = ((span.offset_ms * scale) as usize).min(bars - 1);
    let length = ((span.duration_ms * scale).round() as usize).clamp(1, bars - from);
    let sign = match (span.is_missing, span.on_critical_path) {
        (true, _) => "·",
        (false, true) => "█",
        (false, false) => "░",
    };
    format!("{}{}", " ".repeat(from), sign.repeat(length))
}

fn failures(trace: &TraceDetail) -> Result<(), Fault> {
    let by_id: HashMap<&str, &SpanItem> = trace.spans.iter().map(|span| (span.span_id.as_str(), span)).collect();
    let failed: Vec<_> = trace
        .spans
        .iter()
        .flat_map(|span| span.occurrences.iter().map(move |occurrence| (span, occurrence)))
        .collect();
    if failed.is_empty() {
        return line("\n█ the request was waiting for it   ░ it was not");
    }
    line("\n█ the request was waiting for it   ░ it was not   ✗ failed\n")?;
    for (span, occurrence) in failed {
        let origin = span.origin_span_id.as_deref().and_then(|id| by_id.get(id));
        let began = origin
            .map(|origin| format!(", began in {}", origin.service))
            .unwrap_or_default();
        line(printable(&format!(
            "✗ {} {}: {}{began}",
            occurrence.reference, span.service, occurrence.title
        )))?;
    }
    Ok(())
}
