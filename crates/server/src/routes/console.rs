//! The console's assets, embedded in the binary.

use actix_web::http::header::{
    ACCEPT_ENCODING, CACHE_CONTROL, CONTENT_ENCODING, CONTENT_SECURITY_POLICY, ETAG, IF_NONE_MATCH, VARY,
};
use actix_web::http::{Method, StatusCode};
use actix_web::{HttpRequest, HttpResponse, web};
use rust_embed::{EmbeddedFile, RustEmbed};

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
    let is_form = FORMS.iter().any(|(_, ending)| path.ends_with(ending));
    if let Some(asset) = Assets::get(path).filter(|_| !path.is_empty() && !is_form) {
        // Names of built files hold a hash of their content; those of others do not.
        let caching = if path.starts_with("assets/") {
            "public, max-age=31536000, immutable"
        } else {
            "no-cache"
        };
        return file(&request, path, &asset, caching);
    }
    // Files lie in the root or in assets/; a page's address may hold a version's dots.
    let is_file = path.starts_with("assets/") || path.contains('.') && !path.contains('/');
    match Assets::get("index.html") {
        Some(asset) if !is_file => file(&request, "index.html", &asset, "no-cache"),
        Some(_) => nothing_here().await,
        None => problem(
            StatusCode::NOT_FOUND,
            "no_console",
            "this binary was built without the console; script/console builds it, then build again",
        ),
    }
}

/// Encodings in which files lie beside themselves, the shortest first, and how their names end.
const FORMS: [(&str, &str); 2] = [("br", ".br"), ("gzip", ".gz")];

/// The encoding to send a file in, of those that a browser takes (RFC 9110, 12.5.3) and the file lies there in.
fn form_of(request: &HttpRequest, path: &str) -> Option<(&'static str, EmbeddedFile)> {
    let taken = request.headers().get(ACCEPT_ENCODING)?.to_str().ok()?;
    FORMS.iter().find_map(|(encoding, ending)| {
        let is_taken = taken.split(',').any(|item| {
            let (name, weight) = item.split_once(';').unwrap_or((item, "q=1"));
            let weight = weight.trim().trim_start_matches("q=").parse().unwrap_or(1.0_f32);
            name.trim().eq_ignore_ascii_case(encoding) && weight > 0.0
        });
        let form = is_taken.then(|| Assets::get(&format!("{path}{ending}")))??;
        Some((*encoding, form))
    })
}

fn file(request: &HttpRequest, path: &str, asset: &EmbeddedFile, caching: &'static str) -> HttpResponse {
    let form = form_of(request, path);
    let encoding = form.as_ref().map_or("identity", |(encoding, _)| encoding);
    let tag = format!("\"{}-{encoding}\"", outcrop_core::Digest::of_bytes(&asset.data));
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
        .insert_header((VARY, "accept-encoding"))
        .insert_header((CONTENT_SECURITY_POLICY, POLICY))
        .insert_header(("x-content-type-options", "nosniff"))
        .insert_header(("referrer-policy", "same-origin"));
    if is_known {
        return answer.finish();
    }
    answer.content_type(asset.metadata.mimetype());
    if let Some((encoding, form)) = form {
        answer
            .insert_header((CONTENT_ENCODING, encoding))
            .body(form.data.into_owned())
    } else {
        answer.body(asset.data.clone().into_owned())
    }
}
