//! Why an error is there: the evidence in order, in plain sentences.

use std::collections::HashMap;

use actix_web::{get, web};
use chrono::{DateTime, TimeDelta, Utc};
use outcrop_core::Reference;
use outcrop_core::attention::percent;
use outcrop_core::query;
use outcrop_core::stands_out::Finding;
use outcrop_store::deploys::markers::Marker;
use outcrop_store::deploys::{changes, facts, markers};
use outcrop_store::errors::Summary;
use outcrop_store::flags::Flag;
use outcrop_store::occurrences::stands_out;
use outcrop_store::people::settings;
use outcrop_store::traces::Tie;
use outcrop_store::{Database, StoreError, occurrences, traces};
use outcrop_store::{Scope, asking, ids};
use outcrop_store::{deploys, flags};

use super::deploy_detail::{owners, touches};
use super::query::error_of;
use super::viewer::Viewer;
use crate::answers::deploy_check::ratio;
use crate::api_error::ApiError;
use crate::state::State;
use crate::wire::{NextStep, Problem, TouchItem, Why, WhySentence};

/// How much of the past is looked at where nothing was said of the error.
const WINDOW: TimeDelta = TimeDelta::days(7);
/// How long before a surge a marked change may have begun to be named.
const MARKED: TimeDelta = TimeDelta::hours(2);
/// How far apart errors may begin to be said to have risen together.
const TOGETHER: TimeDelta = TimeDelta::minutes(15);
/// Findings and errors named at most.
const NAMED: usize = 3;

/// Why an error is there.
#[utoipa::path(operation_id = "explain_why", tag = "errors", params(("ref" = String, Path, description = "The error's \
    reference")), responses(
    (status = 200, body = Why),
    (status = 404, body = Problem, content_type = "application/problem+json"),
))]
#[get("/errors/{ref}/why")]
pub(super) async fn explain_why(
    _viewer: Viewer,
    path: web::Path<String>,
    state: web::Data<State>,
) -> Result<web::Json<Why>, ApiError> {
    let reference = error_of(&state, &path).await?;
    let database = state.database.clone();
    let why = state
        .on_main(async move { why(&database, reference, Utc::now()).await })
        .await?;
    why.map(web::Json)
        .ok_or_else(|| ApiError::NotFound(format!("there is no error {reference}")))
}

/// How long a flag is left alone after it rose: where its failures began is found some seconds after they were stored.
const SETTLES: TimeDelta = TimeDelta::seconds(12);

/// Works out why errors were flagged that rose just now, so that whoever is told of them is told
/// that too. `risen`: since when each flag is known to wait.
pub(crate) async fn explain_flags(
    database: &Database,
    now: DateTime<Utc>,
    risen: &mut HashMap<i64, DateTime<Utc>>,
) -> Result<(), StoreError> {
    let flags = flags::unexplained(database, now).await?;
    risen.retain(|flag, _| flags.iter().any(|(waiting, _)| waiting == flag));
    for (flag, error) in &flags {
        if now - *risen.entry(*flag).or_insert(now) < SETTLES {
            continue;
        }
        let sentences = why(database, ids::reference(*error), now)
            .await?
            .map(|why| why.sentences)
            .unwrap_or_default();
        let texts: Vec<String> = sentences.into_iter().map(|sentence| sentence.text).collect();
        flags::explain(database, *flag, &texts).await?;
    }
    Ok(())
}

async fn why(database: &Database, reference: Reference, now: DateTime<Utc>) -> Result<Option<Why>, StoreError> {
    let number = ids::number(reference);
    let week = Scope {
        service: None,
        environment: None,
        version: None,
        from: now - WINDOW,
        to: now,
        predicate: None,
    };
    let Some(summary) = asking::one_error(database, reference, &week).await? else {
        return Ok(None);
    };
    let flag = flags::flags(database, &[number], week.from, week.to)
        .await?
        .remove(&number)
        .and_then(|flags| flags.into_iter().next());
    let from = flag
        .as_ref()
        .map_or(week.from, |flag| flag.since - TimeDelta::minutes(1));
    let scope = Scope { from, ..week };
    let version = flag
        .as_ref()
        .filter(|flag| flag.by_deploy || flag.kind != "surging")
        .map(|flag| flag.version.clone());
    let mut sentences: Vec<WhySentence> = vec![];
    if let Some(flag) = &flag {
        sentences.push(said("beginning", beginning(database, flag, &summary).await?));
        sentences.extend(marked(database, flag).await?);
    }
    let (begins_in, followed_by) = traces::ties(database, number, scope.from, scope.to).await?;
    sentences.extend(origin(&begins_in, summary.count));
    // Requests of a whole day: those since it began are too much of the error itself.
    let day = Scope {
        from: now - TimeDelta::days(1),
        ..scope.clone()
    };
    let common = stands_out::of_error(database, reference, &day).await?;
    let telling = common
        .findings
        .iter()
        .filter(|finding| finding.name != "version" && finding.name != "service.version");
    let telling: Vec<&Finding> = telling.collect();
    let telling_first = telling.first().copied();
    sentences.extend(
        telling
            .into_iter()
            .take(NAMED)
            .map(|finding| said("stands out", in_words(finding))),
    );
    let (touched, owned) = change(database, &summary, version.as_deref()).await?;
    sentences.extend(touched.first().map(changed));
    if let Some(flag) = &flag {
        sentences.extend(together(database, flag, &[begins_in, followed_by].concat()).await?);
    }
    if let Some(known) = history(database, flag.as_ref(), &summary).await? {
        sentences.push(said("history", known));
    }
    let is_explained = sentences.iter().any(|sentence| sentence.kind != "history");
    if !is_explained {
        sentences.insert(0, said("nothing", nothing(&summary)));
    }
    let evidence = Evidence {
        reference: &reference.to_string(),
        service: &summary.service,
        flag: flag.as_ref(),
        origin: sentences
            .iter()
            .find(|sentence| sentence.kind == "origin")
            .and_then(|sentence| sentence.reference.as_deref()),
        finding: telling_first,
        touch: touched.first(),
        runs_beside: runs_beside(database, flag.as_ref(), now).await?,
        is_explained,
    };
    let steps = next_steps(&evidence);
    Ok(Some(Why {
        reference: reference.to_string(),
        version,
        sentences,
        touches: touched,
        owners: owned,
        steps,
    }))
}

/// How long a service must have been known before its past says much of an error.
const LEAST_HISTORY: TimeDelta = TimeDelta::days(1);

/// That history does not reach back far enough for what is said of it, where it does not.
async fn history(database: &Database, flag: Option<&Flag>, summary: &Summary) -> Result<Option<String>, StoreError> {
    if flag.is_some_and(|flag| flag.kind != "new") {
        return Ok(None);
    }
    let (since, environment) = flag.map_or((summary.first_seen, None), |flag| {
        (flag.since, Some(flag.environment.as_str()))
    });
    let Some(known_since) = facts::known_since(database, &summary.service, environment).await? else {
        return Ok(None);
    };
    let known = since - known_since;
    Ok((known < LEAST_HISTORY).then(|| {
        let before = if known < TimeDelta::minutes(1) {
            "the very minute".to_owned()
        } else {
            format!(
                "{} before \
            it",
                in_time(known)
            )
        };
        format!(
            "History does not reach far: the first telemetry of {} came {before}, at {}. What was never seen may be \
             old.",
            summary.service,
            known_since.format("%H:%M UTC on %-d %B")
        )
    }))
}

fn in_time(length: TimeDelta) -> String {
    if length < TimeDelta::hours(2) {
        format!("{} min", length.num_minutes())
    } else {
        format!("{} h", length.num_hours())
    }
}

/// Whether another version runs beside the one that a flag is charged to.
async fn runs_beside(database: &Database, flag: Option<&Flag>, now: DateTime<Utc>) -> Result<bool, StoreError> {
    let Some(flag) = flag.filter(|flag| flag.by_deploy || flag.kind != "surging") else {
        return Ok(false);
    };
    facts::runs_beside(database, (&flag.service, &flag.environment, &flag.version), now).await
}

/// What is known of an error, as far as a next step follows from it.
struct Evidence<'a> {
    reference: &'a str,
    service: &'a str,
    flag: Option<&'a Flag>,
    origin: Option<&'a str>,
    finding: Option<&'a Finding>,
    touch: Option<&'a TouchItem>,
    runs_beside: bool,
    is_explained: bool,
}

/// Steps named at most.
const STEPS: usize = 4;

/// What to do next: where it began elsewhere that comes first, then the change that touches it,
/// then what narrows it down.
fn next_steps(evidence: &Evidence<'_>) -> Vec<NextStep> {
    let reference = evidence.reference;
    let step = |text: String, command: Option<String>, link: Option<String>| NextStep { text, command, link };
    let mut steps = vec![];
    if let Some(origin) = evidence.origin {
        let text = "Look at where these requests failed first.".to_owned();
        steps.push(step(
            text,
            Some(format!("outcrop why {origin}")),
            Some(format!("/errors/{origin}")),
        ));
    }
    if let Some(touch) = evidence.touch {
        let id = touch.commit.get(..10).unwrap_or(&touch.commit);
        steps.push(step(
            format!("Open commit {id} of {}.", touch.author),
            Some(format!("git show {id}")),
            None,
        ));
    }
    if let Some(flag) = evidence.flag.filter(|flag| flag.by_deploy || flag.kind != "surging") {
        let release = format!("{}@{}", flag.service, flag.version);
        let link = Some(format!(
            "/deploys/{}/{}?environment={}",
            flag.service, flag.version, flag.environment
        ));
        let (text, command) = if evidence.runs_beside {
            (
                format!(
                    "Compare {} {} with the version that runs beside it.",
                    flag.service, flag.version
                ),
                "show",
            )
        } else {
            (
                format!("See what else came with {} {}.", flag.service, flag.version),
                "check",
            )
        };
        steps.push(step(
            text,
            Some(format!(
                "outcrop deploy {command} {release} --environment {}",
                flag.environment
            )),
            link,
        ));
    }
    if let Some(finding) = evidence.finding
        && query::parse(&format!("{} is set", finding.name)).is_ok()
    {
        let predicate = format!("{} = {}", finding.name, query::quoted(&finding.value));
        let text = format!("Look at a case with {} = {}.", finding.name, finding.value);
        steps.push(step(
            text,
            Some(format!(
                "outcrop occurrences {reference} --where '{}'",
                predicate.replace('\'', "'\\''")
            )),
            None,
        ));
    }
    if !evidence.is_explained {
        let text = "Widen the window: what it has in common may show over more cases.".to_owned();
        steps.push(step(
            text,
            Some(format!("outcrop show {reference} --since 30d")),
            Some(format!("/errors/{reference}?since=30d")),
        ));
        let text = format!("Look at the logs of {} around its latest case.", evidence.service);
        steps.push(step(
            text,
            Some(format!("outcrop logs --error {reference}")),
            Some(format!("/traffic?view=logs&service={}", evidence.service)),
        ));
    }
    steps.truncate(STEPS);
    steps
}

fn said(kind: &str, text: String) -> WhySentence {
    WhySentence {
        kind: kind.to_owned(),
        text,
        reference: None,
    }
}

/// Which deploy it began with and how sure that is, or that none stands there.
async fn beginning(database: &Database, flag: &Flag, summary: &Summary) -> Result<String, StoreError> {
    let at = flag.since.format("%H:%M UTC on %-d %B");
    let named = format!("{} {}", flag.service, flag.version);
    let deploy = deploys::of_version(database, &flag.service, &flag.version, &flag.environment).await?;
    let after = deploy
        .as_ref()
        .map(|deploy| (flag.since - deploy.at).num_minutes().max(0));
    Ok(match (flag.kind.as_str(), after) {
        ("new", Some(minutes)) if minutes <= 60 => {
            let after = if minutes == 0 {
                "in the minute in which".to_owned()
            } else {
                format!("{minutes} min after")
            };
            format!(
                "It began with {named}: never seen in {} before, first at {at}, {after} that version was deployed.",
                flag.environment
            )
        }
        ("new", _) => format!(
            "It was never seen in {} before {at}; {named} had been running for a while, so that the deploy alone does \
             not explain it.",
            flag.environment
        ),
        ("returned", _) => format!("It had been settled and is back since {at}, in {named}."),
        (_, _) if flag.by_deploy => format!(
            "It began with {named}: {} since {at} where {:.1} were to be expected; by chance that comes once in {}.",
            flag.count,
            flag.expected,
            odds(flag.evidence)
        ),
        _ => format!(
            "It rose at {at} without a deploy of {}: {} where {:.1} were to be expected; by chance that comes once in \
             {}.",
            summary.service,
            flag.count,
            flag.expected,
            odds(flag.evidence)
        ),
    })
}

/// Evidence in nats as odds in words; past a million nobody counts.
#[expect(
    clippy::cast_possible_truncation,
    clippy::cast_sign_loss,
    reason = "held below a million"
)]
fn odds(nats: f64) -> String {
    let times = nats.exp();
    if times >= 1e6 {
        "more than a million minutes".to_owned()
    } else {
        format!("{} such looks", times.round() as u64)
    }
}

/// Marked changes shortly before it began.
async fn marked(database: &Database, flag: &Flag) -> Result<Vec<WhySentence>, StoreError> {
    let place = (Some(flag.service.as_str()), Some(flag.environment.as_str()));
    let found = markers::list(database, place, (flag.since - MARKED, flag.said_at), 5).await?;
    let words = |marker: Marker| {
        // The beginning of a surge is known to the quarter of an hour.
        let minutes = (flag.since - marker.at).num_minutes();
        let when = if minutes > 15 {
            format!("{minutes} min before it")
        } else {
            format!("At about that time ({})", marker.at.format("%H:%M"))
        };
        said(
            "change",
            format!(
                "{when}, “{}” was marked ({}, by {}).",
                marker.title, marker.kind, marker.by
            ),
        )
    };
    Ok(found.into_iter().map(words).collect())
}

/// Where the failing requests failed first, in another service.
fn origin(ties: &[Tie], count: i64) -> Option<WhySentence> {
    let most = ties.first()?;
    let share = percent(ratio(most.count.min(count), count.max(1)));
    let reference = Some(ids::reference(most.error_id).to_string());
    Some(WhySentence {
        kind: "origin".to_owned(),
        text: format!(
            "{share} of it follows from {}: {} ({} requests failed there first).",
            most.service, most.title, most.count
        ),
        reference,
    })
}

fn in_words(finding: &Finding) -> String {
    let share = if finding.share >= 0.995 {
        "All cases have".to_owned()
    } else {
        format!("{} of the cases have", percent(finding.share))
    };
    format!(
        "{share} {} = {}; usually {} of the requests do.",
        finding.name,
        finding.value,
        percent(finding.usual)
    )
}

/// Commits near its frames, and who owns the files of its own frames.
async fn change(
    database: &Database,
    summary: &Summary,
    version: Option<&str>,
) -> Result<(Vec<TouchItem>, Vec<String>), StoreError> {
    let version = version.unwrap_or(&summary.first_version);
    let Some(brought) = changes::of_version(database, &summary.service, version).await? else {
        return Ok((vec![], vec![]));
    };
    let touched = touches(database, &summary.service, summary.reference, &brought).await?;
    let root = settings::of_service(database, &summary.service)
        .await?
        .source_root
        .unwrap_or_default();
    let stack = occurrences::latest_stack(database, summary.reference).await?;
    let path = stack.as_ref().and_then(|stack| stack.own_frame()).and_then(|frame| {
        outcrop_core::source_link::repository_path(frame, &root)
            .or_else(|| touched.first().map(|touch| touch.path.clone()))
    });
    Ok((
        touched,
        path.map(|path| owners(&brought.owners, &path)).unwrap_or_default(),
    ))
}

fn changed(touch: &TouchItem) -> WhySentence {
    let id = touch.commit.get(..10).unwrap_or(&touch.commit);
    let place = match touch.distance {
        Some(0) => format!("wrote the very line it fails at, {}:{}", touch.path, touch.line),
        Some(1) => format!(
            "changed the line beside the one it fails at, {}:{}",
            touch.path, touch.line
        ),
        Some(lines) => format!(
            "changed {} {lines} lines from where it fails ({}:{})",
            touch.path, touch.path, touch.line
        ),
        None => format!(
            "took lines away from {}, in which it fails at line {}",
            touch.path, touch.line
        ),
    };
    said(
        "change",
        format!("Commit {id} by {}, “{}”, {place}.", touch.author, touch.summary),
    )
}

/// Other errors that rose at the same time in the same environment and are neither its origin nor its echoes.
async fn together(database: &Database, flag: &Flag, tied: &[Tie]) -> Result<Option<WhySentence>, StoreError> {
    let found = flags::said_around(
        database,
        &flag.environment,
        (flag.since - TOGETHER, flag.since + TOGETHER),
    )
    .await?;
    let others: Vec<&Flag> = found
        .iter()
        .filter(|other| other.error_id != flag.error_id && tied.iter().all(|tie| tie.error_id != other.error_id))
        .collect();
    let Some(first) = others.first() else { return Ok(None) };
    let named: Vec<String> = others
        .iter()
        .take(NAMED)
        .map(|other| format!("{} {} ({})", other.service, other.title, other.kind))
        .collect();
    let more = if others.len() > NAMED {
        format!(" and {} more", others.len() - NAMED)
    } else {
        String::new()
    };
    Ok(Some(WhySentence {
        kind: "together".to_owned(),
        text: format!("Within a quarter of an hour of it rose: {}{more}.", named.join(", ")),
        reference: Some(ids::reference(first.error_id).to_string()),
    }))
}

fn nothing(summary: &Summary) -> String {
    format!(
        "Nothing that is known explains it: it is neither new nor surging, no change was marked, and its cases have \
         nothing in common that other requests of {} have not.",
        summary.service
    )
}

#[cfg(test)]
mod tests {
    use super::*;

    fn evidence<'a>(origin: Option<&'a str>, finding: Option<&'a Finding>) -> Evidence<'a> {
        let is_explained = origin.is_some() || finding.is_some();
        Evidence {
            reference: "kobal-tirun",
            service: "fares",
            flag: None,
            origin,
            finding,
            touch: None,
            runs_beside: false,
            is_explained,
        }
    }

    fn commands(steps: &[NextStep]) -> Vec<&str> {
        steps.iter().filter_map(|step| step.command.as_deref()).collect()
    }

    #[test]
    fn next_steps_follow_from_the_evidence() {
        let finding = Finding {
            name: "skerry.season".to_owned(),
            value: "winter's end".to_owned(),
            count: 40,
            share: 1.0,
            usual: 0.1,
            ratio_at_least: 8.0,
        };
        let steps = next_steps(&evidence(Some("dasup-nivel"), Some(&finding)));
        let expected = [
            "outcrop why dasup-nivel",
            r#"outcrop occurrences kobal-tirun --where 'skerry.season = "winter'\''s end"'"#,
        ];
        assert_eq!(commands(&steps), expected);
        // A part of the time is no attribute that can be asked for.
        let time = Finding {
            name: "minute of the hour".to_owned(),
            ..finding
        };
        assert_eq!(commands(&next_steps(&evidence(None, Some(&time)))), Vec::<&str>::new());
    }

    #[test]
    fn where_nothing_explains_it_the_window_is_widened() {
        let steps = next_steps(&evidence(None, None));
        assert_eq!(
            commands(&steps),
            [
                "outcrop show kobal-tirun --since 30d",
                "outcrop logs --error kobal-tirun"
            ]
        );
    }
}
