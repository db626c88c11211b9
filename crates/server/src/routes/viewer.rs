use std::future::Future;
use std::pin::Pin;

use actix_web::dev::Payload;
use actix_web::http::header::AUTHORIZATION;
use actix_web::{FromRequest, HttpRequest, web};
use outcrop_core::Digest;
use outcrop_store::access;

use crate::access::{bearer, digest_of};
use crate::api_error::ApiError;
use crate::state::State;

/// The session's cookie.
pub(super) const COOKIE: &str = "outcrop_session";

/// A member who may read: any with a token that is not revoked, or with a session.
pub(crate) struct Viewer {
    pub email: String,
    pub role: String,
    /// The digest of the session's cookie, where there is one.
    pub session: Option<Digest>,
}

impl Viewer {
    /// Lets engineers and admins through.
    pub(super) fn must_engineer(&self) -> Result<(), ApiError> {
        if self.role == "viewer" { Err(ApiError::Forbidden("viewers may not do this; ask an engineer".to_owned())) } else { Ok(()) }
    }
}

/// A member, or a pipeline that a member gave a token for recording and checking deploys and marking changes.
pub(crate) struct Pipeline(pub Viewer);

impl FromRequest for Viewer {
    type Error = ApiError;
    type Future = Pin<Box<dyn Future<Output = Result<Self, ApiError>>>>;

    fn from_request(request: &HttpRequest, _: &mut Payload) -> Self::Future {
        let found = who(request);
        Box::pin(async move {
            match found.await? {
                (_, true) => Err(ApiError::Forbidden(
                    "this token is a pipeline's: it records and checks deploys, marks changes, and nothing else".to_owned(),
                )),
                (viewer, false) => Ok(viewer),
            }
        })
    }
}

impl FromRequest for Pipeline {
    type Error = ApiError;
    type Future = Pin<Box<dyn Future<Output = Result<Self, ApiError>>>>;

    fn from_request(request: &HttpRequest, _: &mut Payload) -> Self::Future {
        let found = who(request);
        Box::pin(async move { Ok(Self(found.await?.0)) })
    }
}

/// Whose request it is, and whether by a pipeline's token.
fn who(request: &HttpRequest) -> impl Future<Output = Result<(Viewer, bool), ApiError>> + use<> {
    let token = bearer(request.headers().get(AUTHORIZATION)).map(digest_of);
    let session = request.cookie(COOKIE).map(|cookie| digest_of(cookie.value()));
    let state = request.app_data::<web::Data<State>>().cloned();
    async move {
        let state = state.ok_or(ApiError::Away)?;
        let database = state.database.clone();
        let member = match (token, session) {
            (Some(token), _) => state.on_main(async move { access::member_of_token(&database, token).await }).await?,
            (None, Some(session)) => state.on_main(async move { access::member_of_session(&database, session).await }).await?,
            (None, None) => return Err(ApiError::NoToken),
        };
        let member = member.ok_or(ApiError::UnknownToken)?;
        let viewer = Viewer { email: member.email, role: member.role, session: if token.is_none() { session } else { None } };
        Ok((viewer, member.is_pipeline))
    }
}
