//! Who asks, and what they may.

use std::collections::BTreeSet;
use std::future::{Future, Ready, ready};
use std::ops::Deref;

use actix_web::dev::Payload;
use actix_web::http::header::{AUTHORIZATION, CACHE_CONTROL, HOST, ORIGIN};
use actix_web::{FromRequest, HttpMessage, HttpRequest, web};
use outcrop_core::Digest;
use outcrop_store::database::readers::Behind;
use outcrop_store::people::{Member, grants, sessions, teams, tokens};
use outcrop_store::{Database, StoreError};

use super::oauth::own::{ACCESS_PREFIX, RESOURCE};
use crate::access::{bearer, digest_of};
use crate::api_error::ApiError;
use crate::state::State;

/// The session's cookie.
/// Its prefix has browsers take it from this host alone, encrypted, for the whole of it (RFC 6265bis, 4.1.3.2).
pub(super) const COOKIE: &str = "__Host-outcrop_session";

/// A member who may read: any with a token that is not revoked, or with a session.
#[derive(Clone)]
pub(crate) struct Viewer {
    pub email: String,
    pub role: Role,
    /// The digest of the session's cookie, where there is one.
    pub session: Option<Digest>,
}

/// What a member may do: each may what those before may.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) enum Role {
    Viewer,
    Engineer,
    Admin,
}

impl Role {
    /// The role of a word; one that a later release made may read.
    pub(super) fn of(word: &str) -> Self {
        match word {
            "admin" => Self::Admin,
            "engineer" => Self::Engineer,
            _ => Self::Viewer,
        }
    }

    pub(super) const fn word(self) -> &'static str {
        match self {
            Self::Viewer => "viewer",
            Self::Engineer => "engineer",
            Self::Admin => "admin",
        }
    }
}

impl Viewer {
    /// Lets engineers and admins through.
    pub(super) fn must_engineer(&self) -> Result<(), ApiError> {
        if self.role >= Role::Engineer {
            Ok(())
        } else {
            Err(ApiError::Forbidden(
                "viewers may not do this; ask an engineer".to_owned(),
            ))
        }
    }

    /// Lets admins through.
    pub(super) fn must_admin(&self) -> Result<(), ApiError> {
        if self.role >= Role::Admin {
            Ok(())
        } else {
            Err(ApiError::Forbidden("only admins may do this; ask one".to_owned()))
        }
    }
}

/// A member, or a pipeline that a member gave a token for recording and checking deploys and marking changes.
pub(crate) struct Pipeline(pub Viewer);

impl FromRequest for Viewer {
    type Error = ApiError;
    type Future = Ready<Result<Self, ApiError>>;

    fn from_request(request: &HttpRequest, _: &mut Payload) -> Self::Future {
        ready(asker(request).and_then(
            |Asker {
                 viewer, is_pipeline, ..
             }| {
                if is_pipeline {
                    return Err(ApiError::Forbidden(
                        "this token is a pipeline's: it records and checks deploys, marks changes, and nothing else"
                            .to_owned(),
                    ));
                }
                Ok(viewer)
            },
        ))
    }
}

impl FromRequest for Pipeline {
    type Error = ApiError;
    type Future = Ready<Result<Self, ApiError>>;

    fn from_request(request: &HttpRequest, _: &mut Payload) -> Self::Future {
        ready(asker(request).map(|Asker { viewer, .. }| Self(viewer)))
    }
}

/// The service's state for whoever asks: its database is without what is closed to them. What members read and do goes
/// through it.
pub(crate) struct Seen(State);

impl Deref for Seen {
    type Target = State;

    fn deref(&self) -> &State {
        &self.0
    }
}

impl FromRequest for Seen {
    type Error = ApiError;
    type Future = Ready<Result<Self, ApiError>>;

    fn from_request(request: &HttpRequest, _: &mut Payload) -> Self::Future {
        let state = request.app_data::<web::Data<State>>().ok_or(ApiError::Away);
        ready(state.and_then(|state| {
            Ok(Self(State {
                database: asker(request)?.database,
                ..State::clone(state)
            }))
        }))
    }
}

/// Whose request it is, as the guard found out before it read anything else.
#[derive(Clone)]
struct Asker {
    viewer: Viewer,
    is_pipeline: bool,
    /// As far as it is not closed to them.
    database: Database,
    /// The services that are.
    closed: Vec<i32>,
    /// What a standby does not know yet.
    behind: Option<Behind>,
}

/// Finds out whose request it is, before its body is read: what a stranger sends costs nothing.
pub(super) async fn authenticate(request: &HttpRequest) -> Result<(), ApiError> {
    let asker = who(request).await?;
    request.extensions_mut().insert(asker);
    Ok(())
}

/// How far the answer to a request is behind, in whole seconds or `unknown`; `None` where nothing is missing.
pub(super) fn behind(request: &HttpRequest) -> Option<String> {
    let behind = request.extensions().get::<Asker>()?.behind?;
    Some(match behind {
        Behind::By(time) => time.as_secs().to_string(),
        Behind::Unknown => "unknown".to_owned(),
    })
}

fn asker(request: &HttpRequest) -> Result<Asker, ApiError> {
    request.extensions().get::<Asker>().cloned().ok_or(ApiError::NoToken)
}

/// What whoever made a request may read by now.
pub(super) enum Reads {
    /// Nothing: their token was revoked, or their session ended.
    No,
    /// All but services of these names.
    All(BTreeSet<String>),
    /// The database does not say.
    AsBefore,
}

/// Looks again what whoever made a request may read. Where the database does not answer, that is what it was.
pub(super) async fn still_reads(request: &HttpRequest) -> Reads {
    let closed = match who(request).await {
        Ok(Asker { closed, .. }) => closed,
        Err(ApiError::UnknownToken | ApiError::NoToken) => return Reads::No,
        Err(_) => return Reads::AsBefore,
    };
    if closed.is_empty() {
        return Reads::All(BTreeSet::new());
    }
    let Some(state) = request.app_data::<web::Data<State>>() else {
        return Reads::AsBefore;
    };
    let database = state.database.clone();
    let names = state
        .on_main(async move { teams::names_of(&database, &closed).await })
        .await;
    names.map_or(Reads::AsBefore, |names| Reads::All(names.into_iter().collect()))
}

fn who(request: &HttpRequest) -> impl Future<Output = Result<Asker, ApiError>> + use<> {
    let token = bearer(request.headers().get(AUTHORIZATION)).map(|presented| Secret::of(presented, request.path()));
    let session = request.cookie(COOKIE).map(|cookie| digest_of(cookie.value()));
    let state = request.app_data::<web::Data<State>>().cloned();
    let reads = Wanted::by(request);
    let is_foreign = token.is_none()
        && is_foreign(
            request,
            state.as_ref().and_then(|state| state.settings.public_url.as_deref()),
        );
    async move {
        let state = state.ok_or(ApiError::Away)?;
        if is_foreign {
            return Err(ApiError::Forbidden(
                "this was sent by a page of another site".to_owned(),
            ));
        }
        let session = session.filter(|_| token.is_none());
        let secret = token.or(session.map(Secret::Session)).ok_or(ApiError::NoToken)?;
        let (database, readers) = (state.database.clone(), state.readers.clone());
        let found = state.on_main(async move {
            let reader = match reads {
                Some(Wanted { newest }) => Some(readers.choose(newest).await),
                None => None,
            };
            let mut member = secret.member(&database).await;
            if let (Err(error), Some(reader)) = (&member, &reader)
                && error.is_temporary()
                && reader.is_standby
            {
                member = secret.member(&reader.database).await;
            }
            let behind = reader.as_ref().and_then(|reader| reader.behind);
            let database = reader.map_or(database, |reader| reader.database);
            // A pool is made on the runtime that reads.
            Ok(member?.map(|member| (database.seen_by(&member.closed), behind, member)))
        });
        let (database, behind, member) = found.await?.ok_or(ApiError::UnknownToken)?;
        let viewer = Viewer {
            email: member.email,
            role: Role::of(&member.role),
            session,
        };
        Ok(Asker {
            viewer,
            is_pipeline: member.is_pipeline,
            database,
            closed: member.closed,
            behind,
        })
    }
}

/// What a request only reads: whether it must be the newest (`Cache-Control: no-cache`, RFC 9111, 5.2.1.4).
struct Wanted {
    newest: bool,
}

impl Wanted {
    fn by(request: &HttpRequest) -> Option<Self> {
        let wishes = request.headers().get_all(CACHE_CONTROL);
        let newest = wishes
            .filter_map(|wish| wish.to_str().ok())
            .flat_map(|wish| wish.split(','))
            .any(|wish| wish.trim().eq_ignore_ascii_case("no-cache"));
        request.method().is_safe().then_some(Self { newest })
    }
}

/// What a request was signed with.
enum Secret {
    Token(Digest),
    /// The access token of a program that a member let in.
    Grant(Digest),
    Session(Digest),
}

impl Secret {
    /// What a bearer token is. A program's is made for one resource, and good nowhere else (RFC 8707, 3).
    fn of(presented: &str, path: &str) -> Self {
        if presented.starts_with(ACCESS_PREFIX) && path == RESOURCE {
            Self::Grant(digest_of(presented))
        } else {
            Self::Token(digest_of(presented))
        }
    }

    async fn member(&self, database: &Database) -> Result<Option<Member>, StoreError> {
        match self {
            Self::Token(digest) => tokens::member(database, *digest).await,
            Self::Grant(digest) => grants::member(database, *digest).await,
            Self::Session(digest) => sessions::member(database, *digest).await,
        }
    }
}

/// Whether a request that changes something was sent by a page of another site: browsers say so,
/// and would send the session's cookie along where they do not know `SameSite`.
fn is_foreign(request: &HttpRequest, public_url: Option<&str>) -> bool {
    if request.method().is_safe() {
        return false;
    }
    let Some(origin) = request.headers().get(ORIGIN) else {
        return false;
    };
    let Ok(origin) = origin.to_str() else { return true };
    let host = request.headers().get(HOST).and_then(|host| host.to_str().ok());
    let is_own = origin
        .split_once("://")
        .is_some_and(|(_, authority)| Some(authority) == host);
    !is_own && public_url != Some(origin)
}

#[cfg(test)]
mod tests {
    use actix_web::test::TestRequest;
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::of_its_own_page("https://outcrop.skerry.example", "outcrop.skerry.example", false)]
    #[case::of_the_public_address_behind_a_proxy("https://errors.skerry.example", "10.0.0.7:8471", false)]
    #[case::of_another_site("https://evil.example", "outcrop.skerry.example", true)]
    #[case::of_a_page_without_a_site("null", "outcrop.skerry.example", true)]
    #[case::without_a_word("", "outcrop.skerry.example", false)]
    fn a_change_is_foreign(#[case] origin: &str, #[case] host: &str, #[case] expected: bool) {
        let mut request = TestRequest::post().insert_header((HOST, host));
        if !origin.is_empty() {
            request = request.insert_header((ORIGIN, origin));
        }
        assert_eq!(
            is_foreign(&request.to_http_request(), Some("https://errors.skerry.example")),
            expected
        );
        let read = TestRequest::get()
            .insert_header((HOST, host))
            .insert_header((ORIGIN, "https://evil.example"))
            .to_http_request();
        assert!(!is_foreign(&read, None), "reading changes nothing");
    }

    #[rstest]
    #[case::a_read(TestRequest::get(), "", Some(false))]
    #[case::one_that_wants_the_newest(TestRequest::get(), "max-age=0, No-Cache", Some(true))]
    #[case::one_that_wants_something_else(TestRequest::get(), "no-transform", Some(false))]
    #[case::a_change(TestRequest::post(), "no-cache", None)]
    fn what_only_reads_may_be_answered_by_a_standby(
        #[case] request: TestRequest,
        #[case] wish: &str,
        #[case] newest: Option<bool>,
    ) {
        let request = request.insert_header((CACHE_CONTROL, wish));
        let wanted = Wanted::by(&request.to_http_request());
        assert_eq!(wanted.map(|wanted| wanted.newest), newest);
    }

    #[test]
    fn an_unknown_role_may_read_and_each_role_may_what_those_before_may() {
        assert!(Role::of("admin") > Role::of("engineer") && Role::of("engineer") > Role::of("viewer"));
        assert_eq!(Role::of("harbour master"), Role::Viewer);
    }
}
