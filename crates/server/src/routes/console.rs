//! The console's assets, embedded in the binary.

use actix_web::http::header::{CACHE_CONTROL, CONTENT_SECURITY_POLICY, ETAG, IF_NONE_MATCH};
use actix_web::http::{Method, StatusCode};
use actix_web::{HttpRequest, HttpResponse, web};
use rust_embed::RustEmbed;

use super::nothing_here;
use crate::api_error::problem;
use crate::state::State;

#[derive(RustEmbed)]
#[folder = "../../console/dist"]
struct Assets;

/// Nothing from elsewhere, no inline script; React sets style attributes, so inline styles are let through.
const POLICY: &str = "default-src 'none'; script-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; \
    connect-src 'self'; \
                      font-src 'self'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'";

/// A file of the console, or its page for every address within it.
pub(super) async fn page(request: HttpRequest, state: web::Data<State>) -> HttpResponse {
    if request.method() != Method::GET && request.method() != Method::HEAD {
        return super::otlp::elsewhere(request, state).await;
    }
    let path = request.path().trim_start_matches('/');
    if path.starts_with("api/") || path.starts_with("v1/") {
        return nothing_here().await;
    }
    if let Some(asset) = Assets::get(path).filter(|_| !path.is_empty()) {
        // Names of built files hold a hash of their content.
        return file(&request, &asset, "public, max-age=31536000, immutable");
    }
    // Files lie in the root or in assets/; a page's address may hold a version's dots.
    let is_file = path.starts_with("assets/") || path.contains('.') && !path.contains('/');
    match Assets::get("index.html") {
        Some(asset) if !is_file => file(&request, &asset, "no-cache"),
        Some(_) => nothing_here().await,
        None => problem(
            StatusCode::NOT_FOUND,
            "no_console",
            "this binary was built without the console; script/console builds it, then build again",
        ),
    }
}

fn file(request: &HttpRequest, asset: &rust_embed::EmbeddedFile, caching: &'static str) -> HttpResponse {
    let tag = format!("\"{}\"", outcrop_core::Digest::of_bytes(&asset.data));
    let is_known = request
        .headers()
        .get(IF_NONE_MATCH)
        .is_some_and(|known| known.as_bytes() == tag.as_bytes());
    let mut answer = HttpResponse::build(if is_known {
        StatusCode::NOT_MODIFIED
    } else {
        StatusCode::OK
    });
    answer
        .insert_header((CACHE_CONTROL, caching))
        .insert_header((ETAG, tag))
        .insert_header((CONTENT_SECURITY_POLICY, POLICY))
        .insert_header(("x-content-type-options", "nosniff"))
        .insert_header(("referrer-policy", "same-origin"));
    if is_known {
        return answer.finish();
    }
    answer
        .content_type(asset.metadata.mimetype())
        .body(asset.data.clone().into_owned())
}
