use actix_web::cookie::{Cookie, SameSite, time::Duration};
use actix_web::{HttpRequest, HttpResponse, delete, get, post, put, web};
use outcrop_core::Digest;
use outcrop_store::access as store;

use super::input::Body;
use super::viewer::{COOKIE, Viewer};
use crate::access::{MIN_PASSWORD, Secret, digest_of, hash_password, hashing, verify_password};
use crate::api_error::ApiError;
use crate::state::State;
use crate::wire::{Member, NewPassword, Problem, SignIn};

/// Signs in: sets the session's cookie.
#[utoipa::path(operation_id = "sign_in", tag = "session", request_body = SignIn, responses(
    (status = 200, body = Member),
    (status = 401, body = Problem, content_type = "application/problem+json"),
    (status = 429, body = Problem, content_type = "application/problem+json", description = "Too many failed attempts; see Retry-After"),
))]
#[post("/session")]
pub(super) async fn sign_in(body: Body<SignIn>, state: web::Data<State>) -> Result<HttpResponse, ApiError> {
    let SignIn { email, password } = body.into_inner();
    let email = email.trim().to_owned();
    let attempt = Digest::of(["sign in", &email.to_lowercase()]);
    let (database, address) = (state.database.clone(), email.clone());
    let (wait, known) = state
        .on_main(async move { Ok((store::sign_in_wait(&database, attempt).await?, store::credentials(&database, &address).await?)) })
        .await?;
    if wait > 0 {
        return Err(ApiError::TooMany(wait));
    }
    // An unknown address costs the same time as a wrong password, so that the answer does not tell who is a member.
    let member = known.as_ref().map(|known| known.id);
    let hash = known.map(|known| known.password_hash);
    let is_right = hashing(move || verify_password(&password, hash.as_deref())).await.unwrap_or(false);
    let database = state.database.clone();
    let Some(member) = member.filter(|_| is_right) else {
        state.on_main(async move { store::note_failed_sign_in(&database, attempt).await }).await?;
        return Err(ApiError::WrongPassword);
    };
    let secret = Secret::random("outcrop-session");
    let digest = secret.digest();
    state.on_main(async move { store::begin_session(&database, member, digest, attempt).await }).await?;
    let database = state.database.clone();
    let found = state.on_main(async move { store::member_of_session(&database, digest).await }).await?.ok_or(ApiError::UnknownToken)?;
    let answer = Member { email: found.email, role: found.role };
    Ok(HttpResponse::Ok().cookie(cookie(secret.expose(), Duration::days(store::SESSION_DAYS.into()))).json(answer))
}

fn cookie(value: &str, max_age: Duration) -> Cookie<'static> {
    Cookie::build(COOKIE, value.to_owned()).path("/").http_only(true).secure(true).same_site(SameSite::Strict).max_age(max_age).finish()
}

/// Says who is signed in.
#[utoipa::path(operation_id = "who_is_signed_in", tag = "session", responses(
    (status = 200, body = Member),
    (status = 401, body = Problem, content_type = "application/problem+json"),
))]
#[get("/session")]
pub(super) async fn who(viewer: Viewer) -> web::Json<Member> {
    web::Json(Member { email: viewer.email, role: viewer.role })
}

/// Signs out.
#[utoipa::path(operation_id = "sign_out", tag = "session", responses((status = 204)))]
#[delete("/session")]
pub(super) async fn sign_out(request: HttpRequest, state: web::Data<State>) -> Result<HttpResponse, ApiError> {
    if let Some(sent) = request.cookie(COOKIE) {
        let (database, digest) = (state.database.clone(), digest_of(sent.value()));
        state.on_main(async move { store::end_session(&database, digest).await }).await?;
    }
    Ok(HttpResponse::NoContent().cookie(cookie("", Duration::ZERO)).finish())
}

/// Sets one's own password; all other sessions end.
#[utoipa::path(operation_id = "set_password", tag = "session", request_body = NewPassword, responses(
    (status = 204),
    (status = 400, body = Problem, content_type = "application/problem+json"),
    (status = 401, body = Problem, content_type = "application/problem+json"),
))]
#[put("/session/password")]
pub(super) async fn set_password(viewer: Viewer, body: Body<NewPassword>, state: web::Data<State>) -> Result<HttpResponse, ApiError> {
    let session = viewer.session.ok_or_else(|| ApiError::Forbidden("sign in to set a password; a token cannot".to_owned()))?;
    let NewPassword { current, new } = body.into_inner();
    if new.chars().count() < MIN_PASSWORD {
        return Err(ApiError::BadRequest(format!("the new password is too short; take at least {MIN_PASSWORD} characters")));
    }
    let (database, email) = (state.database.clone(), viewer.email.clone());
    let known = state.on_main(async move { store::credentials(&database, &email).await }).await?;
    let hash = known.map(|known| known.password_hash);
    let hashed = hashing(move || verify_password(&current, hash.as_deref()).then(|| hash_password(&new))).await;
    let hashed = hashed.flatten().ok_or(ApiError::WrongPassword)?.map_err(ApiError::BadRequest)?;
    let database = state.database.clone();
    state.on_main(async move { store::set_password(&database, &viewer.email, &hashed, session).await }).await?;
    Ok(HttpResponse::NoContent().finish())
}
