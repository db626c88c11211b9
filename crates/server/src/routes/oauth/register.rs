//! A program presents itself, once for an installation (RFC 7591).

use actix_web::http::StatusCode;
use actix_web::{HttpMessage as _, HttpRequest, HttpResponse, web};
use chrono::Utc;
use outcrop_core::text::prefix;
use outcrop_store::people::grants;
use serde::Deserialize;
use serde_json::json;

use super::redirects;
use super::said::{answer, away, refused};
use crate::access::Secret;
use crate::routes::input::holds_nul;
use crate::state::State;

/// Longest name of a program, in bytes; a longer one is cut.
const LONGEST_NAME: usize = 100;
/// Addresses of one program.
const MOST: usize = 10;

/// What a program says of itself; what else it says is of no use here.
#[derive(Deserialize)]
struct Metadata {
    #[serde(default)]
    redirect_uris: Vec<String>,
    #[serde(default)]
    client_name: String,
}

/// Takes a program up, without a secret: one on a person's machine could not keep it. Its proof key takes that place.
pub(super) async fn register(request: HttpRequest, body: web::Bytes, state: web::Data<State>) -> HttpResponse {
    let refused = |error, why: &str| refused(StatusCode::BAD_REQUEST, error, why);
    let is_json = request
        .mime_type()
        .is_ok_and(|kind| kind.is_some_and(|kind| kind.subtype() == mime::JSON));
    let said: Result<Metadata, _> = serde_json::from_slice(&body);
    let Some(said) = said.ok().filter(|_| is_json && !holds_nul(&body)) else {
        return refused(
            "invalid_client_metadata",
            "the body must be a JSON object with redirect_uris",
        );
    };
    if said.redirect_uris.is_empty() || said.redirect_uris.len() > MOST {
        let why = format!("redirect_uris must be 1 to {MOST} addresses");
        return refused("invalid_redirect_uri", &why);
    }
    if let Some(wrong) = said.redirect_uris.iter().find(|address| !redirects::may_be(address)) {
        let why = format!(
            "{} is none of: https, http to 127.0.0.1, [::1] or localhost, a scheme of the program's own; without a \
             fragment, {} bytes at most",
            prefix(wrong, 100),
            redirects::LONGEST
        );
        return refused("invalid_redirect_uri", &why);
    }
    // Texts that a page shows: without what would turn it around or hide.
    let name: String = said.client_name.chars().filter(|one| is_shown(*one)).collect();
    let name = prefix(name.trim(), LONGEST_NAME).to_owned();
    let client_id = Secret::random("outcrop-client").expose().to_owned();
    let (database, taken, now) = (state.database.clone(), (client_id.clone(), name.clone()), Utc::now());
    let addresses = said.redirect_uris.clone();
    let done = state
        .on_main(async move { grants::register(&database, (&taken.0, &taken.1), &addresses, now).await })
        .await;
    if let Err(error) = done {
        return away(error);
    }
    answer(
        StatusCode::CREATED,
        &json!({
            "client_id": client_id,
            "client_id_issued_at": now.timestamp(),
            "client_name": name,
            "redirect_uris": said.redirect_uris,
            "grant_types": ["authorization_code", "refresh_token"],
            "response_types": ["code"],
            "token_endpoint_auth_method": "none",
        }),
    )
}

/// Whether a character shows itself: none that controls the terminal or the direction of text (Unicode, UAX 9).
fn is_shown(one: char) -> bool {
    !one.is_control()
        && !matches!(one, '\u{200b}'..='\u{200f}' | '\u{202a}'..='\u{202e}' | '\u{2060}'..='\u{2069}' | '\u{feff}')
}
