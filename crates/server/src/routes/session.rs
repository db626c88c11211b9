//! Signing in and out.

use actix_web::cookie::time::Duration;
use actix_web::cookie::{Cookie, SameSite};
use actix_web::http::header::USER_AGENT;
use actix_web::{HttpRequest, HttpResponse, delete, get, post, put, web};
use outcrop_api::{Member, NewPassword, Preferences, Problem, SessionItem, SessionList, SignIn};
use outcrop_core::text::prefix;
use outcrop_store::people;
use outcrop_store::people::sign_in::{Attempt, Turn};
use outcrop_store::people::{AccessError, Tokens, audit, preferences, sessions, sign_in as store};

use super::input::Body;
use super::viewer::{COOKIE, Role, Viewer};
use crate::access::{Hashing, MIN_PASSWORD, Secret, digest_of, hash_password, hashing, verify_password};
use crate::api_error::ApiError;
use crate::state::State;

/// Longest password looked at, in bytes.
pub(super) const LONGEST_PASSWORD: usize = 1_000;
/// Bytes kept of what a browser calls itself.
const LONGEST_AGENT: usize = 200;

/// Signs in: sets the session's cookie.
#[utoipa::path(operation_id = "sign_in", tag = "session", request_body = SignIn, responses(
    (status = 200, body = Member),
    (status = 401, body = Problem, content_type = "application/problem+json"),
    (status = 429, body = Problem, content_type = "application/problem+json", description = "Too many failed \
        attempts; see Retry-After"),
))]
#[post("/session")]
pub(super) async fn sign_in(
    request: HttpRequest,
    body: Body<SignIn>,
    state: web::Data<State>,
) -> Result<HttpResponse, ApiError> {
    let SignIn { email, password } = body.into_inner();
    if password.len() > LONGEST_PASSWORD {
        return Err(ApiError::BadRequest(format!(
            "a password is at most {LONGEST_PASSWORD} bytes long"
        )));
    }
    let attempt = attempt(&request, &state, &email);
    // An unknown address costs the same time as a wrong password, so that the answer does not tell who is a member.
    let member = checked(&state, attempt.clone(), password, |_| ()).await?.0;
    let secret = Secret::random("outcrop-session");
    let digest = secret.digest();
    let agent = request
        .headers()
        .get(USER_AGENT)
        .and_then(|agent| agent.to_str().ok())
        .unwrap_or_default();
    let (database, agent) = (state.database.clone(), prefix(agent, LONGEST_AGENT).to_owned());
    let found = state
        .on_main(async move {
            store::succeeded(&database, &attempt, member).await?;
            sessions::begin(&database, member, digest, &agent).await?;
            sessions::member(&database, digest).await
        })
        .await?
        .ok_or(ApiError::UnknownToken)?;
    let answer = Member {
        email: found.email,
        role: Role::of(&found.role).word().to_owned(),
    };
    Ok(HttpResponse::Ok()
        .cookie(cookie(secret.expose(), Duration::days(sessions::LONGEST_DAYS.into())))
        .json(answer))
}

fn attempt(request: &HttpRequest, state: &State, email: &str) -> Attempt {
    let peer = request.peer_addr().map(|peer| peer.ip());
    let address = crate::proxies::client(peer, request.headers(), &state.settings.trusted_proxies);
    Attempt::new(email, &crate::proxies::counted(address))
}

/// Checks a password, slowed by failures before, and does more with it on the same thread where it
/// is right. Returns the member's number.
async fn checked<T: Send + 'static>(
    state: &State,
    attempt: Attempt,
    password: String,
    then: impl FnOnce(&str) -> T + Send + 'static,
) -> Result<(i32, T), ApiError> {
    let database = state.database.clone();
    let turn = state
        .on_main(async move { store::begin(&database, &attempt).await })
        .await?;
    let known = match turn {
        Turn::In(seconds) => return Err(ApiError::TooMany(seconds)),
        Turn::Now(known) => known,
    };
    let member = known.as_ref().map(|known| known.id);
    let hash = known.map(|known| known.password_hash);
    match hashing(move || verify_password(&password, hash.as_deref()).then(|| then(&password))).await {
        Hashing::Done(done) => done
            .zip(member)
            .map(|(done, member)| (member, done))
            .ok_or(ApiError::WrongPassword),
        Hashing::Busy => Err(ApiError::TooMany(1)),
        Hashing::Failed => Err(ApiError::WrongPassword),
    }
}

fn cookie(value: &str, max_age: Duration) -> Cookie<'static> {
    Cookie::build(COOKIE, value.to_owned())
        .path("/")
        .http_only(true)
        .secure(true)
        .same_site(SameSite::Strict)
        .max_age(max_age)
        .finish()
}

/// Says who is signed in.
#[utoipa::path(operation_id = "who_is_signed_in", tag = "session", responses(
    (status = 200, body = Member),
    (status = 401, body = Problem, content_type = "application/problem+json"),
))]
#[get("/session")]
pub(super) async fn who(viewer: Viewer) -> web::Json<Member> {
    web::Json(Member {
        email: viewer.email,
        role: viewer.role.word().to_owned(),
    })
}

/// Signs out.
#[utoipa::path(operation_id = "sign_out", tag = "session", responses((status = 204)))]
#[delete("/session")]
pub(super) async fn sign_out(request: HttpRequest, state: web::Data<State>) -> Result<HttpResponse, ApiError> {
    if let Some(sent) = request.cookie(COOKIE) {
        let (database, digest) = (state.database.clone(), digest_of(sent.value()));
        state
            .on_main(async move { sessions::end(&database, digest).await })
            .await?;
    }
    Ok(HttpResponse::NoContent().cookie(cookie("", Duration::ZERO)).finish())
}

/// Sets one's own password; all other sessions end, and on demand all tokens.
#[utoipa::path(operation_id = "set_password", tag = "session", request_body = NewPassword, responses(
    (status = 204),
    (status = 400, body = Problem, content_type = "application/problem+json"),
    (status = 401, body = Problem, content_type = "application/problem+json"),
    (status = 429, body = Problem, content_type = "application/problem+json", description = "Too many wrong \
        passwords; see Retry-After"),
))]
#[put("/session/password")]
pub(super) async fn set_password(
    viewer: Viewer,
    request: HttpRequest,
    body: Body<NewPassword>,
    state: web::Data<State>,
) -> Result<HttpResponse, ApiError> {
    let session = viewer
        .session
        .ok_or_else(|| ApiError::Forbidden("sign in to set a password; a token cannot".to_owned()))?;
    let NewPassword {
        current,
        new,
        revoke_tokens,
    } = body.into_inner();
    if new.chars().count() < MIN_PASSWORD || new.len() > LONGEST_PASSWORD || current.len() > LONGEST_PASSWORD {
        let limits = format!(
            "the new password must have at least {MIN_PASSWORD} characters and at most {LONGEST_PASSWORD} bytes"
        );
        return Err(ApiError::BadRequest(limits));
    }
    let attempt = attempt(&request, &state, &viewer.email);
    let (member, hashed) = checked(&state, attempt.clone(), current, move |_| hash_password(&new)).await?;
    let hashed = hashed.map_err(ApiError::BadRequest)?;
    let (database, tokens) = (
        state.database.clone(),
        if revoke_tokens { Tokens::End } else { Tokens::Stay },
    );
    let done = state
        .on_main(async move {
            store::succeeded(&database, &attempt, member).await?;
            match people::set_password(&database, &viewer.email, &hashed, Some(session), tokens).await {
                Ok(()) => audit::note(&database, &viewer.email, "set own password", &viewer.email)
                    .await
                    .map(Ok),
                Err(AccessError::Store(error)) => Err(error),
                Err(error) => Ok(Err(error)),
            }
        })
        .await?;
    done.map_err(|error| ApiError::NotFound(error.to_string()))?;
    Ok(HttpResponse::NoContent().finish())
}

/// Says how one wants pages to be.
#[utoipa::path(operation_id = "show_preferences", tag = "session", responses((status = 200, body = Preferences)))]
#[get("/session/preferences")]
pub(super) async fn show_preferences(
    viewer: Viewer,
    state: web::Data<State>,
) -> Result<web::Json<Preferences>, ApiError> {
    let database = state.database.clone();
    let saved = state
        .on_main(async move { preferences::read(&database, &viewer.email).await })
        .await?;
    // What a later release saved and this one does not know is as built in.
    Ok(web::Json(serde_json::from_value(saved).unwrap_or_default()))
}

/// Saves how one wants pages to be, on whatever machine.
#[utoipa::path(operation_id = "set_preferences", tag = "session", request_body = Preferences, responses(
    (status = 200, body = Preferences),
    (status = 400, body = Problem, content_type = "application/problem+json"),
))]
#[put("/session/preferences")]
pub(super) async fn set_preferences(
    viewer: Viewer,
    body: Body<Preferences>,
    state: web::Data<State>,
) -> Result<web::Json<Preferences>, ApiError> {
    let (database, preferred) = (state.database.clone(), body.into_inner());
    let saved = serde_json::to_value(preferred).unwrap_or_default();
    state
        .on_main(async move { preferences::save(&database, &viewer.email, &saved).await })
        .await?;
    Ok(web::Json(preferred))
}

/// Lists one's own open sessions.
#[utoipa::path(operation_id = "list_sessions", tag = "session", responses((status = 200, body = SessionList)))]
#[get("/sessions")]
pub(super) async fn list_sessions(viewer: Viewer, state: web::Data<State>) -> Result<web::Json<SessionList>, ApiError> {
    let database = state.database.clone();
    let rows = state
        .on_main(async move { sessions::list(&database, Some(&viewer.email), viewer.session).await })
        .await?;
    let items = rows
        .into_iter()
        .map(|row| SessionItem {
            id: row.id,
            agent: row.agent,
            created_at: row.created_at,
            last_used_at: row.last_used_at,
            expires_at: row.expires_at,
            own: row.is_own,
        })
        .collect();
    Ok(web::Json(SessionList { items }))
}

/// Ends one of one's own sessions: its next request is refused.
#[utoipa::path(operation_id = "end_session", tag = "session", params(("id" = i32, Path, description = "Its \
    number")), responses(
    (status = 204),
    (status = 404, body = Problem, content_type = "application/problem+json"),
))]
#[delete("/sessions/{id}")]
pub(super) async fn end_session(
    viewer: Viewer,
    path: web::Path<i32>,
    state: web::Data<State>,
) -> Result<HttpResponse, ApiError> {
    let (database, id) = (state.database.clone(), path.into_inner());
    match state
        .on_main(async move { sessions::end_of(&database, &viewer.email, Some(id)).await })
        .await?
    {
        0 => Err(ApiError::NotFound(format!("you have no session {id}"))),
        _ => Ok(HttpResponse::NoContent().finish()),
    }
}
