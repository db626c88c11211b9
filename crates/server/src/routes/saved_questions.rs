//! Questions saved under a name.

use actix_web::{HttpResponse, delete, get, put, web};
use chrono::Utc;
use outcrop_api::{NewSavedQuestion, Problem, SavedQuestion, SavedQuestionBefore, SavedQuestionList};
use outcrop_core::question::read;
use outcrop_store::questions::saved::{self, Before, MAX_SAVED, NewSaved, Saved, Saving};

use super::ask::refused;
use super::input::Body;
use super::viewer::{Role, Seen, Viewer};
use crate::api_error::ApiError;
use crate::routes::parameters::bad;

/// Longest name, and longest description, in characters.
const LONGEST: (usize, usize) = (200, 1_000);

/// Lists the saved questions.
#[utoipa::path(operation_id = "list_saved_questions", tag = "questions", responses(
    (status = 200, body = SavedQuestionList),
))]
#[get("/questions")]
pub(super) async fn list_saved_questions(
    _viewer: Viewer,
    state: Seen,
) -> Result<web::Json<SavedQuestionList>, ApiError> {
    let database = state.database.clone();
    let rows = state.on_main(async move { saved::list(&database).await }).await?;
    let items = rows.into_iter().map(|row| item(row, vec![])).collect();
    Ok(web::Json(SavedQuestionList { items }))
}

/// One saved question, with what it was before.
#[utoipa::path(operation_id = "show_saved_question", tag = "questions", params(("name" = String, Path,
    description = "Its name")), responses(
    (status = 200, body = SavedQuestion),
    (status = 404, body = Problem, content_type = "application/problem+json"),
))]
#[get("/questions/{name}")]
pub(super) async fn show_saved_question(
    _viewer: Viewer,
    name: web::Path<String>,
    state: Seen,
) -> Result<web::Json<SavedQuestion>, ApiError> {
    let (database, wanted) = (state.database.clone(), name.clone());
    let found = state
        .on_main(async move { saved::one(&database, &wanted).await })
        .await?;
    found
        .map(|(row, before)| web::Json(item(row, before)))
        .ok_or_else(|| missing(&name))
}

fn item(row: Saved, before: Vec<Before>) -> SavedQuestion {
    let was = |before: Before| SavedQuestionBefore {
        version: before.version,
        question: before.question,
        description: before.description,
        changed_at: before.changed_at,
    };
    SavedQuestion {
        name: row.name,
        question: row.question,
        description: row.description,
        owner: row.owner,
        version: row.version,
        changed_at: row.changed_at,
        before: before.into_iter().map(was).collect(),
    }
}

fn missing(name: &str) -> ApiError {
    ApiError::NotFound(format!("no question is saved as `{name}`"))
}

/// Saves a question under a new name, or changes one's own.
#[utoipa::path(operation_id = "save_question", tag = "questions", params(("name" = String, Path,
    description = "Its name")), request_body = NewSavedQuestion, responses(
    (status = 200, body = SavedQuestion),
    (status = 400, body = Problem, content_type = "application/problem+json"),
    (status = 404, body = Problem, content_type = "application/problem+json"),
    (status = 409, body = Problem, content_type = "application/problem+json"),
))]
#[put("/questions/{name}")]
pub(super) async fn save_question(
    viewer: Viewer,
    name: web::Path<String>,
    body: Body<NewSavedQuestion>,
    state: Seen,
) -> Result<web::Json<SavedQuestion>, ApiError> {
    let name = name.trim().to_owned();
    let sent = body.into_inner();
    let fits = |text: &str, longest: usize| text.chars().count() <= longest && !text.contains('\0');
    if name.is_empty() || !fits(&name, LONGEST.0) || !fits(&sent.description, LONGEST.1) {
        return Err(bad(format!(
            "a saved question has a name of 1 to {} characters, and a description of {} at most",
            LONGEST.0, LONGEST.1
        )));
    }
    let question = read(&sent.question).map_err(|mistake| refused(&sent.question, mistake))?;
    let says_mine = |question: &outcrop_core::question::Question| question.matching.as_ref()?.predicate.says_mine();
    if says_mine(&question).is_some() {
        return Err(bad(
            "`mine` means somebody else for each reader: write `taken by` and an address",
        ));
    }
    let (database, text, wanted) = (state.database.clone(), question.to_string(), name.clone());
    let (saving, found) = state
        .on_main(async move {
            let new = NewSaved {
                name: &wanted,
                question: &text,
                description: sent.description.trim(),
                version: sent.version,
            };
            let saving = saved::save(&database, &new, &viewer.email, Utc::now()).await?;
            Ok((saving, saved::one(&database, &wanted).await?))
        })
        .await?;
    match saving {
        Saving::Done(_) => found
            .map(|(row, before)| web::Json(item(row, before)))
            .ok_or_else(|| missing(&name)),
        Saving::Taken(owner) => Err(ApiError::Conflict(format!(
            "`{name}` is a question of {owner}: save yours under another name"
        ))),
        Saving::Changed(version) => Err(ApiError::Conflict(format!(
            "`{name}` was changed meanwhile, and is of version {version}: look at it, then save again"
        ))),
        Saving::Missing => Err(missing(&name)),
        Saving::Full => Err(ApiError::Conflict(format!(
            "{MAX_SAVED} questions are saved already: remove one that nobody needs"
        ))),
    }
}

/// Removes a saved question: one's own, or as an admin anybody's.
#[utoipa::path(operation_id = "remove_saved_question", tag = "questions", params(("name" = String, Path,
    description = "Its name")), responses(
    (status = 204),
    (status = 404, body = Problem, content_type = "application/problem+json"),
))]
#[delete("/questions/{name}")]
pub(super) async fn remove_saved_question(
    viewer: Viewer,
    name: web::Path<String>,
    state: Seen,
) -> Result<HttpResponse, ApiError> {
    let (database, wanted) = (state.database.clone(), name.clone());
    let owner = (viewer.role < Role::Admin).then_some(viewer.email);
    let removed = async move { saved::remove(&database, &wanted, owner.as_deref()).await };
    if state.on_main(removed).await? {
        return Ok(HttpResponse::NoContent().finish());
    }
    Err(ApiError::NotFound(format!("you have saved no question as `{name}`")))
}
