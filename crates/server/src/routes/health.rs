use actix_web::http::StatusCode;
use actix_web::{HttpResponse, web};

use crate::api_error::problem;
use crate::state::State;

/// The process is alive.
pub(crate) async fn alive() -> HttpResponse {
    HttpResponse::Ok().content_type("text/plain; charset=utf-8").body("alive\n")
}

/// The database answers and its schema is there.
pub(crate) async fn ready(state: web::Data<State>) -> HttpResponse {
    let database = state.database.clone();
    match state.on_main(async move { database.ping().await }).await {
        Ok(()) => HttpResponse::Ok().content_type("text/plain; charset=utf-8").body("ready\n"),
        Err(error) => {
            tracing::warn!(%error, "not ready");
            problem(StatusCode::SERVICE_UNAVAILABLE, "database_away", "the database does not answer")
        }
    }
}
