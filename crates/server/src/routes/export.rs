//! Records taken out, page by page.

use std::time::{Duration, Instant};

use actix_web::{HttpRequest, HttpResponse, get, web};
use chrono::Utc;
use outcrop_api::{ErrorQuery, ExportQuery, NEXT, Problem};
use outcrop_core::question::Source;
use outcrop_store::exporting;
use tokio::sync::Semaphore;

use super::occurrences::occurrence_id;
use super::query::scope;
use super::viewer::{Seen, Viewer};
use crate::api_error::ApiError;
use crate::routes::parameters::{bad, parameters};

/// Pages that are read at once, over all who export: whoever looks at pages and what comes in has the rest.
static AT_ONCE: Semaphore = Semaphore::const_new(2);
/// Longest pause after a page. It is as long as the page took, so that an export has half a connection at most.
const LONGEST_PAUSE: Duration = Duration::from_secs(2);

/// Takes records out: a page of JSON Lines, the oldest first, of `occurrences`, `requests` (those kept by themselves)
/// or `lines`. Where others follow, the header `outcrop-next` says what to give as `after`.
#[utoipa::path(operation_id = "export", tag = "questions", params(("source" = String, Path, description =
    "`occurrences`, `requests` or `lines`"), ExportQuery), responses(
    (status = 200, content_type = "application/x-ndjson", body = String),
    (status = 400, body = Problem, content_type = "application/problem+json"),
    (status = 404, body = Problem, content_type = "application/problem+json"),
))]
#[get("/export/{source}")]
pub(super) async fn export(
    viewer: Viewer,
    path: web::Path<String>,
    request: HttpRequest,
    state: Seen,
) -> Result<HttpResponse, ApiError> {
    let query: ExportQuery = parameters(request.query_string())?;
    let after = query.after.as_deref().map(occurrence_id).transpose()?;
    let window = ErrorQuery {
        service: query.service,
        environment: query.environment,
        version: query.version,
        since: query.since,
        from: query.from,
        to: query.to,
        predicate: query.predicate,
        ..ErrorQuery::default()
    };
    let scope = scope(&window, &viewer, Utc::now())?;
    let named = |source: &Source| source.word() == path.as_str();
    let source = Source::ALL.into_iter().find(named).ok_or_else(|| {
        ApiError::NotFound(format!(
            "there is no `{path}` to export; there are occurrences, requests and lines"
        ))
    })?;
    let tests = scope.predicate.iter().flat_map(|predicate| predicate.tests());
    if let Some(test) = tests.into_iter().find(|test| !source.has(&test.field)) {
        return Err(bad(format!("where: {path} have no `{}`", test.field.name())));
    }
    let Ok(turn) = AT_ONCE.acquire().await else {
        return Err(ApiError::Away);
    };
    let (database, begun) = (state.database.clone(), Instant::now());
    let page = state
        .on_main(async move { exporting::page(&database, source, &scope, after).await })
        .await?;
    let mut answer = HttpResponse::Ok();
    answer.content_type("application/x-ndjson");
    if let Some(next) = page.next {
        answer.insert_header((NEXT, next.to_string()));
        tokio::time::sleep(begun.elapsed().min(LONGEST_PAUSE)).await;
    }
    drop(turn);
    Ok(answer.body(page.lines))
}
