//! Pages of the console that members saved under a name.

use actix_web::{HttpResponse, delete, get, put, web};
use chrono::Utc;
use outcrop_api::{NewSavedView, Problem, SavedView, SavedViewList};
use outcrop_store::people::views::{self, MAX_VIEWS, Saving, View};

use super::input::Body;
use super::viewer::{Role, Seen, Viewer};
use crate::api_error::ApiError;
use crate::routes::parameters::bad;

/// Longest name, in characters, and longest address, in bytes: as much as browsers and proxies carry.
const LONGEST: (usize, usize) = (100, 4_000);

/// Lists the saved views.
#[utoipa::path(operation_id = "list_saved_views", tag = "views", responses((status = 200, body = SavedViewList)))]
#[get("/views")]
pub(super) async fn list_saved_views(_viewer: Viewer, state: Seen) -> Result<web::Json<SavedViewList>, ApiError> {
    let database = state.database.clone();
    let rows = state.on_main(async move { views::list(&database).await }).await?;
    let items = rows
        .into_iter()
        .map(|row| SavedView {
            name: row.name,
            address: row.address,
            owner: row.owner,
            saved_at: row.saved_at,
        })
        .collect();
    Ok(web::Json(SavedViewList { items }))
}

/// Saves a page of the console under a name; one's own of that name is changed.
#[utoipa::path(operation_id = "save_view", tag = "views", params(("name" = String, Path, description = "Its name")),
    request_body = NewSavedView, responses(
    (status = 204),
    (status = 400, body = Problem, content_type = "application/problem+json"),
    (status = 409, body = Problem, content_type = "application/problem+json"),
))]
#[put("/views/{name}")]
pub(super) async fn save_view(
    viewer: Viewer,
    path: web::Path<String>,
    body: Body<NewSavedView>,
    state: Seen,
) -> Result<HttpResponse, ApiError> {
    let name = path.trim().to_owned();
    if name.is_empty() || name.chars().count() > LONGEST.0 || name.chars().any(char::is_control) {
        return Err(bad(format!("a view has a name of 1 to {} characters", LONGEST.0)));
    }
    let address = body.into_inner().address;
    if !is_page(&address) {
        return Err(bad(format!(
            "address must be a page of the console, such as /errors?where=uncaught, of {} bytes at most",
            LONGEST.1
        )));
    }
    let view = View {
        name,
        address,
        owner: viewer.email,
        saved_at: Utc::now(),
    };
    let database = state.database.clone();
    match state
        .on_main(async move { views::save(&database, &view).await })
        .await?
    {
        Saving::Done => Ok(HttpResponse::NoContent().finish()),
        Saving::Taken(owner) => Err(ApiError::Conflict(format!(
            "`{path}` is a view of {owner}; choose another name"
        ))),
        Saving::Full => Err(ApiError::Conflict(format!(
            "{MAX_VIEWS} views are saved already: remove one first"
        ))),
    }
}

/// Whether an address leads to a page of this installation, and to nowhere else.
fn is_page(address: &str) -> bool {
    let is_elsewhere = address.starts_with("//") || address.starts_with("/api/") || address.contains('\\');
    address.starts_with('/')
        && !is_elsewhere
        && address.len() <= LONGEST.1
        && address.bytes().all(|byte| byte.is_ascii_graphic())
}

/// Removes a view; a member their own, an admin any.
#[utoipa::path(operation_id = "remove_view", tag = "views", params(("name" = String, Path, description = "Its name")),
    responses(
    (status = 204),
    (status = 404, body = Problem, content_type = "application/problem+json"),
))]
#[delete("/views/{name}")]
pub(super) async fn remove_view(
    viewer: Viewer,
    path: web::Path<String>,
    state: Seen,
) -> Result<HttpResponse, ApiError> {
    let owner = (viewer.role < Role::Admin).then_some(viewer.email);
    let (database, name) = (state.database.clone(), path.clone());
    let removed = state
        .on_main(async move { views::remove(&database, &name, owner.as_deref()).await })
        .await?;
    if removed {
        return Ok(HttpResponse::NoContent().finish());
    }
    Err(ApiError::NotFound(format!("you have no view `{path}`")))
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("/errors?where=uncaught%20and%20new&order=users", true)]
    #[case("/", true)]
    #[case("//elsewhere.example/errors", false)]
    #[case("https://elsewhere.example/", false)]
    #[case("/\\elsewhere.example", false)]
    #[case("/api/v1/session", false)]
    #[case("/errors?q=a b", false)]
    #[case("javascript:alert(1)", false)]
    #[case("", false)]
    fn only_pages_of_the_console_are_addresses(#[case] address: &str, #[case] expected: bool) {
        assert_eq!(is_page(address), expected);
        assert!(!is_page(&format!("/errors?q={}", "a".repeat(4_000))));
    }
}
