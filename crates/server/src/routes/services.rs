use actix_web::{HttpResponse, get, post, web};
use chrono::Utc;
use outcrop_store::access::AccessError;
use outcrop_store::{access, timeline};

use super::viewer::Viewer;
use crate::access::Secret;
use crate::api_error::ApiError;
use crate::state::State;
use crate::wire::{MadeKey, NewKey, Problem, ServiceItem, ServiceList};

/// Lists the services that have sent anything.
#[utoipa::path(operation_id = "list_services", tag = "services", responses((status = 200, body = ServiceList)))]
#[get("/services")]
pub(super) async fn list(_viewer: Viewer, state: web::Data<State>) -> Result<web::Json<ServiceList>, ApiError> {
    let database = state.database.clone();
    let rows = state.on_main(async move { timeline::services(&database, Utc::now()).await }).await?;
    let items = rows
        .into_iter()
        .map(|row| ServiceItem {
            namespace: row.namespace,
            service: row.name,
            environments: row.environments,
            versions: row.versions,
            first_received_at: row.first_received_at,
            last_event_at: row.last_event_at,
            requests: row.requests,
            occurrences: row.occurrences,
        })
        .collect();
    Ok(web::Json(ServiceList { items }))
}

/// Makes a sender key; the secret is in this answer and nowhere else.
#[utoipa::path(operation_id = "make_key", tag = "services", request_body = NewKey, responses(
    (status = 201, body = MadeKey),
    (status = 403, body = Problem, content_type = "application/problem+json"),
    (status = 409, body = Problem, content_type = "application/problem+json"),
))]
#[post("/keys")]
pub(super) async fn make_key(viewer: Viewer, body: web::Json<NewKey>, state: web::Data<State>) -> Result<HttpResponse, ApiError> {
    viewer.must_engineer()?;
    let NewKey { name, services } = body.into_inner();
    let name = name.trim().to_owned();
    if name.is_empty() || name.len() > outcrop_core::telemetry::names::MAX_NAME_BYTES {
        return Err(ApiError::BadRequest("a key needs a name of 1 to 200 bytes, such as the service it is for".to_owned()));
    }
    let secret = Secret::random("outcrop-key");
    let (database, digest, made) = (state.database.clone(), secret.digest(), name.clone());
    let done = state
        .on_main(async move {
            match access::add_key(&database, &name, &services, digest).await {
                Ok(()) => Ok(true),
                Err(AccessError::Store(error)) => Err(error),
                Err(AccessError::Exists(_) | AccessError::Missing(_)) => Ok(false),
            }
        })
        .await?;
    if !done {
        return Err(ApiError::Conflict(format!("there is a key `{made}` already; take another name")));
    }
    Ok(HttpResponse::Created().json(MadeKey { name: made, key: secret.expose().to_owned() }))
}
