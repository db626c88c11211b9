//! Who sent a request.

use actix_web::HttpRequest;
use actix_web::http::header::USER_AGENT;

use crate::intake::Origin;
use crate::state::State;

/// Who sent a request.
pub(super) fn origin(request: &HttpRequest, state: &State) -> Origin {
    let agent = request.headers().get(USER_AGENT).and_then(|agent| agent.to_str().ok());
    let client = crate::proxies::client(
        request.peer_addr().map(|peer| peer.ip()),
        request.headers(),
        &state.settings.trusted_proxies,
    );
    Origin {
        path: request.path().to_owned(),
        agent: agent.unwrap_or_default().to_owned(),
        address: client.map(|address| address.to_string()).unwrap_or_default(),
    }
}
