//! Who owns what.

use actix_web::{HttpResponse, delete, get, post, web};
use chrono::Utc;
use outcrop_api::{NewOwnerRule, OwnerList, Problem};
use outcrop_core::ownership::Rule;
use outcrop_store::people::owners as store;

use super::input::Body;
use super::query::{must_be_known, shared_predicate};
use super::viewer::{Seen, Viewer};
use crate::answers::owners;
use crate::api_error::ApiError;
use crate::routes::parameters::bad;

/// Longest name, pattern and predicate, in bytes.
const LONGEST: usize = 2_000;

/// Lists rules, and what they come to: who owns which service, and which errors of the last day nobody owns.
#[utoipa::path(operation_id = "list_owners", tag = "people", responses((status = 200, body = OwnerList)))]
#[get("/owners")]
pub(super) async fn list_owners(_viewer: Viewer, state: Seen) -> Result<web::Json<OwnerList>, ApiError> {
    let database = state.database.clone();
    Ok(web::Json(
        state
            .on_main(async move { owners::all(&database, Utc::now()).await })
            .await?,
    ))
}

/// Makes a rule that says who owns something.
#[utoipa::path(operation_id = "make_owner_rule", tag = "people", request_body = NewOwnerRule, responses(
    (status = 204),
    (status = 400, body = Problem, content_type = "application/problem+json"),
    (status = 403, body = Problem, content_type = "application/problem+json"),
    (status = 404, body = Problem, content_type = "application/problem+json", description = "No team or member is \
        called so"),
))]
#[post("/owners")]
pub(super) async fn make_owner_rule(
    viewer: Viewer,
    body: Body<NewOwnerRule>,
    state: Seen,
) -> Result<HttpResponse, ApiError> {
    viewer.must_engineer()?;
    let asked = body.into_inner();
    let given = |text: Option<String>| -> Result<Option<String>, ApiError> {
        let text = text.map(|text| text.trim().to_owned()).filter(|text| !text.is_empty());
        if text.as_ref().is_some_and(|text| text.len() > LONGEST) {
            return Err(bad(format!("what a rule names has at most {LONGEST} bytes")));
        }
        Ok(text)
    };
    let (service, namespace) = (given(asked.service)?, given(asked.namespace)?);
    let (path, predicate) = (given(asked.path)?, given(asked.predicate)?);
    if let Some(text) = &predicate {
        shared_predicate(text)?;
        must_be_known(&state, text).await?;
    }
    let (database, name) = (state.database.clone(), asked.owner.trim().to_owned());
    let named = name.clone();
    let known = state
        .on_main(async move { Ok(owners::Directory::read(&database).await?.knows(&named)) })
        .await?;
    let owner = known.ok_or_else(|| ApiError::NotFound(format!("no team or member is called `{name}`")))?;
    let rule = Rule {
        id: 0,
        owner,
        service,
        namespace,
        path,
        predicate,
        hands_over: asked.hand_over,
        makes_ticket: asked.make_ticket,
    };
    let subject = format!("{}: {}", rule.owner, rule.about());
    let (database, by) = (state.database.clone(), viewer.email.clone());
    let made = state
        .on_main(async move { store::make(&database, &rule, &by, Utc::now()).await })
        .await?;
    if made.is_none() {
        let most = store::MAX_RULES;
        return Err(bad(format!("there are {most} rules already; remove one first")));
    }
    state.note_change(&viewer.email, "made owner", &subject).await?;
    Ok(HttpResponse::NoContent().finish())
}

/// Removes a rule.
#[utoipa::path(operation_id = "remove_owner_rule", tag = "people", params(("id" = i32, Path, description = "The \
    rule's number")), responses(
    (status = 204),
    (status = 403, body = Problem, content_type = "application/problem+json"),
    (status = 404, body = Problem, content_type = "application/problem+json"),
))]
#[delete("/owners/{id}")]
pub(super) async fn remove_owner_rule(
    viewer: Viewer,
    path: web::Path<i32>,
    state: Seen,
) -> Result<HttpResponse, ApiError> {
    viewer.must_engineer()?;
    let (database, id) = (state.database.clone(), path.into_inner());
    if !state.on_main(async move { store::remove(&database, id).await }).await? {
        return Err(ApiError::NotFound(format!("there is no rule {id}")));
    }
    state
        .note_change(&viewer.email, "removed owner rule", &id.to_string())
        .await?;
    Ok(HttpResponse::NoContent().finish())
}
