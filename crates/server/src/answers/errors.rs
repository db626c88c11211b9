//! A list of errors, and one of them with all that is known of it.

use std::cmp::Reverse;
use std::collections::HashMap;

use chrono::{DateTime, Utc};
use outcrop_api::{
    Attention, ErrorDetail, ErrorItem, ErrorPage, ListPart, MovedCause, NamedError, Period, RequestCounts, Sentence,
    Severity, Sighting, TiedError,
};
use outcrop_core::Reference;
use outcrop_core::deploy::FlagKind;
use outcrop_store::asking::HitEndpoint;
use outcrop_store::errors::{Latest, Summary};
use outcrop_store::flags::Flag;
use outcrop_store::grouping::moved;
use outcrop_store::traces::Tie;
use outcrop_store::traffic::timeline::Steps;
use outcrop_store::{Database, Scope, StoreError, asking, errors, flags, ids, traces};

use super::against::{gone, held_against, then};
use super::headline;
use super::timelines::timelines;
use super::unknown::unknown;

/// What is asked of a list.
pub(crate) struct Asked {
    pub scope: Scope,
    /// The period it is held against.
    pub earlier: Option<Scope>,
    /// In small letters; none: all errors.
    pub words: Vec<String>,
    pub by_part: bool,
    pub limit: usize,
    pub after: Option<Position>,
    /// The most steps of the small timelines.
    pub strip: Option<usize>,
}

/// Where an error stands in a list: what is settled or quiet last, the others by part where that was asked for, then by
/// attention, then by number.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) struct Position {
    part: ListPart,
    score: Reverse<u8>,
    number: u32,
}

impl Position {
    /// As it stands in a cursor.
    pub(crate) fn text(self) -> String {
        format!("{}:{}:{}", self.part as u8, self.score.0, self.number)
    }

    /// `None` where the text is no position.
    pub(crate) fn read(text: &str) -> Option<Self> {
        let mut parts = text.split(':');
        let part = match parts.next()? {
            "0" => ListPart::FromDeploy,
            "1" => ListPart::Rising,
            "2" => ListPart::Known,
            "3" => ListPart::Handled,
            _ => return None,
        };
        let (score, number) = (parts.next()?.parse().ok()?, parts.next()?.parse().ok()?);
        parts.next().is_none().then_some(Self {
            part,
            score: Reverse(score),
            number,
        })
    }
}

struct Ranked {
    position: Position,
    part: ListPart,
    summary: Summary,
    attention: Attention,
}

/// A page of the errors of a scope, and where the next one begins.
pub(crate) async fn page(
    database: &Database,
    asked: Asked,
    now: DateTime<Utc>,
) -> Result<(ErrorPage, Option<Position>), StoreError> {
    let scope = &asked.scope;
    let (summaries, (requests, failed), then) = futures_util::try_join!(
        asking::list_errors(database, scope),
        errors::traffic_of(database, scope),
        then(database, asked.earlier.as_ref())
    )?;
    let period = then.as_ref().map(|(summaries_then, period)| Period {
        gone: gone(&summaries, summaries_then),
        ..period.clone()
    });
    let numbers: Vec<i32> = summaries.iter().map(|summary| ids::number(summary.reference)).collect();
    let origins = traces::main_origins(database, &numbers, scope.from, scope.to).await?;
    let flags = flags::flags(database, &numbers, scope.from, scope.to).await?;
    let mut ranked: Vec<Ranked> = summaries
        .into_iter()
        .filter(|summary| summary.count > 0)
        .map(|summary| {
            let part = part(&summary, flags.get(&ids::number(summary.reference)), now);
            rank(summary, &origins, part, asked.by_part, now)
        })
        .collect();
    ranked.sort_by_key(|error| error.position);
    let total_without_words = total(&ranked);
    let open = ranked.partition_point(|error| error.part != ListPart::Handled);
    let handled = i64::try_from(ranked.len() - open).unwrap_or(i64::MAX);
    let headline = headline(database, ranked.split_at(open), &asked, now).await?;
    if !asked.words.is_empty() {
        let references: Vec<Reference> = ranked.iter().map(|error| error.summary.reference).collect();
        let latest = errors::latest(database, &references).await?;
        ranked.retain(|error| has_words(&error.summary, latest.get(&error.summary.reference), &asked.words));
    }
    let total = total(&ranked);
    let from = asked
        .after
        .map_or(0, |after| ranked.partition_point(|error| error.position <= after));
    let is_more = ranked.len() > from + asked.limit;
    let shown: Vec<Ranked> = ranked.into_iter().skip(from).take(asked.limit).collect();
    let references: Vec<Reference> = shown.iter().map(|error| error.summary.reference).collect();
    let strips = async {
        let Some(most) = asked.strip else {
            return Ok(vec![None; shown.len()]);
        };
        let summaries: Vec<&Summary> = shown.iter().map(|error| &error.summary).collect();
        let steps = Steps::cut_coarsely(scope.from, scope.to, most);
        let strips = timelines(database, &summaries, scope, steps).await?;
        Ok(strips.into_iter().map(Some).collect())
    };
    let (latest, strips) = futures_util::try_join!(errors::latest(database, &references), strips)?;
    let next = shown.last().filter(|_| is_more).map(|error| error.position);
    let items = shown
        .into_iter()
        .zip(strips)
        .map(|(error, strip)| {
            let summary = &error.summary;
            let version_share = strip
                .as_ref()
                .and_then(|strip| headline::version_share(summary, strip, now));
            ErrorItem {
                against: then
                    .as_ref()
                    .map(|(then, _)| held_against(summary, then.get(&summary.reference))),
                flags: words(flags.get(&ids::number(summary.reference))),
                since_deploy: is_since_deploy(flags.get(&ids::number(summary.reference))),
                part: error.part,
                origin: origin_of(summary, &origins),
                version_share,
                sentence: headline::row(summary, version_share, now),
                strip,
                ..item(latest.get(&summary.reference), error.summary, error.attention)
            }
        })
        .collect();
    let note = if total_without_words == 0 {
        unknown(database, scope.predicate.as_deref()).await?
    } else {
        None
    };
    let page = ErrorPage {
        items,
        total,
        total_without_words,
        handled,
        headline,
        traffic: RequestCounts { requests, failed },
        against: period,
        next: None,
        note,
    };
    Ok((page, next))
}

fn total(ranked: &[Ranked]) -> i64 {
    i64::try_from(ranked.len()).unwrap_or(i64::MAX)
}

/// Errors of a version whose share of its requests is looked up for the headline.
const LOOKED_AT: usize = 8;
/// Steps of the timelines that the headline's share is taken from, where the list has none.
const HEADLINE_STEPS: usize = 48;

async fn headline(
    database: &Database,
    (ranked, handled): (&[Ranked], &[Ranked]),
    asked: &Asked,
    now: DateTime<Utc>,
) -> Result<Sentence, StoreError> {
    let young: Vec<&Summary> = ranked
        .iter()
        .map(|error| &error.summary)
        .filter(|summary| summary.uncaught && headline::is_young(summary, now))
        .collect();
    let came: Vec<&Summary> = young
        .iter()
        .copied()
        .filter(|summary| summary.came_with_version)
        .take(LOOKED_AT)
        .collect();
    let steps = asked.strip.unwrap_or(HEADLINE_STEPS);
    let steps = Steps::cut_coarsely(asked.scope.from, asked.scope.to, steps);
    let strips = timelines(database, &came, &asked.scope, steps).await?;
    let came = came
        .into_iter()
        .zip(&strips)
        .find_map(|(summary, strip)| Some((summary, headline::version_share(summary, strip, now)?)));
    let first = ranked.first().map(|error| &error.summary);
    Ok(headline::page(
        came,
        young.first().copied().or(first),
        young.len(),
        (ranked.len(), handled.len()),
        now,
    ))
}

/// Whether all words stand in what is shown of an error.
fn has_words(summary: &Summary, latest: Option<&Latest>, words: &[String]) -> bool {
    let text = [
        summary.title.as_str(),
        &summary.service,
        summary.own_frame.as_deref().unwrap_or_default(),
        &summary.reference.to_string(),
        latest.map_or("", |latest| &latest.message),
        &summary.versions.join(" "),
    ]
    .join("\n")
    .to_lowercase();
    words.iter().all(|word| text.contains(word.as_str()))
}

/// One error of a scope with all that is known of it; `None` where there is none of that reference.
pub(crate) async fn one(
    database: &Database,
    reference: Reference,
    scope: &Scope,
    earlier: Option<&Scope>,
    now: DateTime<Utc>,
) -> Result<Option<ErrorDetail>, StoreError> {
    let Some(summary) = asking::one_error(database, reference, scope).await? else {
        return Ok(None);
    };
    let sightings = errors::sightings(database, reference).await?;
    let latest = errors::latest(database, &[reference]).await?;
    let latest = latest.get(&reference);
    let number = ids::number(reference);
    let origins = traces::main_origins(database, &[number], scope.from, scope.to).await?;
    let (begins_in, followed_by) = traces::ties(database, number, scope.from, scope.to).await?;
    let hit = asking::main_endpoints(database, &summary, scope, ENDPOINTS).await?;
    let of_service = Scope {
        service: Some(summary.service.clone()),
        ..scope.clone()
    };
    let sampling = outcrop_store::sampling::notes(database, &of_service)
        .await?
        .pop()
        .map(|(_, note)| note);
    let has_requests = summary.requests > 0;
    #[expect(clippy::cast_precision_loss, reason = "counts beyond 2^53 do not occur")]
    let count = summary.count as f64 * summary.one_in.unwrap_or(1.0);
    let then = match earlier {
        Some(earlier) => Some(asking::one_error(database, reference, earlier).await?),
        None => None,
    };
    let then = then.map(|then| held_against(&summary, then.as_ref()));
    let Ranked { summary, attention, .. } = rank(summary, &origins, ListPart::Known, false, now);
    let origin = origin_of(&summary, &origins);
    let flagged = flags::flags(database, &[number], scope.from, scope.to)
        .await?
        .remove(&number)
        .unwrap_or_default();
    let moved = moved::of_error(database, reference).await?;
    let may_be = moved::may_be(database, reference, now).await?;
    let withdrawn = flags::withdrawn(database, number, scope.from, scope.to).await?;
    let (flags, part) = (words(Some(&flagged)), part(&summary, Some(&flagged), now));
    let since_deploy = is_since_deploy(Some(&flagged));
    let steps = Steps::cut_coarsely(scope.from, scope.to, HEADLINE_STEPS);
    let strip = timelines(database, &[&summary], scope, steps).await?.pop();
    let version_share = strip.and_then(|strip| headline::version_share(&summary, &strip, now));
    let sentence = headline::row(&summary, version_share, now);
    let lead = headline::of_one(&summary, version_share);
    Ok(Some(ErrorDetail {
        lead,
        flagged: flagged
            .iter()
            .chain(&withdrawn)
            .map(super::flag_items::flag_item)
            .collect(),
        error: ErrorItem {
            flags,
            since_deploy,
            part,
            version_share,
            sentence,
            origin,
            against: then,
            ..item(latest, summary, attention)
        },
        begins_in: begins_in.into_iter().map(tied).collect(),
        followed_by: followed_by.into_iter().map(tied).collect(),
        endpoints: hit.into_iter().map(|row| hit_endpoint(row, count)).collect(),
        sightings: sightings.into_iter().map(sighting).collect(),
        latest_occurrence: latest.map(|latest| latest.occurrence().to_string()),
        sampling: sampling.filter(|_| has_requests),
        moved: moved
            .into_iter()
            .map(|made| MovedCause {
                change: made.id,
                sentence: made.sentence,
                at: made.at,
            })
            .collect(),
        may_be: may_be
            .into_iter()
            .map(|(error, title)| NamedError {
                reference: error.to_string(),
                title,
            })
            .collect(),
    }))
}

/// Endpoints of one error that are named.
const ENDPOINTS: usize = 5;

/// `count`: of the error, by what its occurrences stand for.
fn hit_endpoint(row: HitEndpoint, count: f64) -> outcrop_api::HitEndpoint {
    #[expect(clippy::cast_precision_loss, reason = "counts beyond 2^53 do not occur")]
    let request_share = (row.requests > 0).then(|| (row.share * count / row.requests as f64).min(1.0));
    outcrop_api::HitEndpoint {
        endpoint: row.endpoint,
        share: row.share,
        requests: row.requests,
        request_share,
    }
}

type Origins = HashMap<i32, (i32, i64)>;

/// The error in which at least half of an error's occurrences began.
fn origin_of(summary: &Summary, origins: &Origins) -> Option<String> {
    let (origin, count) = origins.get(&ids::number(summary.reference))?;
    (count * 2 >= summary.count).then(|| ids::reference(*origin).to_string())
}

/// Each kind of flag once, in the order of their weight.
fn words(flags: Option<&Vec<Flag>>) -> Vec<String> {
    let has = |kind: &FlagKind| flags.is_some_and(|flags| flags.iter().any(|flag| flag.kind == *kind));
    [FlagKind::New, FlagKind::Surging, FlagKind::Returned]
        .into_iter()
        .filter(has)
        .map(|kind| kind.word().to_owned())
        .collect()
}

/// Whether a deploy stands at the beginning of a flag: it began with one, or a version brought the error, or brought it
/// back.
fn is_since_deploy(flags: Option<&Vec<Flag>>) -> bool {
    flags.is_some_and(|flags| flags.iter().any(Flag::is_since_deploy))
}

/// Which part of a list an error belongs to.
fn part(summary: &Summary, flags: Option<&Vec<Flag>>, now: DateTime<Utc>) -> ListPart {
    if !summary.handling.is_open(now) {
        ListPart::Handled
    } else if is_since_deploy(flags) {
        ListPart::FromDeploy
    } else if flags.is_some_and(|flags| !flags.is_empty()) {
        ListPart::Rising
    } else {
        ListPart::Known
    }
}

fn tied(tie: Tie) -> TiedError {
    TiedError {
        reference: ids::reference(tie.error_id).to_string(),
        service: tie.service,
        title: tie.title,
        count: tie.count,
    }
}

fn rank(summary: Summary, origins: &Origins, part: ListPart, by_part: bool, now: DateTime<Utc>) -> Ranked {
    let mut weighed = summary.attention(now);
    if let Some(origin) = origin_of(&summary, origins) {
        weighed.score = outcrop_core::attention::of_echo(weighed.score);
        weighed.reasons.push(format!("follows from {origin}"));
    }
    Ranked {
        position: Position {
            part: match part {
                ListPart::Handled => part,
                _ if by_part => part,
                _ => ListPart::Known,
            },
            score: Reverse(weighed.score),
            number: summary.reference.number(),
        },
        part,
        attention: Attention {
            score: weighed.score,
            reasons: weighed.reasons,
        },
        summary,
    }
}

fn item(latest: Option<&Latest>, summary: Summary, attention: Attention) -> ErrorItem {
    ErrorItem {
        reference: summary.reference.to_string(),
        request_share: summary.request_share(),
        kind: summary.kind().map(str::to_owned),
        namespace: summary.namespace,
        service: summary.service,
        environments: summary.environments,
        type_name: summary.type_name,
        message: latest.map(|latest| latest.message.clone()),
        title: summary.title,
        own_frame: summary.own_frame,
        severity: Severity::of_number(summary.severity),
        uncaught: summary.uncaught,
        count: summary.count,
        users: summary.users,
        first_seen: summary.first_seen,
        last_seen: summary.last_seen,
        first_version: summary.first_version,
        came_with_version: summary.came_with_version,
        versions: summary.versions,
        quiet_until: summary.handling.quiet_in_words(Utc::now()),
        settled_from: summary.handling.settled_from(),
        taken_by: summary.handling.taken_by,
        settled_in: summary.handling.settled_in.filter(|version| !version.is_empty()),
        settled_by: summary.handling.settled_by,
        flags: vec![],
        since_deploy: false,
        part: ListPart::Known,
        version_share: None,
        sentence: Sentence {
            lead: String::new(),
            text: String::new(),
            since: None,
            rest: String::new(),
        },
        attention,
        origin: None,
        strip: None,
        against: None,
    }
}

fn sighting(row: errors::Sighting) -> Sighting {
    Sighting {
        environment: row.environment,
        version: row.version,
        count: row.count,
        uncaught: row.uncaught,
        first_seen: row.first_seen,
        last_seen: row.last_seen,
    }
}
