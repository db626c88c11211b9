//! What tokens of programs are good for, and where that is.

use actix_web::HttpRequest;
use actix_web::http::header::HOST;

use crate::state::State;

/// The one thing that a program's access token is good for.
pub(in crate::routes) const RESOURCE: &str = "/mcp";
/// How an access token begins.
pub(in crate::routes) const ACCESS_PREFIX: &str = "outcrop-access-";

/// The installation's own address as programs know it: what it was told, else what it was asked by.
pub(in crate::routes) fn own_address(request: &HttpRequest, state: &State) -> String {
    state.settings.public_url.clone().unwrap_or_else(|| {
        let scheme = if state.settings.tls.is_some() { "https" } else { "http" };
        format!("{scheme}://{}", host(request))
    })
}

/// The host that a request names itself. Headers of proxies are not asked: anybody may send them, and a program that was
/// told another address would sign in there.
fn host(request: &HttpRequest) -> String {
    let named = request.headers().get(HOST).and_then(|host| host.to_str().ok());
    let of_address = || request.uri().authority().map(ToString::to_string);
    named.map(str::to_owned).or_else(of_address).unwrap_or_default()
}
