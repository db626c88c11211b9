//! Whether the service lives and is ready.

use std::time::Duration;

use actix_web::http::StatusCode;
use actix_web::http::header::AUTHORIZATION;
use actix_web::{HttpRequest, HttpResponse, web};
use outcrop_api::Ready;
use outcrop_store::upkeep::space;

use crate::access::{bearer, digest_of};
use crate::api_error::problem;
use crate::clock::now;
use crate::meters::{Asked, Pool, Process};
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

/// The media type of `OpenMetrics` text (`OpenMetrics` 1.0, "Protocol Negotiation").
const OPEN_METRICS: &str = "application/openmetrics-text; version=1.0.0; charset=utf-8";
/// How long the database may take to say what it holds: whoever asks wants the rest all the same.
const PATIENCE: Duration = Duration::from_secs(3);

/// What this process counts of itself, as `OpenMetrics` text, for whoever has the key that is set. The key is checked
/// without the database, since this is read when the database is away.
pub(crate) async fn metrics(request: HttpRequest, state: web::Data<State>) -> HttpResponse {
    let Some(key) = state.settings.metrics_key else {
        let why = "no key is set: start the service with --metrics-key, and send it as a bearer token";
        return problem(StatusCode::NOT_FOUND, "no_metrics_key", why);
    };
    let presented = bearer(request.headers().get(AUTHORIZATION)).map(digest_of);
    if presented != Some(key.0) {
        let why = "send the key of --metrics-key in the header Authorization, as Bearer KEY";
        return problem(StatusCode::UNAUTHORIZED, "unauthorized", why);
    }
    let (database, policy) = (state.database.clone(), state.settings.policy.clone());
    let held = state.on_main(async move {
        let both = async { futures_util::try_join!(space::held(&database, &policy), space::room(&database)) };
        Ok(tokio::time::timeout(PATIENCE, both).await.ok().and_then(Result::ok))
    });
    let held = held.await.ok().flatten();
    let (stored, free_bytes) = held.map_or_else(
        || (vec![], None),
        |(held, room)| {
            let stored = held.into_iter().map(|held| (held.kind.name().to_owned(), held.bytes));
            (stored.collect(), room.free)
        },
    );
    let pools = state
        .database
        .pools()
        .map(|(name, open, idle)| Pool { name, open, idle });
    let asked = Asked {
        waiting: state.intake.line.waiting(),
        budget: state.intake.budget.standing(),
        jobs: state.health.all(now()),
        pools: pools.to_vec(),
        stored,
        free_bytes,
        process: Process::read(),
    };
    HttpResponse::Ok()
        .content_type(OPEN_METRICS)
        .body(state.intake.meters.written(&asked))
}
