//! The list of errors, and one of them.

use std::cmp::Reverse;
use std::collections::HashMap;

use actix_web::{HttpRequest, get, web};
use chrono::{DateTime, Utc};
use outcrop_api::{
    Attention, ErrorDetail, ErrorItem, ErrorPage, ErrorQuery, MovedCause, NamedError, Period, Problem, RequestCounts,
    Severity, Sighting, Then, TiedError,
};
use outcrop_core::Reference;
use outcrop_core::deploy::{Change, FlagKind, Side, changes};
use outcrop_store::asking::HitEndpoint;
use outcrop_store::errors::{Latest, Summary};
use outcrop_store::flags::Flag;
use outcrop_store::grouping::moved;
use outcrop_store::traces::Tie;
use outcrop_store::{Database, Scope, StoreError, asking, errors, flags, ids, traces};

use super::query::{against, cursor, error_of, limit, read_cursor, scope, unknown};
use super::viewer::Viewer;
use crate::api_error::ApiError;
use crate::routes::parameters::{bad, parameters};
use crate::state::State;

/// Lists the errors that occurred in a window, those that matter most first.
#[utoipa::path(operation_id = "list_errors", tag = "errors", params(ErrorQuery), responses(
    (status = 200, body = ErrorPage),
    (status = 400, body = Problem, content_type = "application/problem+json"),
    (status = 401, body = Problem, content_type = "application/problem+json"),
))]
#[get("/errors")]
pub(super) async fn list(
    _viewer: Viewer,
    request: HttpRequest,
    state: web::Data<State>,
) -> Result<web::Json<ErrorPage>, ApiError> {
    let query: ErrorQuery = parameters(request.query_string())?;
    let now = Utc::now();
    let scope = scope(&query, now)?;
    let limit = limit(query.limit)?;
    let strip = query
        .strip
        .map(|most| {
            if (2..=100).contains(&most) {
                Ok(most as usize)
            } else {
                Err(bad("strip must be 2 to 100"))
            }
        })
        .transpose()?;
    let after = query.cursor.as_deref().map(position).transpose()?;
    let earlier = against(query.against.as_deref(), &scope)?;
    let database = state.database.clone();
    let page = state
        .on_main(async move {
            let (summaries, (requests, failed), then) = futures_util::try_join!(
                asking::list_errors(&database, &scope),
                errors::traffic_of(&database, &scope),
                then(&database, earlier.as_ref())
            )?;
            let period = then.as_ref().map(|(summaries_then, period)| Period {
                gone: gone(&summaries, summaries_then),
                ..period.clone()
            });
            let numbers: Vec<i32> = summaries.iter().map(|summary| ids::number(summary.reference)).collect();
            let origins = traces::main_origins(&database, &numbers, scope.from, scope.to).await?;
            let flags = flags::flags(&database, &numbers, scope.from, scope.to).await?;
            let mut ranked: Vec<(Position, Summary, Attention)> = summaries
                .into_iter()
                .filter(|summary| summary.count > 0)
                .map(|summary| rank(summary, &origins, now))
                .collect();
            ranked.sort_by_key(|(position, _, _)| *position);
            let from = after.map_or(0, |after| ranked.partition_point(|(position, _, _)| *position <= after));
            let total = i64::try_from(ranked.len()).unwrap_or(i64::MAX);
            let is_more = ranked.len() > from + limit;
            let shown: Vec<_> = ranked.into_iter().skip(from).take(limit).collect();
            let references: Vec<Reference> = shown.iter().map(|(_, summary, _)| summary.reference).collect();
            let strips = async {
                let Some(most) = strip else {
                    return Ok(vec![None; shown.len()]);
                };
                let summaries: Vec<&Summary> = shown.iter().map(|(_, summary, _)| summary).collect();
                Ok(super::timeline::strips(&database, &summaries, &scope, most)
                    .await?
                    .into_iter()
                    .map(Some)
                    .collect())
            };
            let (latest, strips) = futures_util::try_join!(errors::latest(&database, &references), strips)?;
            let next = shown
                .last()
                .filter(|_| is_more)
                .map(|((Reverse(score), number), _, _)| cursor(&format!("{score}:{number}")));
            let items = shown
                .into_iter()
                .zip(strips)
                .map(|((_, summary, attention), strip)| {
                    let origin = origin_of(&summary, &origins);
                    let flagged = flags.get(&ids::number(summary.reference));
                    let since_deploy = is_since_deploy(flagged);
                    ErrorItem {
                        against: then
                            .as_ref()
                            .map(|(then, _)| held_against(&summary, then.get(&summary.reference))),
                        flags: words(flagged),
                        since_deploy,
                        origin,
                        strip,
                        ..item(latest.get(&summary.reference), summary, attention)
                    }
                })
                .collect();
            let note = if total == 0 {
                unknown(&database, scope.predicate.as_deref()).await?
            } else {
                None
            };
            Ok(ErrorPage {
                items,
                total,
                traffic: RequestCounts { requests, failed },
                against: period,
                next,
                note,
            })
        })
        .await?;
    Ok(web::Json(page))
}

/// One error with its numbers in a window.
#[utoipa::path(operation_id = "show_error", tag = "errors", params(("ref" = String, Path, description = "Its \
    reference, such as kobal-tirun"), ErrorQuery), responses(
    (status = 200, body = ErrorDetail),
    (status = 404, body = Problem, content_type = "application/problem+json"),
))]
#[get("/errors/{ref}")]
pub(super) async fn one(
    _viewer: Viewer,
    path: web::Path<String>,
    request: HttpRequest,
    state: web::Data<State>,
) -> Result<web::Json<ErrorDetail>, ApiError> {
    let query: ErrorQuery = parameters(request.query_string())?;
    let reference = error_of(&state, &path).await?;
    let now = Utc::now();
    let scope = scope(&query, now)?;
    let earlier = against(query.against.as_deref(), &scope)?;
    let database = state.database.clone();
    let detail = state
        .on_main(async move {
            let Some(summary) = asking::one_error(&database, reference, &scope).await? else {
                return Ok(None);
            };
            let sightings = errors::sightings(&database, reference).await?;
            let latest = errors::latest(&database, &[reference]).await?;
            let latest = latest.get(&reference);
            let number = ids::number(reference);
            let origins = traces::main_origins(&database, &[number], scope.from, scope.to).await?;
            let (begins_in, followed_by) = traces::ties(&database, number, scope.from, scope.to).await?;
            let hit = asking::main_endpoints(&database, &summary, &scope, ENDPOINTS).await?;
            let of_service = Scope {
                service: Some(summary.service.clone()),
                ..scope.clone()
            };
            let sampling = outcrop_store::sampling::notes(&database, &of_service)
                .await?
                .pop()
                .map(|(_, note)| note);
            let has_requests = summary.requests > 0;
            #[expect(clippy::cast_precision_loss, reason = "counts beyond 2^53 do not occur")]
            let count = summary.count as f64 * summary.one_in.unwrap_or(1.0);
            let then = match &earlier {
                Some(earlier) => Some(asking::one_error(&database, reference, earlier).await?),
                None => None,
            };
            let then = then.map(|then| held_against(&summary, then.as_ref()));
            let (_, summary, attention) = rank(summary, &origins, now);
            let origin = origin_of(&summary, &origins);
            let flagged = flags::flags(&database, &[number], scope.from, scope.to)
                .await?
                .remove(&number)
                .unwrap_or_default();
            let moved = moved::of_error(&database, reference).await?;
            let may_be = moved::may_be(&database, reference, now).await?;
            let withdrawn = flags::withdrawn(&database, number, scope.from, scope.to).await?;
            let (flags, since_deploy) = (words(Some(&flagged)), is_since_deploy(Some(&flagged)));
            Ok(Some(ErrorDetail {
                flagged: flagged
                    .iter()
                    .chain(&withdrawn)
                    .map(crate::answers::flag_items::flag_item)
                    .collect(),
                error: ErrorItem {
                    flags,
                    since_deploy,
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
        })
        .await?;
    detail
        .map(web::Json)
        .ok_or_else(|| ApiError::NotFound(format!("there is no error {reference}")))
}

type Earlier = (HashMap<Reference, Summary>, Period);

/// The errors and the requests of the period that a window is held against.
async fn then(database: &Database, earlier: Option<&Scope>) -> Result<Option<Earlier>, StoreError> {
    let Some(earlier) = earlier else { return Ok(None) };
    let (summaries, (requests, failed)) = futures_util::try_join!(
        asking::list_errors(database, earlier),
        errors::traffic_of(database, earlier)
    )?;
    let summaries: HashMap<_, _> = summaries
        .into_iter()
        .filter(|summary| summary.count > 0)
        .map(|summary| (summary.reference, summary))
        .collect();
    let errors = i64::try_from(summaries.len()).unwrap_or(i64::MAX);
    Ok(Some((
        summaries,
        Period {
            from: earlier.from,
            to: earlier.to,
            requests,
            failed,
            errors,
            gone: 0,
        },
    )))
}

/// How many errors of then do not occur now.
fn gone(now: &[Summary], then: &HashMap<Reference, Summary>) -> i64 {
    let still = now
        .iter()
        .filter(|summary| summary.count > 0 && then.contains_key(&summary.reference))
        .count();
    i64::try_from(then.len() - still).unwrap_or(i64::MAX)
}

/// An error then, and whether there is more or less of it now.
fn held_against(now: &Summary, then: Option<&Summary>) -> Then {
    let side = |summary: Option<&Summary>| Side {
        requests: summary.map_or(0, |summary| summary.requests.unsigned_abs()),
        failed: summary.map_or(0, |summary| summary.count.unsigned_abs()),
        ..Side::default()
    };
    // Where it did not occur, no endpoint of then is known for it: as many requests as now are taken to have come.
    let before = then.map_or_else(
        || Side {
            requests: now.requests.unsigned_abs(),
            ..Side::default()
        },
        |then| side(Some(then)),
    );
    let change = changes(&before, &side(Some(now)))
        .first()
        .and_then(|change| match change {
            Change::FailsMore => Some("more"),
            Change::FailsLess => Some("less"),
            Change::Slower | Change::Faster => None,
        });
    Then {
        count: then.map_or(0, |then| then.count),
        users: then.map_or(0, |then| then.users),
        request_share: then.and_then(Summary::request_share),
        change: change.map(str::to_owned),
    }
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

/// Where an error stands in the list: by attention, then by number.
type Position = (Reverse<u8>, u32);

fn position(cursor: &str) -> Result<Position, ApiError> {
    let text = read_cursor(cursor)?;
    let parts = text
        .split_once(':')
        .and_then(|(score, number)| Some((Reverse(score.parse().ok()?), number.parse().ok()?)));
    parts.ok_or_else(|| bad("the cursor is none of this list; take it from `next` of the page before"))
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

/// Whether a deploy stands at the beginning of a flag: it began with one, or a version brought the
/// error, or brought it back.
fn is_since_deploy(flags: Option<&Vec<Flag>>) -> bool {
    flags.is_some_and(|flags| flags.iter().any(Flag::is_since_deploy))
}

fn tied(tie: Tie) -> TiedError {
    TiedError {
        reference: ids::reference(tie.error_id).to_string(),
        service: tie.service,
        title: tie.title,
        count: tie.count,
    }
}

fn rank(summary: Summary, origins: &Origins, now: DateTime<Utc>) -> (Position, Summary, Attention) {
    let mut weighed = summary.attention(now);
    if let Some(origin) = origin_of(&summary, origins) {
        weighed.score = outcrop_core::attention::of_echo(weighed.score);
        weighed.reasons.push(format!("follows from {origin}"));
    }
    let position = (Reverse(weighed.score), summary.reference.number());
    (
        position,
        summary,
        Attention {
            score: weighed.score,
            reasons: weighed.reasons,
        },
    )
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
        taken_by: summary.handling.taken_by,
        settled_in: summary.handling.settled_in,
        flags: vec![],
        since_deploy: false,
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
