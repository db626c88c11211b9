//! Why an error is there: the evidence in order, in plain sentences.

use outcrop_core::deploy::FlagKind;
use std::collections::HashMap;

use chrono::{DateTime, TimeDelta, Utc};
use outcrop_api::{TouchItem, Why, WhySentence};
use outcrop_core::Reference;
use outcrop_core::attention::percent;
use outcrop_core::stands_out::Finding;
use outcrop_store::deploys::markers::Marker;
use outcrop_store::deploys::{changes, facts, markers};
use outcrop_store::errors::Summary;
use outcrop_store::flags::Flag;
use outcrop_store::occurrences::stands_out;
use outcrop_store::people::settings;
use outcrop_store::traces::Tie;
use outcrop_store::{Database, Scope, StoreError, asking, deploys, flags, ids, occurrences, traces};

use crate::answers::load::stood_high;
use crate::answers::next_steps::{Evidence, next_steps};
use crate::answers::sentences::ratio;
use crate::answers::touches::{owners, touches};

/// How much of the past is looked at where nothing was said of the error.
pub(crate) const WINDOW: TimeDelta = TimeDelta::days(7);

/// How long before a surge a marked change may have begun to be named.
pub(crate) const MARKED: TimeDelta = TimeDelta::hours(2);

/// How far apart errors may begin to be said to have risen together.
pub(crate) const TOGETHER: TimeDelta = TimeDelta::minutes(15);

/// Findings and errors named at most.
pub(crate) const NAMED: usize = 3;

/// How long a flag is left alone after it rose: where its failures began is found some seconds after they were stored.
pub(crate) const SETTLES: TimeDelta = TimeDelta::seconds(12);

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

pub(crate) async fn why(
    database: &Database,
    reference: Reference,
    now: DateTime<Utc>,
) -> Result<Option<Why>, StoreError> {
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
    let flag = flags::flags(database, Some(&[number]), (week.from, week.to))
        .await?
        .remove(&number)
        .and_then(|flags| flags.into_iter().next());
    let from = flag
        .as_ref()
        .map_or(week.from, |flag| flag.since - TimeDelta::minutes(1));
    let scope = Scope { from, ..week };
    let version = flag
        .as_ref()
        .filter(|flag| flag.is_since_deploy())
        .map(|flag| flag.version.clone());
    let mut sentences: Vec<WhySentence> = vec![];
    if let Some(flag) = &flag {
        sentences.push(said("beginning", beginning(database, flag, &summary).await?));
        sentences.extend(marked(database, flag).await?);
        sentences.extend(
            stood_high(database, flag)
                .await?
                .into_iter()
                .map(|text| said("load", text)),
        );
    }
    let (begins_in, followed_by) = traces::ties(database, number, scope.from, scope.to).await?;
    sentences.extend(origin(&begins_in, summary.count));
    // Requests of a whole day: those since it began are too much of the error itself.
    let day = Scope {
        from: now - TimeDelta::days(1),
        ..scope.clone()
    };
    let common = stands_out::of_error(database, reference, &day).await?;
    let telling: Vec<&Finding> = (common.findings.iter())
        .filter(|finding| finding.name != "version" && finding.name != "service.version")
        .collect();
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
pub(crate) const LEAST_HISTORY: TimeDelta = TimeDelta::days(1);

/// That history does not reach back far enough for what is said of it, where it does not.
pub(crate) async fn history(
    database: &Database,
    flag: Option<&Flag>,
    summary: &Summary,
) -> Result<Option<String>, StoreError> {
    if flag.is_some_and(|flag| flag.kind != FlagKind::New) {
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
            format!("{} before it", in_time(known))
        };
        format!(
            "History does not reach far: the first telemetry of {} came {before}, at {}. What was never seen may be \
             old.",
            summary.service,
            known_since.format("%H:%M UTC on %-d %B")
        )
    }))
}

pub(crate) fn in_time(length: TimeDelta) -> String {
    if length < TimeDelta::hours(2) {
        format!("{} min", length.num_minutes())
    } else {
        format!("{} h", length.num_hours())
    }
}

/// Whether another version runs beside the one that a flag is charged to.
pub(crate) async fn runs_beside(
    database: &Database,
    flag: Option<&Flag>,
    now: DateTime<Utc>,
) -> Result<bool, StoreError> {
    let Some(flag) = flag.filter(|flag| flag.is_since_deploy()) else {
        return Ok(false);
    };
    facts::runs_beside(database, (&flag.service, &flag.environment, &flag.version), now).await
}

pub(crate) fn said(kind: &str, text: String) -> WhySentence {
    WhySentence {
        kind: kind.to_owned(),
        text,
        reference: None,
    }
}

/// Which deploy it began with and how sure that is, or that none stands there.
pub(crate) async fn beginning(database: &Database, flag: &Flag, summary: &Summary) -> Result<String, StoreError> {
    let at = flag.since.format("%H:%M UTC on %-d %B");
    let named = format!("{} {}", flag.service, flag.version);
    let deploy = deploys::of_version(database, &flag.service, &flag.version, &flag.environment).await?;
    let after = deploy
        .as_ref()
        .map(|deploy| (flag.since - deploy.at).num_minutes().max(0));
    Ok(match (flag.kind, after) {
        (FlagKind::New, Some(minutes)) if minutes <= 60 => {
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
        (FlagKind::New, _) => format!(
            "It was never seen in {} before {at}; {named} had been running for a while, so that the deploy alone does \
             not explain it.",
            flag.environment
        ),
        (FlagKind::Returned, _) => format!("It had been settled and is back since {at}, in {named}."),
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
pub(crate) fn odds(nats: f64) -> String {
    let times = nats.exp();
    if times >= 1e6 {
        "more than a million minutes".to_owned()
    } else {
        format!("{} such looks", times.round() as u64)
    }
}

/// Marked changes shortly before it began.
pub(crate) async fn marked(database: &Database, flag: &Flag) -> Result<Vec<WhySentence>, StoreError> {
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
pub(crate) fn origin(ties: &[Tie], count: i64) -> Option<WhySentence> {
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

pub(crate) fn in_words(finding: &Finding) -> String {
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
pub(crate) async fn change(
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

pub(crate) fn changed(touch: &TouchItem) -> WhySentence {
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
pub(crate) async fn together(
    database: &Database,
    flag: &Flag,
    tied: &[Tie],
) -> Result<Option<WhySentence>, StoreError> {
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
        .map(|other| format!("{} {} ({})", other.service, other.title, other.kind.word()))
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

pub(crate) fn nothing(summary: &Summary) -> String {
    format!(
        "Nothing that is known explains it: it is neither new nor surging, no change was marked, and its cases have \
         nothing in common that other requests of {} have not.",
        summary.service
    )
}

#[cfg(test)]
mod tests {
    use chrono::Utc;
    use rstest::rstest;

    use super::*;

    fn touch(distance: Option<u32>) -> TouchItem {
        TouchItem {
            commit: "4f1c2d3e4b5a69788796a5b4c3d2e1f001122334".to_owned(),
            summary: "free metres differ by season".to_owned(),
            author: "quay master".to_owned(),
            path: "app/tariff.py".to_owned(),
            line: 92,
            distance,
            reference: "kobal-tirun".to_owned(),
            at: Utc::now(),
            owners: vec![],
        }
    }

    #[rstest]
    #[case::the_line(Some(0), "wrote the very line it fails at, app/tariff.py:92")]
    #[case::beside(Some(1), "changed the line beside the one it fails at, app/tariff.py:92")]
    #[case::near(Some(7), "changed app/tariff.py 7 lines from where it fails (app/tariff.py:92)")]
    #[case::taken_away(None, "took lines away from app/tariff.py, in which it fails at line 92")]
    fn a_commit_is_told_by_how_near_it_came(#[case] distance: Option<u32>, #[case] expected: &str) {
        let told = changed(&touch(distance)).text;
        let begin = "Commit 4f1c2d3e4b by quay master, “free metres differ by season”, ";
        assert_eq!(told, format!("{begin}{expected}."));
    }

    #[rstest]
    #[case::by_chance(0.0, "1 such looks")]
    #[case::rarely(5.0, "148 such looks")]
    #[case::never(40.0, "more than a million minutes")]
    fn evidence_is_told_as_odds(#[case] nats: f64, #[case] expected: &str) {
        assert_eq!(odds(nats), expected);
    }

    #[test]
    fn what_stands_out_is_told_against_what_is_usual() {
        let finding = |share| Finding {
            name: "skerry.season".to_owned(),
            value: "winter".to_owned(),
            count: 40,
            share,
            usual: 0.11,
            ratio_at_least: 5.0,
        };
        assert_eq!(
            in_words(&finding(1.0)),
            "All cases have skerry.season = winter; usually 11 % of the requests do."
        );
        assert!(in_words(&finding(0.5)).starts_with("50 % of the cases have "));
    }

    #[test]
    fn an_origin_is_the_error_in_which_most_began_and_never_more_than_all() {
        let tie = |count| Tie {
            error_id: 7,
            service: "fares".to_owned(),
            title: "KeyError".to_owned(),
            count,
        };
        assert!(origin(&[], 9).is_none());
        let told = origin(&[tie(90), tie(3)], 9).unwrap();
        assert!(
            told.text
                .starts_with("100 % of it follows from fares: KeyError (90 requests failed there first).")
        );
        assert_eq!(told.reference, Some(ids::reference(7).to_string()));
    }

    #[test]
    fn lengths_are_minutes_below_two_hours() {
        assert_eq!(in_time(TimeDelta::minutes(119)), "119 min");
        assert_eq!(in_time(TimeDelta::minutes(120)), "2 h");
    }
}
