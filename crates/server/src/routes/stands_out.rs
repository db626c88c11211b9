//! What stands out of the occurrences of an error.

use actix_web::{HttpRequest, get, web};
use chrono::Utc;
use outcrop_api::{AttributeValues, Common, ErrorQuery, Problem, StandsOut, ValueCount};
use outcrop_core::stands_out::{Finding, LEAST_OCCURRENCES, LEAST_REQUESTS, gap_in_words};
use outcrop_store::occurrences::stands_out;

use super::query::{error_of, scope};
use super::viewer::{Seen, Viewer};
use crate::api_error::ApiError;
use crate::routes::parameters::parameters;

/// What stands out: attribute values over-represented in an error's occurrences against its service's requests.
#[utoipa::path(operation_id = "error_stands_out", tag = "errors", params(("ref" = String, Path, description = "The \
    error's reference"), ErrorQuery), responses(
    (status = 200, body = Common),
    (status = 400, body = Problem, content_type = "application/problem+json"),
))]
#[get("/errors/{ref}/stands-out")]
pub(super) async fn of_error(
    viewer: Viewer,
    path: web::Path<String>,
    request: HttpRequest,
    state: Seen,
) -> Result<web::Json<Common>, ApiError> {
    let query: ErrorQuery = parameters(request.query_string())?;
    let reference = error_of(&state, &path).await?;
    let scope = scope(&query, &viewer, Utc::now())?;
    let database = state.database.clone();
    let common = state
        .on_main(async move { stands_out::of_error(&database, reference, &scope).await })
        .await?;
    #[expect(clippy::cast_precision_loss, reason = "a sample of some thousands")]
    let not_compared = if common.occurrences < LEAST_OCCURRENCES {
        Some(format!(
            "with fewer than {LEAST_OCCURRENCES} occurrences nothing can stand out"
        ))
    } else if (common.requests as f64) < LEAST_REQUESTS {
        Some(format!(
            "only {} requests of this service were sampled in this window; {LEAST_REQUESTS} are needed to compare with",
            common.requests
        ))
    } else {
        None
    };
    let total = common.occurrences;
    let stands_out = common
        .findings
        .into_iter()
        .map(|finding| item(finding, total))
        .collect();
    let attributes = common
        .values
        .into_iter()
        .map(|attribute| AttributeValues {
            kinds: attribute.kinds,
            values: attribute
                .top
                .into_iter()
                .map(|(value, count)| ValueCount {
                    predicate: predicate(&attribute.name, &value),
                    value,
                    count,
                })
                .collect(),
            name: attribute.name,
        })
        .collect();
    Ok(web::Json(Common {
        occurrences: total,
        requests: common.requests,
        stands_out,
        not_compared,
        rhythm: common.every_minutes.map(gap_in_words),
        attributes,
    }))
}

/// What stands out of so many, as it is sent.
pub(super) fn item(finding: Finding, total: u64) -> StandsOut {
    StandsOut {
        sentence: finding.sentence(total),
        predicate: predicate(&finding.name, &finding.value),
        name: finding.name,
        value: finding.value,
        count: finding.count,
        share: finding.share,
        usual_share: finding.usual,
        ratio_at_least: finding.ratio_at_least,
    }
}

/// A predicate for a value; parts of the time have none.
fn predicate(name: &str, value: &str) -> Option<String> {
    (!name.contains(' ')).then(|| format!("{name} = {}", outcrop_core::query::quoted(value)))
}
