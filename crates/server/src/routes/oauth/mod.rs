//! How a program gets tokens of a member's (OAuth 2.1, as the Model Context Protocol's authorization asks): what it finds
//! out first, how it presents itself, asks, and exchanges what it was sent back with. A member answers in the console.

pub(super) mod asked;
pub(super) mod own;
mod redirects;
mod register;
mod said;
mod token;

use actix_web::body::MessageBody;
use actix_web::dev::{ServiceRequest, ServiceResponse};
use actix_web::http::StatusCode;
use actix_web::http::header::{CACHE_CONTROL, HeaderValue, LOCATION, WWW_AUTHENTICATE};
use actix_web::middleware::Next;
use actix_web::{HttpRequest, HttpResponse, ResponseError as _, web};
use serde_json::json;

use self::asked::Refused;
use self::own::{RESOURCE, own_address};
use crate::state::State;

/// Largest body of a registration or of a request for tokens.
const MAX_BODY: usize = 16_384;

pub(super) fn routes(config: &mut web::ServiceConfig) {
    let small = || web::PayloadConfig::new(MAX_BODY);
    config
        .route("/.well-known/oauth-protected-resource", web::get().to(resource))
        .route("/.well-known/oauth-protected-resource/mcp", web::get().to(resource))
        .route("/.well-known/oauth-authorization-server", web::get().to(server))
        .route("/oauth/authorize", web::get().to(authorize))
        .service(
            web::resource("/oauth/token")
                .app_data(small())
                .route(web::post().to(token::exchange)),
        )
        .service(
            web::resource("/oauth/revoke")
                .app_data(small())
                .route(web::post().to(token::revoke)),
        )
        .service(
            web::resource("/oauth/register")
                .app_data(small())
                .route(web::post().to(register::register)),
        );
}

/// What is protected, and by whom (RFC 9728).
async fn resource(request: HttpRequest, state: web::Data<State>) -> HttpResponse {
    let own = own_address(&request, &state);
    said::answer(
        StatusCode::OK,
        &json!({
            "resource": format!("{own}{RESOURCE}"),
            "authorization_servers": [own],
            "bearer_methods_supported": ["header"],
            "resource_name": "Outcrop",
        }),
    )
}

/// How tokens are asked for (RFC 8414).
async fn server(request: HttpRequest, state: web::Data<State>) -> HttpResponse {
    let own = own_address(&request, &state);
    said::answer(
        StatusCode::OK,
        &json!({
            "issuer": own,
            "authorization_endpoint": format!("{own}/oauth/authorize"),
            "token_endpoint": format!("{own}/oauth/token"),
            "registration_endpoint": format!("{own}/oauth/register"),
            "revocation_endpoint": format!("{own}/oauth/revoke"),
            "response_types_supported": ["code"],
            "response_modes_supported": ["query"],
            "grant_types_supported": ["authorization_code", "refresh_token"],
            "token_endpoint_auth_methods_supported": ["none"],
            "revocation_endpoint_auth_methods_supported": ["none"],
            "code_challenge_methods_supported": ["S256"],
            "authorization_response_iss_parameter_supported": true,
        }),
    )
}

/// Takes a browser to the page that asks its member; or back, where the program asks for what is not given. It writes
/// nothing: whoever is lured here has allowed nothing.
async fn authorize(request: HttpRequest, state: web::Data<State>) -> HttpResponse {
    let own = own_address(&request, &state);
    let location = match asked::read(&state, request.query_string(), &own).await {
        // Behind the `#`, so that it stands in no log of a proxy on the way to the page.
        Ok(_) => format!("/consent#{}", request.query_string()),
        Err(Refused::There(location)) => location,
        Err(Refused::Here(error)) => {
            return HttpResponse::build(error.status_code())
                .content_type("text/plain; charset=utf-8")
                .body(format!("Outcrop lets nobody in here: {error}.\n"));
        }
    };
    HttpResponse::Found()
        .insert_header((LOCATION, location))
        .insert_header((CACHE_CONTROL, "no-store"))
        .finish()
}

/// Tells whoever is refused for want of a token where to find out how to get one (RFC 9728, 5.1).
pub(super) async fn say_where<B: MessageBody + 'static>(
    request: ServiceRequest,
    next: Next<B>,
) -> Result<ServiceResponse<B>, actix_web::Error> {
    let own = (request.app_data::<web::Data<State>>()).map(|state| own_address(request.request(), state));
    let mut answer = next.call(request).await?;
    if answer.status() == StatusCode::UNAUTHORIZED
        && let Some(own) = own
        && let Ok(scheme) = HeaderValue::try_from(format!(
            "Bearer realm=\"outcrop\", resource_metadata=\"{own}/.well-known/oauth-protected-resource{RESOURCE}\""
        ))
    {
        answer.headers_mut().insert(WWW_AUTHENTICATE, scheme);
    }
    Ok(answer)
}
