//! News as they are committed, by server-sent events.

use std::sync::Arc;
use std::time::{Duration, Instant};

use actix_web::http::header::ContentEncoding;
use actix_web::{HttpRequest, HttpResponse, get, web};
use bytes::Bytes;
use futures_util::stream;
use outcrop_store::database::live::Committed;
use tokio::sync::broadcast;
use tokio::sync::broadcast::error::RecvError;

use super::viewer::{Viewer, may_still_read};
use crate::state::State;

/// How often a comment is sent on a quiet stream, so that proxies keep it open and a dead one is noticed.
const HEARTBEAT: Duration = Duration::from_secs(15);

/// How often it is looked whether the reader may still read: a token that is revoked is good for no longer than this.
const CHECKED_EVERY: Duration = Duration::from_millis(1_500);

/// Says what is committed, as server-sent events named `committed`: `{"batches","reports","services"}`.
#[utoipa::path(operation_id = "live", tag = "live", responses((status = 200, content_type = "text/event-stream",
    body = String)))]
#[get("/live")]
pub(super) async fn events(_viewer: Viewer, request: HttpRequest, state: web::Data<State>) -> HttpResponse {
    let reader = Reader {
        listener: state.live.subscribe(),
        state: state.into_inner(),
        request,
        checked: Instant::now(),
        is_first: true,
    };
    let events = stream::unfold(reader, |mut reader| async move {
        let event = reader.next().await?;
        Some((Ok::<Bytes, actix_web::Error>(event), reader))
    });
    HttpResponse::Ok()
        .content_type("text/event-stream")
        .insert_header(("cache-control", "no-store"))
        // Compressed, an event would wait for others.
        .insert_header(ContentEncoding::Identity)
        .streaming(events)
}

/// Whoever reads a stream.
struct Reader {
    listener: broadcast::Receiver<Committed>,
    state: Arc<State>,
    /// With the token or session, which may be revoked or end while the stream is open.
    request: HttpRequest,
    checked: Instant,
    is_first: bool,
}

impl Reader {
    async fn next(&mut self) -> Option<Bytes> {
        if std::mem::take(&mut self.is_first) {
            return Some(Bytes::from_static(b"retry: 2000\n\n"));
        }
        let quiet = tokio::time::sleep(HEARTBEAT);
        tokio::pin!(quiet);
        loop {
            if self.checked.elapsed() >= CHECKED_EVERY {
                if !may_still_read(&self.request).await {
                    return None;
                }
                self.checked = Instant::now();
            }
            tokio::select! {
                () = self.state.stop.cancelled() => return None,
                () = &mut quiet => return Some(Bytes::from_static(b": still here\n\n")),
                said = self.listener.recv() => return told(said),
                () = tokio::time::sleep(CHECKED_EVERY) => {}
            }
        }
    }
}

fn told(said: Result<Committed, RecvError>) -> Option<Bytes> {
    match said {
        Ok(committed) => Some(event(&committed)),
        // A slow reader has missed some: it is told that there is something, which is all it needs to read again.
        Err(RecvError::Lagged(_)) => Some(event(&Committed {
            batches: 1,
            ..Committed::default()
        })),
        Err(RecvError::Closed) => None,
    }
}

fn event(committed: &Committed) -> Bytes {
    Bytes::from(format!(
        "event: committed\ndata: {}\n\n",
        serde_json::to_string(committed).unwrap_or_default()
    ))
}
