//! The endpoint that a request came to.

use crate::telemetry::names::{MAX_NAME_BYTES, http_status};
use crate::telemetry::{Span, SpanKind};

/// What stands for the route of requests that none took.
pub const NO_ROUTE: &str = "(no route)";

/// Whether no route of the service took a request: it answered that there is nothing, or not by
/// that method, and the span's name is the method alone or holds the path as it was asked for.
pub(crate) fn is_unrouted(span: &Span, method: &str) -> bool {
    let asked = span
        .attributes
        .text(&["url.path", "http.target"])
        .and_then(|path| path.split('?').next());
    let is_named_for_it = span.name == method || asked.is_some_and(|path| span.name.ends_with(path));
    is_named_for_it && span.kind == SpanKind::Server && matches!(http_status(&span.attributes), Some(404 | 405))
}

/// The endpoint of an entry span: method and route, RPC method, destination or the span's own name.
#[must_use]
pub fn endpoint(span: &Span) -> String {
    let attributes = &span.attributes;
    let name = if let Some(route) = attributes.text(&["http.route"]) {
        match attributes.text(&["http.request.method", "http.method"]) {
            Some(method) => format!("{method} {route}"),
            None => route.to_owned(),
        }
    } else if let Some(method) = attributes.text(&["rpc.method"]) {
        match attributes.text(&["rpc.service"]) {
            Some(service) => format!("{service}/{method}"),
            None => method.to_owned(),
        }
    } else if let Some(method) = attributes
        .text(&["http.request.method", "http.method"])
        .filter(|method| is_unrouted(span, method))
    {
        // What scanners ask for would be an endpoint for each path.
        format!("{method} {NO_ROUTE}")
    } else {
        span.name.clone()
    };
    let name = crate::scrub::text(&name).unwrap_or(name);
    let name = crate::text::prefix(name.trim(), MAX_NAME_BYTES);
    if name.is_empty() {
        "(unnamed)".to_owned()
    } else {
        name.to_owned()
    }
}
