use actix_web::{get, web};
use outcrop_core::Reference;
use outcrop_core::grouping::{Described, PartKind, Tier};
use outcrop_store::{errors, occurrences};

use super::query::bad;
use super::viewer::Viewer;
use crate::api_error::ApiError;
use crate::state::State;
use crate::wire::{Counted, Explanation, Problem};

/// Why the occurrences of an error are one error: what counted of the latest one, and what did not.
#[utoipa::path(operation_id = "explain_error", tag = "errors", params(("ref" = String, Path, description = "The error's reference")), responses(
    (status = 200, body = Explanation),
    (status = 404, body = Problem, content_type = "application/problem+json"),
))]
#[get("/errors/{ref}/explanation")]
pub(super) async fn of_error(
    _viewer: Viewer,
    path: web::Path<String>,
    state: web::Data<State>,
) -> Result<web::Json<Explanation>, ApiError> {
    let reference: Reference = path.parse().map_err(|error: outcrop_core::reference::NotAReference| bad(error.to_string()))?;
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
    let found = found.ok_or_else(|| ApiError::NotFound(format!("no occurrence of {reference} is kept, so nothing can be explained")))?;
    let stack = found.stack.and_then(|stack| serde_json::from_value(stack).ok());
    // The stack is stored read: what was sent of type and message is what the row has.
    let described = Described {
        type_name: found.row.type_name.as_str().into(),
        sent_type: "",
        message: found.row.message.as_str().into(),
        stack,
        unread_message: "",
    };
    let explanation = described.explain();
    let (tier, sentence) = match explanation.tier {
        Tier::OwnFrames => ("own_frames", "The service's own frames decide, over the whole chain of causes."),
        Tier::LibraryFrames => ("library_frames", "No frame is the service's own: the innermost library frame and the message decide."),
        Tier::Message => ("message", "There is no stack: type and message template decide."),
    };
    let counted = explanation
        .counted
        .into_iter()
        .filter_map(|part| {
            let kind = match part.kind {
                PartKind::Structure => return None,
                PartKind::Type => "type",
                PartKind::Frame => "frame",
                PartKind::Code => "code",
                PartKind::Message => "message",
            };
            (!part.text.is_empty()).then(|| Counted { kind: kind.to_owned(), text: part.text })
        })
        .collect();
    Ok(web::Json(Explanation { sentence: sentence.to_owned(), tier: tier.to_owned(), counted, ignored: explanation.ignored }))
}
