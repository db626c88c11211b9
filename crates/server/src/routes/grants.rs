//! A member lets a program in, or not; and ends that again.

use actix_web::{HttpRequest, HttpResponse, delete, get, post, web};
use chrono::Utc;
use outcrop_api::{Consent, ConsentAsked, ConsentQuery, GrantItem, GrantList, Problem, SentBack};
use outcrop_store::people::{AccessError, audit, grants};

use super::input::Body;
use super::oauth::asked::{self, Asked, Refused};
use super::oauth::own::own_address;
use super::parameters::{bad, parameters};
use super::viewer::{Seen, Viewer};
use crate::access::Secret;
use crate::api_error::ApiError;
use crate::state::State;

/// What a program that calls itself nothing is called.
const NAMELESS: &str = "a program without a name";

fn named(client: &str) -> &str {
    if client.is_empty() { NAMELESS } else { client }
}

/// Only a person before a browser lets a program in: a token that could would make more of itself.
fn must_be_here(viewer: &Viewer) -> Result<(), ApiError> {
    if viewer.session.is_some() {
        Ok(())
    } else {
        Err(ApiError::Forbidden(
            "sign in to let a program in; a token cannot".to_owned(),
        ))
    }
}

/// What a program asks for; where it is sent at once, where that is not given.
async fn asked(request: &HttpRequest, state: &State, sent: &str) -> Result<Result<Asked, String>, ApiError> {
    match asked::read(state, sent, &own_address(request, state)).await {
        Ok(asked) => Ok(Ok(asked)),
        Err(Refused::There(location)) => Ok(Err(location)),
        Err(Refused::Here(error)) => Err(error),
    }
}

/// Says which program asks, and for what. Signed in by a browser alone.
#[utoipa::path(operation_id = "show_consent", tag = "session", params(ConsentQuery), responses(
    (status = 200, body = ConsentAsked),
    (status = 400, body = Problem, content_type = "application/problem+json"),
    (status = 403, body = Problem, content_type = "application/problem+json"),
))]
#[get("/consent")]
pub(super) async fn show_consent(
    viewer: Viewer,
    request: HttpRequest,
    state: web::Data<State>,
) -> Result<web::Json<ConsentAsked>, ApiError> {
    must_be_here(&viewer)?;
    let query: ConsentQuery = parameters(request.query_string())?;
    let asked = asked(&request, &state, &query.request)
        .await?
        .map_err(|_location| bad("the program asks for something that is not given here"))?;
    Ok(web::Json(ConsentAsked {
        client: named(&asked.client.name).to_owned(),
        back_to: asked.place(),
        role: viewer.role.word().to_owned(),
        email: viewer.email,
    }))
}

/// Lets a program in, or not: says where the browser goes next.
#[utoipa::path(operation_id = "give_consent", tag = "session", request_body = Consent, responses(
    (status = 200, body = SentBack),
    (status = 400, body = Problem, content_type = "application/problem+json"),
    (status = 403, body = Problem, content_type = "application/problem+json"),
))]
#[post("/consent")]
pub(super) async fn give_consent(
    viewer: Viewer,
    request: HttpRequest,
    body: Body<Consent>,
    state: web::Data<State>,
) -> Result<web::Json<SentBack>, ApiError> {
    must_be_here(&viewer)?;
    let asked = match asked(&request, &state, &body.request).await? {
        Ok(asked) => asked,
        Err(location) => return Ok(web::Json(SentBack { location })),
    };
    if !body.allow {
        let location = asked.with_error("access_denied", "the member did not let the program in");
        return Ok(web::Json(SentBack { location }));
    }
    let code = Secret::random("outcrop-code");
    let location = asked.with_code(code.expose());
    let (database, digest) = (state.database.clone(), code.digest());
    let let_in = state
        .on_main(async move {
            let allowed = grants::Allowed {
                email: &viewer.email,
                code: digest,
                challenge: &asked.challenge,
                redirect: &asked.redirect,
            };
            match grants::allow(&database, &asked.client, &allowed, Utc::now()).await {
                Ok(()) => audit::note(&database, &viewer.email, "let in", named(&asked.client.name))
                    .await
                    .map(|()| true),
                Err(AccessError::Store(error)) => Err(error),
                Err(_) => Ok(false),
            }
        })
        .await?;
    if let_in {
        Ok(web::Json(SentBack { location }))
    } else {
        Err(ApiError::UnknownToken)
    }
}

/// Lists the programs that one lets act in one's name.
#[utoipa::path(operation_id = "list_grants", tag = "session", responses((status = 200, body = GrantList)))]
#[get("/grants")]
pub(super) async fn list_grants(viewer: Viewer, state: Seen) -> Result<web::Json<GrantList>, ApiError> {
    let database = state.database.clone();
    let rows = state
        .on_main(async move { grants::list(&database, &viewer.email, Utc::now()).await })
        .await?;
    let items = rows
        .into_iter()
        .map(|row| GrantItem {
            id: row.id,
            client: named(&row.client).to_owned(),
            given_at: row.given_at,
            last_used_at: row.last_used_at,
            expires_at: row.expires_at,
        })
        .collect();
    Ok(web::Json(GrantList { items }))
}

/// Shuts a program out again: its next request is refused, on all instances.
#[utoipa::path(operation_id = "end_grant", tag = "session", params(("id" = i32, Path, description = "Its \
    number")), responses(
    (status = 204),
    (status = 404, body = Problem, content_type = "application/problem+json"),
))]
#[delete("/grants/{id}")]
pub(super) async fn end_grant(viewer: Viewer, path: web::Path<i32>, state: Seen) -> Result<HttpResponse, ApiError> {
    let (database, id) = (state.database.clone(), path.into_inner());
    let ended = state
        .on_main(async move {
            let ended = grants::end(&database, id, &viewer.email).await?;
            if let Some(client) = &ended {
                audit::note(&database, &viewer.email, "shut out", named(client)).await?;
            }
            Ok(ended)
        })
        .await?;
    if ended.is_some() {
        Ok(HttpResponse::NoContent().finish())
    } else {
        Err(ApiError::NotFound(format!("you let no program in under {id}")))
    }
}
