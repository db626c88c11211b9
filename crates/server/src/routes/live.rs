//! News as they are committed, by server-sent events.

use std::collections::BTreeSet;
use std::time::{Duration, Instant};

use actix_web::http::header::ContentEncoding;
use actix_web::{HttpRequest, HttpResponse, get};
use bytes::Bytes;
use futures_util::stream;
use outcrop_store::database::live::Committed;
use tokio::sync::broadcast;
use tokio::sync::broadcast::error::RecvError;

use super::viewer::{Reads, Seen, Viewer, still_reads};
use crate::api_error::ApiError;
use crate::state::State;

/// How often a comment is sent on a quiet stream, so that proxies keep it open and a dead one is noticed.
const HEARTBEAT: Duration = Duration::from_secs(15);

/// How often it is looked whether the reader may still read: a token that is revoked is good for no longer than this.
const CHECKED_EVERY: Duration = Duration::from_millis(1_500);

/// Says what is committed, as server-sent events named `committed`: `{"batches","reports","services"}`.
#[utoipa::path(operation_id = "live", tag = "live", responses((status = 200, content_type = "text/event-stream",
    body = String)))]
#[get("/live")]
pub(super) async fn events(_viewer: Viewer, request: HttpRequest, state: Seen) -> Result<HttpResponse, ApiError> {
    // Who may read what must be known before anything is told.
    let Reads::All(closed) = still_reads(&request).await else {
        return Err(ApiError::Away);
    };
    let reader = Reader {
        listener: state.live.subscribe(),
        closed,
        state: State::clone(&state),
        request,
        checked: Instant::now(),
        is_first: true,
    };
    let events = stream::unfold(reader, |mut reader| async move {
        let event = reader.next().await?;
        Some((Ok::<Bytes, actix_web::Error>(event), reader))
    });
    Ok(HttpResponse::Ok()
        .content_type("text/event-stream")
        .insert_header(("cache-control", "no-store"))
        // Compressed, an event would wait for others.
        .insert_header(ContentEncoding::Identity)
        .streaming(events))
}

/// Whoever reads a stream.
struct Reader {
    listener: broadcast::Receiver<Committed>,
    state: State,
    /// Names of services that are closed to whoever reads.
    closed: BTreeSet<String>,
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
                match still_reads(&self.request).await {
                    Reads::No => return None,
                    Reads::All(closed) => self.closed = closed,
                    Reads::AsBefore => {}
                }
                self.checked = Instant::now();
            }
            tokio::select! {
                () = self.state.stop.cancelled() => return None,
                () = &mut quiet => return Some(Bytes::from_static(b": still here\n\n")),
                said = self.listener.recv() => match said {
                    Ok(committed) => {
                        if let Some(committed) = open(committed, &self.closed) {
                            return Some(event(&committed));
                        }
                    }
                    // A slow reader has missed some: it is told that there is something, which is all it needs to read
                    // again.
                    Err(RecvError::Lagged(_)) => return Some(event(&something())),
                    Err(RecvError::Closed) => return None,
                },
                () = tokio::time::sleep(CHECKED_EVERY) => {}
            }
        }
    }
}

const fn something() -> Committed {
    Committed {
        batches: 1,
        reports: 0,
        services: vec![],
    }
}

/// What may be told of what was committed: of closed services nothing, and no count that holds theirs.
fn open(committed: Committed, closed: &BTreeSet<String>) -> Option<Committed> {
    let all = committed.services.len();
    let services: Vec<String> = (committed.services.iter())
        .filter(|name| !closed.contains(*name))
        .cloned()
        .collect();
    if services.len() == all {
        return Some(committed);
    }
    (!services.is_empty()).then(|| Committed {
        services,
        ..something()
    })
}

fn event(committed: &Committed) -> Bytes {
    Bytes::from(format!(
        "event: committed\ndata: {}\n\n",
        serde_json::to_string(committed).unwrap_or_default()
    ))
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::all_open(&["fares"], &[], Some((3, &["fares"][..])))]
    #[case::none_named(&[], &["ledger"], Some((3, &[][..])))]
    #[case::one_closed(&["fares", "ledger"], &["ledger"], Some((1, &["fares"][..])))]
    #[case::all_closed(&["ledger"], &["ledger"], None)]
    fn of_closed_services_nothing_is_told(
        #[case] services: &[&str],
        #[case] closed: &[&str],
        #[case] told: Option<(u64, &[&str])>,
    ) {
        let names = |names: &[&str]| names.iter().map(|name| (*name).to_owned()).collect::<Vec<_>>();
        let committed = Committed {
            batches: 3,
            reports: 2,
            services: names(services),
        };
        let closed = names(closed).into_iter().collect();
        let told = told.map(|(batches, services)| (batches, names(services)));
        assert_eq!(
            open(committed, &closed).map(|committed| (committed.batches, committed.services)),
            told
        );
    }
}
