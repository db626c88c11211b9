use std::future::Future;
use std::pin::Pin;

use actix_web::dev::Payload;
use actix_web::http::header::AUTHORIZATION;
use actix_web::{FromRequest, HttpRequest, web};
use outcrop_store::access;

use crate::access::{bearer, digest_of};
use crate::api_error::ApiError;
use crate::state::State;

/// A member who may read: any with a token that is not revoked.
pub(crate) struct Viewer;

impl FromRequest for Viewer {
    type Error = ApiError;
    type Future = Pin<Box<dyn Future<Output = Result<Self, ApiError>>>>;

    fn from_request(request: &HttpRequest, _: &mut Payload) -> Self::Future {
        let digest = bearer(request.headers().get(AUTHORIZATION)).map(digest_of);
        let state = request.app_data::<web::Data<State>>().cloned();
        Box::pin(async move {
            let state = state.ok_or(ApiError::Away)?;
            let digest = digest.ok_or(ApiError::NoToken)?;
            let database = state.database.clone();
            let member = state.on_main(async move { access::member_of_token(&database, digest).await }).await?;
            member.map(|_| Self).ok_or(ApiError::UnknownToken)
        })
    }
}
