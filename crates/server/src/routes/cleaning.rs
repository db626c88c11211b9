//! Deleting what belongs to a service, an environment, an error or a user.

use actix_web::{HttpResponse, get, post, web};
use chrono::Utc;
use outcrop_api::{CleaningCount, CleaningItem, CleaningKind, CleaningList, CleaningTrial, NewCleaning, Problem};
use outcrop_store::ids;
use outcrop_store::people::settings;
use outcrop_store::upkeep::cleaning::{self, Cleaned};

use super::handling::known;
use super::input::Body;
use super::viewer::{Seen, Viewer};
use crate::api_error::ApiError;
use crate::routes::parameters::bad;
use crate::state::State;

/// Lists what was asked to be deleted, and how far that is.
#[utoipa::path(operation_id = "list_cleanings", tag = "clean-up", responses(
    (status = 200, body = CleaningList),
    (status = 403, body = Problem, content_type = "application/problem+json"),
))]
#[get("/clean-up")]
pub(super) async fn list_cleanings(viewer: Viewer, state: Seen) -> Result<web::Json<CleaningList>, ApiError> {
    viewer.must_admin()?;
    let database = state.database.clone();
    let rows = state.on_main(async move { cleaning::list(&database).await }).await?;
    let items = rows.into_iter().map(|row| CleaningItem {
        id: row.id,
        kind: row.kind,
        name: row.name,
        by: row.asked_by,
        at: row.asked_at,
        removed: row.removed,
        done_at: row.done_at,
    });
    Ok(web::Json(CleaningList { items: items.collect() }))
}

/// Counts what would be deleted; deletes nothing.
#[utoipa::path(operation_id = "try_cleaning", tag = "clean-up", request_body = NewCleaning, responses(
    (status = 200, body = CleaningTrial),
    (status = 403, body = Problem, content_type = "application/problem+json"),
    (status = 404, body = Problem, content_type = "application/problem+json"),
))]
#[post("/clean-up/try")]
pub(super) async fn try_cleaning(
    viewer: Viewer,
    body: Body<NewCleaning>,
    state: Seen,
) -> Result<web::Json<CleaningTrial>, ApiError> {
    viewer.must_admin()?;
    let asked = body.into_inner();
    let (what, name) = named(&state, &asked).await?;
    let database = state.database.clone();
    let counts = state
        .on_main(async move { cleaning::counts(&database, &what).await })
        .await?;
    let counts = counts.into_iter().map(|(what, count)| CleaningCount {
        what: what.to_owned(),
        count,
    });
    Ok(web::Json(CleaningTrial {
        kind: asked.kind,
        name,
        counts: counts.collect(),
    }))
}

/// Has something deleted, for good, within minutes. It must be confirmed by its name.
#[utoipa::path(operation_id = "clean_up", tag = "clean-up", request_body = NewCleaning, responses(
    (status = 202, body = CleaningTrial),
    (status = 400, body = Problem, content_type = "application/problem+json", description = "It is not confirmed"),
    (status = 403, body = Problem, content_type = "application/problem+json"),
    (status = 404, body = Problem, content_type = "application/problem+json"),
))]
#[post("/clean-up")]
pub(super) async fn clean_up(viewer: Viewer, body: Body<NewCleaning>, state: Seen) -> Result<HttpResponse, ApiError> {
    viewer.must_admin()?;
    let asked = body.into_inner();
    let (what, name) = named(&state, &asked).await?;
    if asked.confirm != name {
        return Err(bad(format!("confirm it by its name: {name}")));
    }
    // Whom it was about stands in no record: that is what was asked for.
    let recorded = match asked.kind {
        CleaningKind::User => "a user".to_owned(),
        _ => name.clone(),
    };
    let (database, by, kept) = (state.database.clone(), viewer.email.clone(), recorded.clone());
    state
        .on_main(async move { cleaning::ask(&database, &what, &kept, (&by, Utc::now())).await })
        .await?;
    let did = match asked.kind {
        CleaningKind::Service => "had service deleted",
        CleaningKind::Environment => "had environment deleted",
        CleaningKind::Error => "had error deleted",
        CleaningKind::User => "had data erased of",
    };
    state.note_change(&viewer.email, did, &recorded).await?;
    Ok(HttpResponse::Accepted().json(CleaningTrial {
        kind: asked.kind,
        name,
        counts: vec![],
    }))
}

/// What is meant, and its whole name.
async fn named(state: &State, asked: &NewCleaning) -> Result<(Cleaned, String), ApiError> {
    let name = asked.name.trim().to_owned();
    if name.is_empty() || name.len() > 400 {
        return Err(bad("name has 1 to 400 bytes"));
    }
    let (database, text) = (state.database.clone(), name.clone());
    let none = |what: &str| ApiError::NotFound(format!("there is no {what} `{name}`"));
    match asked.kind {
        CleaningKind::Error => {
            let error = known(state, &name).await?.reference();
            Ok((Cleaned::Error(ids::number(error)), error.to_string()))
        }
        CleaningKind::Service => {
            let found = state
                .on_main(async move { cleaning::service(&database, &text).await })
                .await?;
            Ok((Cleaned::Service(found.ok_or_else(|| none("service"))?), name))
        }
        CleaningKind::Environment => {
            let found = state
                .on_main(async move { cleaning::environment(&database, &text).await })
                .await?;
            Ok((Cleaned::Environment(found.ok_or_else(|| none("environment"))?), name))
        }
        CleaningKind::User => {
            let addresses = state
                .on_main(async move { settings::addresses(&database).await })
                .await?;
            let hash = i64::from_ne_bytes(addresses.user_hash(Some(&name)).to_ne_bytes());
            // An address may be stored as its pseudonym.
            let mut names = vec![name.clone(), addresses.in_text(&name).to_string()];
            names.dedup();
            Ok((Cleaned::User { hash, names }, name))
        }
    }
}
