//! One error with all that is known of it, and what it is shown with in a list.

use std::collections::HashMap;

use chrono::{DateTime, Utc};
use outcrop_api::{
    Attention, ErrorDetail, ErrorItem, ListPart, MovedCause, NamedError, Sentence, Severity, Sighting, TiedError,
};
use outcrop_core::Reference;
use outcrop_core::deploy::FlagKind;
use outcrop_store::asking::HitEndpoint;
use outcrop_store::errors::handling::Handling;
use outcrop_store::errors::{Latest, Summary};
use outcrop_store::flags::Said;
use outcrop_store::grouping::moved;
use outcrop_store::traces::Tie;
use outcrop_store::traffic::timeline::Steps;
use outcrop_store::{Database, Scope, StoreError, asking, errors, flags, ids, traces};

use super::against::held_against;
use super::headline;
use super::timelines::timelines;

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
    let attention = attention(&summary, &origins, now);
    let origin = origin_of(&summary, &origins);
    let flagged = flags::flags(database, Some(&[number]), (scope.from, scope.to))
        .await?
        .remove(&number)
        .unwrap_or_default();
    let moved = moved::of_error(database, reference).await?;
    let may_be = moved::may_be(database, reference, now).await?;
    let withdrawn = flags::withdrawn(database, number, scope.from, scope.to).await?;
    let said: Vec<Said> = flagged.iter().map(Said::from).collect();
    let (flags, part) = (words(Some(&said)), part(&summary.handling, Some(&said), now));
    let since_deploy = is_since_deploy(Some(&said));
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

/// Steps of the timelines that a headline's share is taken from, where a list has none.
pub(super) const HEADLINE_STEPS: usize = 48;
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

pub(super) type Origins = HashMap<i32, (i32, i64)>;

/// The error in which at least half of an error's occurrences began.
pub(super) fn origin_of(summary: &Summary, origins: &Origins) -> Option<String> {
    let (origin, count) = origins.get(&ids::number(summary.reference))?;
    (count * 2 >= summary.count).then(|| ids::reference(*origin).to_string())
}

/// Each kind of flag once, in the order of their weight.
pub(super) fn words(flags: Option<&Vec<Said>>) -> Vec<String> {
    let has = |kind: &FlagKind| flags.is_some_and(|flags| flags.iter().any(|flag| flag.kind == *kind));
    [FlagKind::New, FlagKind::Surging, FlagKind::Returned]
        .into_iter()
        .filter(has)
        .map(|kind| kind.word().to_owned())
        .collect()
}

/// Whether a deploy stands at the beginning of a flag: it began with one, or a version brought the error, or brought it
/// back.
pub(super) fn is_since_deploy(flags: Option<&Vec<Said>>) -> bool {
    flags.is_some_and(|flags| flags.iter().any(|said| said.is_since_deploy))
}

/// Which part of a list an error belongs to.
pub(super) fn part(handling: &Handling, flags: Option<&Vec<Said>>, now: DateTime<Utc>) -> ListPart {
    if !handling.is_open(now) {
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

/// How much it matters, and why; less where it follows from another.
pub(super) fn attention(summary: &Summary, origins: &Origins, now: DateTime<Utc>) -> Attention {
    let mut weighed = summary.attention(now);
    if let Some(origin) = origin_of(summary, origins) {
        weighed.score = outcrop_core::attention::of_echo(weighed.score);
        weighed.reasons.push(format!("follows from {origin}"));
    }
    Attention {
        score: weighed.score,
        reasons: weighed.reasons,
    }
}

pub(super) fn item(latest: Option<&Latest>, summary: Summary, attention: Attention) -> ErrorItem {
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
