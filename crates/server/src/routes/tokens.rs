//! One's own tokens, and the record of changes of the set-up.

use actix_web::{HttpRequest, HttpResponse, delete, get, post, web};
use chrono::{TimeDelta, Utc};
use outcrop_api::{AuditItem, AuditPage, AuditQuery, MadeToken, NewToken, Problem, TokenItem, TokenList};
use outcrop_store::people::{AccessError, audit, tokens};

use super::input::Body;
use super::query::{cursor, limit, read_cursor};
use super::viewer::{Seen, Viewer};
use crate::access::Secret;
use crate::api_error::ApiError;
use crate::routes::parameters::{bad, parameters};

/// Longest name of a token, in bytes.
const LONGEST: usize = 200;
/// Longest life of a token that has an end, in days.
const MAX_DAYS: u32 = 3_650;

/// Lists one's own tokens, without their secrets.
#[utoipa::path(operation_id = "list_tokens", tag = "session", responses((status = 200, body = TokenList)))]
#[get("/tokens")]
pub(super) async fn list_tokens(viewer: Viewer, state: Seen) -> Result<web::Json<TokenList>, ApiError> {
    let database = state.database.clone();
    let rows = state
        .on_main(async move { tokens::list(&database, Some(&viewer.email)).await })
        .await?;
    let items = rows
        .into_iter()
        .map(|row| TokenItem {
            id: row.id,
            name: row.name,
            pipeline: row.is_pipeline,
            created_at: row.created_at,
            expires_at: row.expires_at,
            last_used_at: row.last_used_at,
            revoked_at: row.revoked_at,
        })
        .collect();
    Ok(web::Json(TokenList { items }))
}

/// Makes a token of one's own; it is in this answer and nowhere else.
#[utoipa::path(operation_id = "make_token", tag = "session", request_body = NewToken, responses(
    (status = 201, body = MadeToken),
    (status = 400, body = Problem, content_type = "application/problem+json"),
))]
#[post("/tokens")]
pub(super) async fn make_token(viewer: Viewer, body: Body<NewToken>, state: Seen) -> Result<HttpResponse, ApiError> {
    let NewToken { name, pipeline, days } = body.into_inner();
    if name.len() > LONGEST || days.is_some_and(|days| !(1..=MAX_DAYS).contains(&days)) {
        return Err(bad(format!(
            "a token's name is at most {LONGEST} bytes long, its life 1 to {MAX_DAYS} days"
        )));
    }
    let expires_at = days.map(|days| Utc::now() + TimeDelta::days(days.into()));
    let token = tokens::NewToken {
        name: name.trim().to_owned(),
        is_pipeline: pipeline,
        expires_at,
    };
    let secret = Secret::random("outcrop-token");
    let (database, digest) = (state.database.clone(), secret.digest());
    let made = state
        .on_main(async move {
            match tokens::add(&database, &viewer.email, digest, &token).await {
                Ok(id) => audit::note(&database, &viewer.email, "made token", &token.name)
                    .await
                    .map(|()| Some(id)),
                Err(AccessError::Store(error)) => Err(error),
                Err(_) => Ok(None),
            }
        })
        .await?;
    let id = made.ok_or(ApiError::UnknownToken)?;
    Ok(HttpResponse::Created().json(MadeToken {
        id,
        token: secret.expose().to_owned(),
    }))
}

/// Revokes one of one's own tokens: its next request is refused, on all instances.
#[utoipa::path(operation_id = "revoke_token", tag = "session", params(("id" = i32, Path, description = "Its \
    number")), responses(
    (status = 204),
    (status = 404, body = Problem, content_type = "application/problem+json"),
))]
#[delete("/tokens/{id}")]
pub(super) async fn revoke_token(viewer: Viewer, path: web::Path<i32>, state: Seen) -> Result<HttpResponse, ApiError> {
    let (database, id) = (state.database.clone(), path.into_inner());
    let revoked = state
        .on_main(async move {
            let revoked = tokens::revoke(&database, id, Some(&viewer.email)).await?;
            if let Some((_, name)) = &revoked {
                audit::note(&database, &viewer.email, "revoked token", name).await?;
            }
            Ok(revoked)
        })
        .await?;
    if revoked.is_some() {
        Ok(HttpResponse::NoContent().finish())
    } else {
        Err(ApiError::NotFound(format!("you have no token {id} in use")))
    }
}

/// Lists who changed what in the set-up: members, tokens, keys, discarding, scrubbing, settings. For admins.
#[utoipa::path(operation_id = "list_audit", tag = "session", params(AuditQuery), responses(
    (status = 200, body = AuditPage),
    (status = 400, body = Problem, content_type = "application/problem+json"),
))]
#[get("/audit")]
pub(super) async fn list_audit(
    viewer: Viewer,
    request: HttpRequest,
    state: Seen,
) -> Result<web::Json<AuditPage>, ApiError> {
    viewer.must_admin()?;
    let asked: AuditQuery = parameters(request.query_string())?;
    let limit = limit(asked.limit)?;
    let before = asked
        .cursor
        .as_deref()
        .filter(|text| !text.is_empty())
        .map(read_cursor)
        .transpose()?;
    let before: Option<i64> = before
        .map(|text| {
            text.parse()
                .map_err(|_no_number| bad("the cursor is none of this list"))
        })
        .transpose()?;
    let database = state.database.clone();
    let most = i64::try_from(limit).unwrap_or(i64::MAX);
    let mut rows = state
        .on_main(async move { audit::list(&database, before, most + 1).await })
        .await?;
    let next = if rows.len() > limit {
        rows.get(limit - 1).map(|row| cursor(&row.id.to_string()))
    } else {
        None
    };
    rows.truncate(limit);
    let items = rows
        .into_iter()
        .map(|row| AuditItem {
            at: row.at,
            by: row.by,
            did: row.did,
            subject: row.subject,
        })
        .collect();
    Ok(web::Json(AuditPage { items, next }))
}
