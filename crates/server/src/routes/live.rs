use actix_web::{HttpResponse, get, web};
use bytes::Bytes;
use futures_util::stream;
use outcrop_store::live::Committed;
use tokio::sync::broadcast::{self, error::RecvError};

use super::viewer::Viewer;
use crate::state::State;

/// How often a comment is sent on a quiet stream, so that proxies keep it open and a dead one is noticed.
const HEARTBEAT: std::time::Duration = std::time::Duration::from_secs(15);

/// Says what is committed, as server-sent events named `committed`: `{"batches","reports","services"}`.
#[utoipa::path(operation_id = "live", tag = "live", responses((status = 200, content_type = "text/event-stream", body = String)))]
#[get("/live")]
pub(super) async fn events(_viewer: Viewer, state: web::Data<State>) -> HttpResponse {
    let listener = (state.live.subscribe(), state.stop.clone(), true);
    let events = stream::unfold(listener, |(mut listener, stop, is_first)| async move {
        if is_first {
            return Some((Ok::<Bytes, actix_web::Error>(Bytes::from_static(b"retry: 2000\n\n")), (listener, stop, false)));
        }
        let event = tokio::select! {
            () = stop.cancelled() => return None,
            event = next(&mut listener) => event?,
        };
        Some((Ok(event), (listener, stop, false)))
    });
    HttpResponse::Ok().content_type("text/event-stream").insert_header(("cache-control", "no-store")).streaming(events)
}

async fn next(listener: &mut broadcast::Receiver<Committed>) -> Option<Bytes> {
    match tokio::time::timeout(HEARTBEAT, listener.recv()).await {
        Err(_) => Some(Bytes::from_static(b": still here\n\n")),
        Ok(Ok(committed)) => Some(event(&committed)),
        // A slow reader has missed some: it is told that there is something, which is all it needs to read again.
        Ok(Err(RecvError::Lagged(_))) => Some(event(&Committed { batches: 1, ..Committed::default() })),
        Ok(Err(RecvError::Closed)) => None,
    }
}

fn event(committed: &Committed) -> Bytes {
    Bytes::from(format!("event: committed\ndata: {}\n\n", serde_json::to_string(committed).unwrap_or_default()))
}
