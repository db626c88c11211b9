//! People's changes to grouping: tried, made, listed, undone.

use actix_web::{HttpRequest, HttpResponse, get, post, web};
use chrono::{TimeDelta, Utc};
use outcrop_api::{
    CauseItem, CauseList, ChangeQuery, ChangesQuery, GroupingChange, GroupingChangeItem, GroupingChanges,
    GroupingOutcome, JoinedErrors, NamedError, Problem, SplitError, SplitPart, Undone,
};
use outcrop_core::Reference;
use outcrop_store::grouping;
use outcrop_store::grouping::{Change, ChangeError, Over, Trial};
use outcrop_store::ids::number;

use super::input::Body;
use super::query::error_of;
use super::viewer::{Seen, Viewer};
use crate::api_error::ApiError;
use crate::routes::parameters::{bad, parameters};

/// Days a change is worked out over, where none are given and at most.
const DAYS: (u32, u32) = (7, 30);
/// Changes listed at once.
const LISTED: i64 = 200;
/// Beginnings of places in one rule, and the longest of them in bytes.
const PLACES: (usize, usize) = (100, 500);
/// Errors joined, or causes split off, by one change.
const BY_HAND: usize = 1_000;
/// The longest name of an attribute, in bytes.
const LONGEST_ATTRIBUTE: usize = 500;

/// Makes a change, or tries it.
#[utoipa::path(operation_id = "change_grouping", tag = "grouping", params(ChangeQuery), request_body = GroupingChange,
    responses(
    (status = 200, description = "What it would do (dry run)", body = GroupingOutcome),
    (status = 201, description = "What it did", body = GroupingOutcome),
    (status = 400, body = Problem, content_type = "application/problem+json"),
    (status = 403, body = Problem, content_type = "application/problem+json"),
    (status = 409, body = Problem, content_type = "application/problem+json"),
))]
#[post("/grouping/changes")]
pub(super) async fn make_change(
    viewer: Viewer,
    request: HttpRequest,
    body: Body<GroupingChange>,
    state: Seen,
) -> Result<HttpResponse, ApiError> {
    // Also where it is only tried: that reads a month of occurrences.
    viewer.must_engineer()?;
    let query: ChangeQuery = parameters(request.query_string())?;
    let is_dry = query.dry_run.unwrap_or(false);
    let days = query.days.unwrap_or(DAYS.0);
    if !(1..=DAYS.1).contains(&days) {
        return Err(bad(format!("days is {days}; it must be 1 to {}", DAYS.1)));
    }
    let asked = body.into_inner();
    let to = Utc::now();
    let over = Over {
        from: to - TimeDelta::days(days.into()),
        to,
    };
    let database = state.database.clone();
    let by = viewer.email.clone();
    let done = state
        .on_main(async move {
            let work = async {
                let (service, change) = resolved(&database, asked).await?;
                if is_dry {
                    return Ok((None, grouping::try_change(&database, service, &change, over).await?));
                }
                let (id, trial) = grouping::make(
                    &database,
                    grouping::Order {
                        service,
                        change: &change,
                        over,
                        by: &by,
                    },
                    |trial| in_words(trial, false),
                )
                .await?;
                Ok((Some(id), trial))
            };
            Ok(work.await)
        })
        .await?;
    let (id, trial) = done.map_err(refused)?;
    if id.is_some() {
        state.read_rules().await;
    }
    let outcome = outcome(id, days, &trial);
    Ok(if is_dry {
        HttpResponse::Ok().json(outcome)
    } else {
        HttpResponse::Created().json(outcome)
    })
}

/// Lists the changes made, the newest first.
#[utoipa::path(operation_id = "list_grouping_changes", tag = "grouping", params(ChangesQuery),
    responses((status = 200, body = GroupingChanges)))]
#[get("/grouping/changes")]
pub(super) async fn list_changes(
    _viewer: Viewer,
    request: HttpRequest,
    state: Seen,
) -> Result<web::Json<GroupingChanges>, ApiError> {
    let query: ChangesQuery = parameters(request.query_string())?;
    let error = query.error.as_deref().map(reference).transpose()?;
    let database = state.database.clone();
    let rows = state
        .on_main(async move { grouping::changes(&database, error, LISTED).await })
        .await?;
    let items = rows
        .into_iter()
        .map(|row| GroupingChangeItem {
            id: row.id,
            at: row.at,
            by: row.by,
            service: row.service,
            is_rule: row.change.is_rule(),
            change: asked_in_words(&row.change),
            sentence: row.sentence,
            undone_at: row.undone_at,
            undone_by: row.undone_by,
        })
        .collect();
    Ok(web::Json(GroupingChanges { items }))
}

/// Undoes a change.
#[utoipa::path(operation_id = "undo_grouping_change", tag = "grouping", params(("id" = i64, Path, description = "The \
    change's number")), responses(
    (status = 200, body = Undone),
    (status = 409, body = Problem, content_type = "application/problem+json"),
))]
#[post("/grouping/changes/{id}/undo")]
pub(super) async fn undo_change(
    viewer: Viewer,
    path: web::Path<i64>,
    state: Seen,
) -> Result<web::Json<Undone>, ApiError> {
    viewer.must_engineer()?;
    let (id, database) = (*path, state.database.clone());
    let done = state
        .on_main(async move { Ok(grouping::undo(&database, id, &viewer.email).await) })
        .await?;
    let sentence = done.map_err(refused)?;
    state.read_rules().await;
    Ok(web::Json(Undone {
        sentence: format!("Change {id} is undone. It was: {sentence}"),
    }))
}

/// The causes of an error: what it was put together from.
#[utoipa::path(operation_id = "list_causes", tag = "grouping", params(("ref" = String, Path, description = "The \
    error's reference")), responses(
    (status = 200, body = CauseList),
    (status = 404, body = Problem, content_type = "application/problem+json"),
))]
#[get("/errors/{ref}/causes")]
pub(super) async fn causes_of_error(
    _viewer: Viewer,
    path: web::Path<String>,
    state: Seen,
) -> Result<web::Json<CauseList>, ApiError> {
    let reference = error_of(&state, &path).await?;
    let database = state.database.clone();
    let rows = state
        .on_main(async move { grouping::causes(&database, reference).await })
        .await?;
    if rows.is_empty() {
        return Err(ApiError::NotFound(format!("there is no error {reference}")));
    }
    let items = rows
        .into_iter()
        .map(|row| CauseItem {
            id: row.id,
            count: row.count,
            first_seen: row.first_seen,
            last_seen: row.last_seen,
            message: row.message,
        })
        .collect();
    Ok(web::Json(CauseList { items }))
}

fn reference(text: &str) -> Result<Reference, ApiError> {
    text.parse()
        .map_err(|error: outcrop_core::reference::NotAReference| bad(error.to_string()))
}

fn refused(error: ChangeError) -> ApiError {
    match error {
        ChangeError::Unfit(message) => bad(message),
        ChangeError::Conflict(message) => ApiError::Conflict(message),
        ChangeError::Store(error) => error.into(),
    }
}

/// The change with its names as numbers, and the service it is about.
async fn resolved(database: &outcrop_store::Database, asked: GroupingChange) -> Result<(i32, Change), ChangeError> {
    let unfit = |error: outcrop_core::reference::NotAReference| ChangeError::Unfit(error.to_string());
    let numbered = |text: &str| text.parse::<Reference>().map_err(unfit).map(number);
    Ok(match asked {
        GroupingChange::OwnCode {
            service,
            namespace,
            own,
            library,
        } => {
            let places = own.iter().chain(&library);
            if own.len() + library.len() > PLACES.0
                || places
                    .clone()
                    .any(|place| place.len() > PLACES.1 || place.trim().is_empty())
            {
                return Err(ChangeError::Unfit(format!(
                    "give at most {} beginnings, of 1 to {} bytes each",
                    PLACES.0, PLACES.1
                )));
            }
            let id = grouping::service_number(database, namespace.as_deref(), &service).await?;
            (id, Change::OwnCode { own, library })
        }
        GroupingChange::JoinWhere {
            service,
            namespace,
            predicate,
        } => {
            let id = grouping::service_number(database, namespace.as_deref(), &service).await?;
            (id, Change::JoinWhere { predicate })
        }
        GroupingChange::SplitBy { attribute, .. } if attribute.len() > LONGEST_ATTRIBUTE => {
            return Err(ChangeError::Unfit(format!(
                "an attribute's name has at most {LONGEST_ATTRIBUTE} bytes"
            )));
        }
        GroupingChange::JoinErrors { with, .. } if with.len() > BY_HAND => {
            return Err(ChangeError::Unfit(format!("join at most {BY_HAND} errors at once")));
        }
        GroupingChange::SplitOff { causes, .. } if causes.len() > BY_HAND => {
            return Err(ChangeError::Unfit(format!(
                "split off at most {BY_HAND} causes at once"
            )));
        }
        GroupingChange::SplitBy { error, attribute } => {
            let error = numbered(&error)?;
            (
                grouping::service_of(database, error).await?,
                Change::SplitBy {
                    error,
                    attribute: attribute.trim().to_owned(),
                },
            )
        }
        GroupingChange::JoinErrors { error, with } => {
            let into = numbered(&error)?;
            let errors = with.iter().map(|other| numbered(other)).collect::<Result<_, _>>()?;
            (
                grouping::service_of(database, into).await?,
                Change::JoinErrors { into, errors },
            )
        }
        GroupingChange::SplitOff { error, causes } => {
            let error = numbered(&error)?;
            (
                grouping::service_of(database, error).await?,
                Change::SplitOff { error, causes },
            )
        }
    })
}

fn outcome(id: Option<i64>, days: u32, trial: &Trial) -> GroupingOutcome {
    let named = |reference: &Reference| NamedError {
        reference: reference.to_string(),
        title: trial.titles.get(reference).cloned().unwrap_or_default(),
    };
    let joined = trial.joined.iter().map(|(into, errors)| JoinedErrors {
        into: named(into),
        errors: errors.iter().map(named).collect(),
    });
    let split: std::collections::BTreeSet<&Reference> = trial.parts.keys().chain(trial.leaving.keys()).collect();
    let parts = |error: &Reference| {
        let parts = trial.parts.get(error).into_iter().flatten();
        parts
            .map(|(title, count)| SplitPart {
                title: title.clone(),
                count: *count,
            })
            .collect()
    };
    GroupingOutcome {
        id,
        sentence: match id {
            Some(_) => in_words(trial, false),
            None => in_words(trial, true),
        },
        days,
        occurrences: trial.occurrences,
        joined: joined.collect(),
        split: split
            .into_iter()
            .map(|error| SplitError {
                error: named(error),
                parts: parts(error),
                leaving: trial.leaving.get(error).copied().unwrap_or_default(),
            })
            .collect(),
    }
}

/// What a change does in one sentence: "would join 3 errors into 1 and split 1 into 4".
fn in_words(trial: &Trial, is_dry: bool) -> String {
    let (would, join, split) = if is_dry {
        ("would ", "join", "split")
    } else {
        ("", "joined", "split")
    };
    let mut parts = vec![];
    if !trial.joined.is_empty() {
        let joined = trial
            .joined
            .values()
            .map(std::collections::BTreeSet::len)
            .sum::<usize>()
            + trial.joined.len();
        parts.push(format!("{would}{join} {joined} errors into {}", trial.joined.len()));
    }
    if !trial.parts.is_empty() {
        let (errors, made) = (
            trial.parts.len(),
            trial.parts.values().map(Vec::len).sum::<usize>() + trial.parts.len(),
        );
        let would = if parts.is_empty() { would } else { "" };
        parts.push(format!(
            "{would}{split} {errors} {} into {made}",
            if errors == 1 { "error" } else { "errors" }
        ));
    }
    let leaving: i64 = trial.leaving.values().sum();
    if leaving > 0 {
        let what = if is_dry { "would go" } else { "like these go" };
        parts.push(format!(
            "{leaving} occurrences {what} over to another known error from now on"
        ));
    }
    if parts.is_empty() {
        format!("{} no known error", if is_dry { "would change" } else { "changed" })
    } else {
        parts.join(" and ")
    }
}

fn asked_in_words(change: &Change) -> String {
    let named = |error: &i32| Reference::of_number(u32::from_ne_bytes(error.to_ne_bytes())).to_string();
    match change {
        Change::OwnCode { own, library } => {
            let part =
                |what: &str, places: &[String]| (!places.is_empty()).then(|| format!("{what}: {}", places.join(", ")));
            [part("own code", own), part("library", library)]
                .into_iter()
                .flatten()
                .collect::<Vec<_>>()
                .join("; ")
        }
        Change::JoinWhere { predicate } => format!("one error where {predicate}"),
        Change::SplitBy { error, attribute } => format!("{} apart by {attribute}", named(error)),
        Change::JoinErrors { into, errors } => {
            format!(
                "{} joined into {}",
                errors.iter().map(named).collect::<Vec<_>>().join(", "),
                named(into)
            )
        }
        Change::SplitOff { error, causes } => match causes.len() {
            1 => format!("a cause taken out of {}", named(error)),
            count => format!("{count} causes taken out of {}", named(error)),
        },
        Change::Moved { error, version, .. } => format!("a cause that {version} brought put to {}", named(error)),
    }
}
