//! Whether the service lives and is ready.

use actix_web::http::StatusCode;
use actix_web::{HttpResponse, web};
use outcrop_api::Ready;

use crate::api_error::problem;
use crate::clock::now;
use crate::state::State;
use crate::supervision::Trouble;

/// The process is alive.
pub(crate) async fn alive() -> HttpResponse {
    HttpResponse::Ok()
        .content_type("text/plain; charset=utf-8")
        .body("alive\n")
}

/// The database answers, its schema is there, and the writers run. Jobs that fail or are late are
/// named, and leave the service ready: the intake must stay in a proxy's rotation.
pub(crate) async fn ready(state: web::Data<State>) -> HttpResponse {
    if let Some(why) = state.health.not_ready(now()) {
        return problem(StatusCode::SERVICE_UNAVAILABLE, "writer_down", why);
    }
    let database = state.database.clone();
    match state.on_main(async move { database.ping().await }).await {
        Ok(()) => HttpResponse::Ok().json(Ready {
            ready: true,
            troubles: state.health.troubles(now()).iter().map(Trouble::to_item).collect(),
        }),
        Err(error) => {
            tracing::warn!(%error, "not ready");
            problem(
                StatusCode::SERVICE_UNAVAILABLE,
                "database_away",
                "the database does not answer",
            )
        }
    }
}
