//! Sheets: pages of questions and text.

use actix_web::{HttpRequest, HttpResponse, delete, get, put, web};
use chrono::Utc;
use outcrop_api::{ErrorQuery, MadeSheetQuery, NewSheet, Problem, Sheet, SheetItem, SheetList};
use outcrop_store::questions::saved::Saving;
use outcrop_store::questions::sheets::{self, MAX_SHEETS};

use super::ask::refused;
use super::input::Body;
use super::query::window;
use super::viewer::{Role, Seen, Viewer};
use crate::answers::sheets as documents;
use crate::api_error::ApiError;
use crate::routes::parameters::{bad, parameters};

/// Longest name, in characters.
const LONGEST_NAME: usize = 200;

/// Lists the sheets.
#[utoipa::path(operation_id = "list_sheets", tag = "sheets", responses((status = 200, body = SheetList)))]
#[get("/sheets")]
pub(super) async fn list_sheets(_viewer: Viewer, state: Seen) -> Result<web::Json<SheetList>, ApiError> {
    let database = state.database.clone();
    let rows = state.on_main(async move { sheets::list(&database).await }).await?;
    let items = rows.into_iter().map(|row| {
        let document = documents::of_stored(row.document);
        SheetItem {
            name: row.name,
            about: document.about,
            parts: u32::try_from(document.parts.len()).unwrap_or(u32::MAX),
            owner: row.owner,
            changed_at: row.changed_at,
        }
    });
    Ok(web::Json(SheetList { items: items.collect() }))
}

/// One sheet, with the questions of its parts.
#[utoipa::path(operation_id = "show_sheet", tag = "sheets", params(("name" = String, Path, description = "Its name")),
    responses(
    (status = 200, body = Sheet),
    (status = 404, body = Problem, content_type = "application/problem+json"),
))]
#[get("/sheets/{name}")]
pub(super) async fn show_sheet(
    _viewer: Viewer,
    name: web::Path<String>,
    state: Seen,
) -> Result<web::Json<Sheet>, ApiError> {
    let (database, wanted) = (state.database.clone(), name.clone());
    let found = state
        .on_main(async move { documents::one(&database, &wanted).await })
        .await?;
    found.map(web::Json).ok_or_else(|| missing(&name))
}

fn missing(name: &str) -> ApiError {
    ApiError::NotFound(format!("there is no sheet `{name}`"))
}

/// The sheet that is made by itself of a service, or of a deploy of it.
#[utoipa::path(operation_id = "show_made_sheet", tag = "sheets", params(MadeSheetQuery), responses(
    (status = 200, body = Sheet),
    (status = 400, body = Problem, content_type = "application/problem+json"),
))]
#[get("/made-sheet")]
pub(super) async fn show_made_sheet(_viewer: Viewer, request: HttpRequest) -> Result<web::Json<Sheet>, ApiError> {
    let asked: MadeSheetQuery = parameters(request.query_string())?;
    if asked.service.trim().is_empty() {
        return Err(bad("service: name the service that the sheet is of"));
    }
    Ok(web::Json(documents::made(&asked.service, asked.version.as_deref())))
}

/// Saves a sheet under a new name, or changes one's own.
#[utoipa::path(operation_id = "save_sheet", tag = "sheets", params(("name" = String, Path, description = "Its name")),
    request_body = NewSheet, responses(
    (status = 200, body = Sheet),
    (status = 400, body = Problem, content_type = "application/problem+json"),
    (status = 404, body = Problem, content_type = "application/problem+json"),
    (status = 409, body = Problem, content_type = "application/problem+json"),
))]
#[put("/sheets/{name}")]
pub(super) async fn save_sheet(
    viewer: Viewer,
    name: web::Path<String>,
    body: Body<NewSheet>,
    state: Seen,
) -> Result<web::Json<Sheet>, ApiError> {
    let name = name.trim().to_owned();
    if name.is_empty() || name.chars().count() > LONGEST_NAME || name.chars().any(char::is_control) {
        return Err(bad(format!("a sheet has a name of 1 to {LONGEST_NAME} characters")));
    }
    let NewSheet { document, version } = body.into_inner();
    // What its questions are asked over is a window like any other.
    let over = ErrorQuery {
        since: document.over.clone(),
        ..ErrorQuery::default()
    };
    window(&over, Utc::now())?;
    let document = documents::checked(document).map_err(|wrong| match wrong {
        documents::Wrong::Part(message) => bad(message),
        documents::Wrong::Question(text, mistake) => refused(&text, mistake),
    })?;
    let (database, wanted) = (state.database.clone(), name.clone());
    let (saving, found) = state
        .on_main(async move {
            let stored = documents::stored(&document);
            let saving = sheets::save(&database, (&wanted, &stored), version, &viewer.email, Utc::now()).await?;
            Ok((saving, documents::one(&database, &wanted).await?))
        })
        .await?;
    match saving {
        Saving::Done(_) => found.map(web::Json).ok_or_else(|| missing(&name)),
        Saving::Taken(owner) => Err(ApiError::Conflict(format!(
            "`{name}` is a sheet of {owner}: save yours under another name"
        ))),
        Saving::Changed(version) => Err(ApiError::Conflict(format!(
            "`{name}` was changed meanwhile, and is of version {version}: look at it, then save again"
        ))),
        Saving::Missing => Err(missing(&name)),
        Saving::Full => Err(ApiError::Conflict(format!(
            "{MAX_SHEETS} sheets are saved already: remove one that nobody needs"
        ))),
    }
}

/// Removes a sheet: one's own, or as an admin anybody's.
#[utoipa::path(operation_id = "remove_sheet", tag = "sheets", params(("name" = String, Path,
    description = "Its name")), responses(
    (status = 204),
    (status = 404, body = Problem, content_type = "application/problem+json"),
))]
#[delete("/sheets/{name}")]
pub(super) async fn remove_sheet(
    viewer: Viewer,
    name: web::Path<String>,
    state: Seen,
) -> Result<HttpResponse, ApiError> {
    let (database, wanted) = (state.database.clone(), name.clone());
    let owner = (viewer.role < Role::Admin).then_some(viewer.email);
    let removed = async move { sheets::remove(&database, &wanted, owner.as_deref()).await };
    if state.on_main(removed).await? {
        return Ok(HttpResponse::NoContent().finish());
    }
    Err(ApiError::NotFound(format!("you have saved no sheet as `{name}`")))
}
