//! Why failures are one error.

use actix_web::{get, web};
use outcrop_api::{Counted, Explanation, Problem};
use outcrop_core::grouping::{Described, KeyPartKind, Tier};
use outcrop_store::{errors, occurrences};

use super::query::error_of;
use super::viewer::{Seen, Viewer};
use crate::api_error::ApiError;

/// Why the occurrences of an error are one error: what counted of the latest one, and what did not.
#[utoipa::path(operation_id = "explain_error", tag = "errors", params(("ref" = String, Path, description = "The \
    error's reference")), responses(
    (status = 200, body = Explanation),
    (status = 404, body = Problem, content_type = "application/problem+json"),
))]
#[get("/errors/{ref}/explanation")]
pub(super) async fn of_error(
    _viewer: Viewer,
    path: web::Path<String>,
    state: Seen,
) -> Result<web::Json<Explanation>, ApiError> {
    let reference = error_of(&state, &path).await?;
    let database = state.database.clone();
    let found = state
        .on_main(async move {
            let latest = errors::latest(&database, &[reference]).await?;
            match latest.get(&reference) {
                Some(latest) => occurrences::one(&database, latest.occurrence()).await,
                None => Ok(None),
            }
        })
        .await?;
    let found = found.ok_or_else(|| {
        ApiError::NotFound(format!(
            "no occurrence of {reference} is kept, so nothing can be explained"
        ))
    })?;
    let stack = found.stack.and_then(|stack| serde_json::from_value(stack).ok());
    let sent_type = found.attributes.get("exception.type").and_then(|sent| sent.as_str());
    let described = Described::again(&found.row.type_name, sent_type, &found.row.message, stack);
    let explanation = described.explain();
    let (tier, sentence) = match explanation.tier {
        Tier::OwnFrames => (
            "own_frames",
            "The service's own frames decide, over the whole chain of causes.",
        ),
        Tier::LibraryFrames => (
            "library_frames",
            "No frame is the service's own: the innermost library frame and the message decide.",
        ),
        Tier::Message => ("message", "There is no stack: type and message template decide."),
    };
    let counted = explanation
        .counted
        .into_iter()
        .filter_map(|part| {
            let kind = match part.kind {
                KeyPartKind::Structure => return None,
                KeyPartKind::Type => "type",
                KeyPartKind::Frame => "frame",
                KeyPartKind::Code => "code",
                KeyPartKind::Message => "message",
            };
            (!part.text.is_empty()).then(|| Counted {
                kind: kind.to_owned(),
                text: part.text,
            })
        })
        .collect();
    Ok(web::Json(Explanation {
        sentence: sentence.to_owned(),
        tier: tier.to_owned(),
        counted,
        ignored: explanation.ignored,
    }))
}
