//! The way in for editors: tools by the Model Context Protocol over HTTP, with the rights of whoever's token it is.
//!
//! Each request stands by itself (no sessions), so that any instance answers any of them.

mod tools;

use actix_web::http::StatusCode;
use actix_web::http::header::CONTENT_TYPE;
use actix_web::{HttpRequest, HttpResponse, web};
use http_body_util::{BodyExt as _, Full};
use rmcp::transport::streamable_http_server::session::never::NeverSessionManager;
use rmcp::transport::streamable_http_server::{StreamableHttpServerConfig, StreamableHttpService};

use self::tools::Tools;
use super::input::holds_nul;
use super::viewer::{Seen, Viewer};
use crate::api_error::ApiError;

/// Largest request in bytes: a pasted stack, with room.
pub(super) const MAX_BODY: usize = 262_144;

/// Answers one request of an editor.
pub(super) async fn serve(
    viewer: Viewer,
    state: Seen,
    request: HttpRequest,
    body: web::Bytes,
) -> Result<HttpResponse, ApiError> {
    // A page that somebody is lured to could send what a browser adds by itself.
    if viewer.session.is_some() {
        return Err(ApiError::NoToken);
    }
    if holds_nul(&body) {
        return Err(ApiError::BadRequest(
            "the message holds the character NUL (\\u0000), which no text here may hold".to_owned(),
        ));
    }
    let mut asked = http::Request::builder()
        .method(request.method().as_str())
        .uri(request.uri().to_string());
    for (name, value) in request.headers() {
        if name != actix_web::http::header::AUTHORIZATION {
            asked = asked.header(name.as_str(), value.as_bytes());
        }
    }
    let asked = asked
        .body(Full::new(body))
        .map_err(|error| ApiError::BadRequest(format!("the request: {error}")))?;
    let tools = Tools::new(viewer, (*state).clone());
    // Who may come is decided by the token; the host's name is the proxy's business.
    let config = StreamableHttpServerConfig::default()
        .with_legacy_session_mode(false)
        .with_json_response(true)
        .disable_allowed_hosts();
    let service = StreamableHttpService::new(move || Ok(tools.clone()), NeverSessionManager::default().into(), config);
    let (parts, body) = service.handle(asked).await.into_parts();
    let body = body.collect().await.map(http_body_util::Collected::to_bytes);
    let Ok(body) = body;
    let status = StatusCode::from_u16(parts.status.as_u16()).unwrap_or(StatusCode::INTERNAL_SERVER_ERROR);
    let mut answer = HttpResponse::build(status);
    for (name, value) in &parts.headers {
        let is_ours = name == http::header::CONTENT_TYPE || name == http::header::ALLOW;
        if is_ours || name.as_str().starts_with("mcp-") {
            answer.insert_header((name.as_str(), value.as_bytes()));
        }
    }
    if !parts.headers.contains_key(CONTENT_TYPE.as_str()) && !body.is_empty() {
        answer.content_type("text/plain; charset=utf-8");
    }
    Ok(answer.body(body))
}
