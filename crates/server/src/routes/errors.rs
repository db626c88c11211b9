//! The list of errors, and one of them.

use actix_web::{HttpRequest, get, web};
use chrono::Utc;
use outcrop_api::{ErrorDetail, ErrorPage, ErrorQuery, Problem};

use super::query::{against, cursor, error_of, limit, read_cursor, scope};
use super::viewer::{Seen, Viewer};
use crate::answers;
use crate::answers::error_list::Asked;
use crate::answers::error_order::{Order, Position};
use crate::api_error::ApiError;
use crate::routes::parameters::{bad, parameters};

/// Longest words that a list is filtered by, in bytes.
const LONGEST_WORDS: usize = 200;

/// Lists the errors that occurred in a window, those that matter most first.
#[utoipa::path(operation_id = "list_errors", tag = "errors", params(ErrorQuery), responses(
    (status = 200, body = ErrorPage),
    (status = 400, body = Problem, content_type = "application/problem+json"),
    (status = 401, body = Problem, content_type = "application/problem+json"),
))]
#[get("/errors")]
pub(super) async fn list(viewer: Viewer, request: HttpRequest, state: Seen) -> Result<web::Json<ErrorPage>, ApiError> {
    let query: ErrorQuery = parameters(request.query_string())?;
    let now = Utc::now();
    let scope = scope(&query, &viewer, now)?;
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
    let words = query.words.as_deref().unwrap_or_default();
    if words.len() > LONGEST_WORDS {
        return Err(bad(format!("words must be at most {LONGEST_WORDS} bytes")));
    }
    let order = match query.order.as_deref() {
        Some(text) => Order::read(text).map_err(bad)?,
        None => Order::default(),
    };
    let asked = Asked {
        earlier: against(query.against.as_deref(), &scope)?,
        words: words.to_lowercase().split_whitespace().map(str::to_owned).collect(),
        by_part: query.by_part.unwrap_or(false),
        order,
        limit,
        after: (query.cursor.as_deref().map(|cursor| position(cursor, order))).transpose()?,
        strip,
        scope,
    };
    let database = state.database.clone();
    let (page, next) = state
        .on_main(async move { answers::error_list::page(&database, asked, now).await })
        .await?;
    Ok(web::Json(ErrorPage {
        next: next.map(|next| cursor(&next.text(order))),
        ..page
    }))
}

fn position(cursor: &str, order: Order) -> Result<Position, ApiError> {
    Position::read(&read_cursor(cursor)?, order)
        .ok_or_else(|| bad("the cursor is none of this list; take it from `next` of the page before"))
}

/// One error with its numbers in a window.
#[utoipa::path(operation_id = "show_error", tag = "errors", params(("ref" = String, Path, description = "Its \
    reference, such as kobal-tirun"), ErrorQuery), responses(
    (status = 200, body = ErrorDetail),
    (status = 404, body = Problem, content_type = "application/problem+json"),
))]
#[get("/errors/{ref}")]
pub(super) async fn one(
    viewer: Viewer,
    path: web::Path<String>,
    request: HttpRequest,
    state: Seen,
) -> Result<web::Json<ErrorDetail>, ApiError> {
    let query: ErrorQuery = parameters(request.query_string())?;
    let reference = error_of(&state, &path).await?;
    let now = Utc::now();
    let scope = scope(&query, &viewer, now)?;
    let earlier = against(query.against.as_deref(), &scope)?;
    let database = state.database.clone();
    let detail = state
        .on_main(async move { answers::errors::one(&database, reference, &scope, earlier.as_ref(), now).await })
        .await?;
    detail
        .map(web::Json)
        .ok_or_else(|| ApiError::NotFound(format!("there is no error {reference}")))
}
