//! A program exchanges what it was sent back with for tokens, and gives them back.

use actix_web::http::StatusCode;
use actix_web::http::header::CACHE_CONTROL;
use actix_web::{HttpMessage as _, HttpRequest, HttpResponse, web};
use base64::Engine as _;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use chrono::Utc;
use outcrop_store::people::grants::{self, ACCESS, Kind, Spent};
use serde_json::json;
use sha2::{Digest as _, Sha256};

use super::asked::{is_ours, parameters};
use super::own::{ACCESS_PREFIX, own_address};
use super::said::{answer, away, refused};
use crate::access::{Secret, digest_of};
use crate::state::State;

/// How a refresh token begins.
const REFRESH: &str = "outcrop-refresh";

/// Exchanges a code, or a refresh token, for an access token and a refresh token.
pub(super) async fn exchange(request: HttpRequest, body: web::Bytes, state: web::Data<State>) -> HttpResponse {
    let bad = |error, why: &str| refused(StatusCode::BAD_REQUEST, error, why);
    let given = match form(&request, &body) {
        Ok(given) => given,
        Err(why) => return bad("invalid_request", &why),
    };
    let text = |name: &str| given.get(name).map(String::as_str);
    let (kind, presented) = match text("grant_type") {
        Some("authorization_code") => (Kind::Code, text("code")),
        Some("refresh_token") => (Kind::Refresh, text("refresh_token")),
        _ => {
            let why = "grant_type must be authorization_code or refresh_token";
            return bad("unsupported_grant_type", why);
        }
    };
    let (Some(presented), Some(client)) = (presented, text("client_id")) else {
        return bad("invalid_request", "client_id and what is exchanged must be given");
    };
    if !is_ours(text("resource"), &own_address(&request, &state)) {
        return bad("invalid_target", "resource is another one than this installation's");
    }
    let (database, digest, now) = (state.database.clone(), digest_of(presented), Utc::now());
    let spent = state
        .on_main(async move { grants::spend(&database, digest, kind, now).await })
        .await;
    let spent = match spent {
        Ok(spent) => spent.filter(|spent| is_theirs(spent, kind, client, &text)),
        Err(error) => return away(error),
    };
    let Some(spent) = spent else {
        let why = "it is not known, too old, used before, or another's: have the member sign in again";
        return bad("invalid_grant", why);
    };
    let (access, refresh) = (
        Secret::random(ACCESS_PREFIX.trim_end_matches('-')),
        Secret::random(REFRESH),
    );
    let (database, new) = (state.database.clone(), (access.digest(), refresh.digest()));
    let issued = state
        .on_main(async move { grants::issue(&database, &spent, new, now).await })
        .await;
    match issued {
        Ok(true) => answer(
            StatusCode::OK,
            &json!({
                "access_token": access.expose(),
                "token_type": "Bearer",
                "expires_in": ACCESS.num_seconds(),
                "refresh_token": refresh.expose(),
            }),
        ),
        Ok(false) => bad("invalid_grant", "the member does not let this program in any more"),
        Err(error) => away(error),
    }
}

/// Ends what a token came of; an unknown token is ended already.
pub(super) async fn revoke(request: HttpRequest, body: web::Bytes, state: web::Data<State>) -> HttpResponse {
    let token = form(&request, &body).ok().and_then(|mut given| given.remove("token"));
    let Some(token) = token else {
        return refused(
            StatusCode::BAD_REQUEST,
            "invalid_request",
            "token must be given, in a form",
        );
    };
    let (database, digest) = (state.database.clone(), digest_of(&token));
    match state
        .on_main(async move { grants::revoke(&database, digest).await })
        .await
    {
        Ok(()) => HttpResponse::Ok().insert_header((CACHE_CONTROL, "no-store")).finish(),
        Err(error) => away(error),
    }
}

fn form(request: &HttpRequest, body: &[u8]) -> Result<std::collections::BTreeMap<String, String>, String> {
    if request.content_type() == "application/x-www-form-urlencoded" {
        parameters(body)
    } else {
        Err("send a form: Content-Type: application/x-www-form-urlencoded".to_owned())
    }
}

/// Whether what was spent is the client's, was sent where it says, and came to whoever asked for it: they alone have the
/// text that the proof key is the digest of (RFC 7636, 4.6).
fn is_theirs<'g>(spent: &Spent, kind: Kind, client: &str, text: &impl Fn(&str) -> Option<&'g str>) -> bool {
    let is_proved = || {
        let verifier = text("code_verifier").filter(|verifier| (43..=128).contains(&verifier.len()));
        let proof = verifier.map(|verifier| URL_SAFE_NO_PAD.encode(Sha256::digest(verifier)));
        let is_there = text("redirect_uri").is_none_or(|there| Some(there) == spent.redirect.as_deref());
        is_there && proof.is_some() && proof == spent.challenge
    };
    spent.client_id == client && (kind == Kind::Refresh || is_proved())
}
