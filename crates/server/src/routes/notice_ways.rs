//! Ways of notices, how members want to be told, and links in notices that act.

use actix_web::{HttpResponse, delete, get, post, put, web};
use chrono::Utc;
use outcrop_api::{
    NoticeLink, NoticeLinkAction, NoticeList, NoticeWay, NoticeWayItem, NoticeWayList, NoticeWishes, Problem,
};
use outcrop_store::notices::outbox::{self, NewNotice};
use outcrop_store::notices::{ways as store, wishes as stored_wishes};

use super::input::Body;
use super::parameters::bad;
use super::viewer::{Role, Seen, Viewer};
use crate::api_error::ApiError;
use crate::notices::links::{self, NotDone};
use crate::notices::{ways, wishes};
use crate::state::State;

/// What stands in place of an address that is not shown.
const HIDDEN: &str = "…";

/// Lists ways by which notices go to no single member.
#[utoipa::path(operation_id = "list_notice_ways", tag = "notices", responses((status = 200, body = NoticeWayList)))]
#[get("/notice-ways")]
pub(super) async fn list_notice_ways(viewer: Viewer, state: Seen) -> Result<web::Json<NoticeWayList>, ApiError> {
    let database = state.database.clone();
    let stored = state.on_main(async move { store::list(&database).await }).await?;
    let item = |stored: store::Stored| {
        let mut way: NoticeWay = serde_json::from_value(stored.setting).unwrap_or_default();
        // Whoever knows a chat's address may write there.
        if viewer.role < Role::Admin {
            HIDDEN.clone_into(&mut way.address);
        }
        NoticeWayItem {
            name: stored.name,
            way,
            by: stored.changed_by,
            at: stored.changed_at,
        }
    };
    Ok(web::Json(NoticeWayList {
        items: stored.into_iter().map(item).collect(),
        hosts: state.settings.outbound.hosts.clone(),
    }))
}

/// Makes or changes a way.
#[utoipa::path(operation_id = "set_notice_way", tag = "notices", request_body = NoticeWay, params(("name" = String,
    Path, description = "Its name, by which rules name it")), responses(
    (status = 204),
    (status = 400, body = Problem, content_type = "application/problem+json"),
    (status = 403, body = Problem, content_type = "application/problem+json"),
))]
#[put("/notice-ways/{name}")]
pub(super) async fn set_notice_way(
    viewer: Viewer,
    path: web::Path<String>,
    body: Body<NoticeWay>,
    state: Seen,
) -> Result<HttpResponse, ApiError> {
    viewer.must_admin()?;
    let (name, way) = (path.into_inner(), body.into_inner());
    ways::check(&name, &way, &state.settings.outbound).map_err(|refused| bad(refused.to_string()))?;
    let setting = serde_json::to_value(&way).map_err(|error| bad(error.to_string()))?;
    let (database, by, named) = (state.database.clone(), viewer.email.clone(), name.clone());
    let is_set = state
        .on_main(async move { store::set(&database, &named, &setting, (&by, Utc::now())).await })
        .await?;
    if !is_set {
        return Err(bad(format!(
            "there are {} ways already: remove one first",
            store::MAX_WAYS
        )));
    }
    state.note_change(&viewer.email, "set way of notices", &name).await?;
    Ok(HttpResponse::NoContent().finish())
}

/// Removes a way; rules that name it say so.
#[utoipa::path(operation_id = "remove_notice_way", tag = "notices", params(("name" = String, Path, description = "Its \
    name")), responses(
    (status = 204),
    (status = 403, body = Problem, content_type = "application/problem+json"),
    (status = 404, body = Problem, content_type = "application/problem+json"),
))]
#[delete("/notice-ways/{name}")]
pub(super) async fn remove_notice_way(
    viewer: Viewer,
    path: web::Path<String>,
    state: Seen,
) -> Result<HttpResponse, ApiError> {
    viewer.must_admin()?;
    let (database, name) = (state.database.clone(), path.into_inner());
    let named = name.clone();
    if !state
        .on_main(async move { store::remove(&database, &named).await })
        .await?
    {
        return Err(no_way(&name));
    }
    state
        .note_change(&viewer.email, "removed way of notices", &name)
        .await?;
    Ok(HttpResponse::NoContent().finish())
}

fn no_way(name: &str) -> ApiError {
    ApiError::NotFound(format!("there is no way `{name}`"))
}

/// Sends a test by a way.
#[utoipa::path(operation_id = "test_notice_way", tag = "notices", params(("name" = String, Path, description = "Its \
    name")), responses(
    (status = 200, body = NoticeList),
    (status = 403, body = Problem, content_type = "application/problem+json"),
    (status = 404, body = Problem, content_type = "application/problem+json"),
))]
#[post("/notice-ways/{name}/test")]
pub(super) async fn test_notice_way(
    viewer: Viewer,
    path: web::Path<String>,
    state: Seen,
) -> Result<web::Json<NoticeList>, ApiError> {
    viewer.must_admin()?;
    let (database, name) = (state.database.clone(), path.into_inner());
    let way = name.clone();
    let sent = state
        .on_main(async move {
            if store::one(&database, &way).await?.is_none() {
                return Ok(None);
            }
            let paragraph = format!("This is a test by {}: nothing happened.", viewer.email);
            let new = NewNotice {
                rule: (None, ""),
                way: &way,
                recipient: "",
                reason: "test",
                subject: "A test of this way of notices",
                event_ids: &[],
                body: Some(serde_json::json!({"paragraphs": [paragraph]})),
            };
            let id = outbox::put(&database, &new, Utc::now()).await?;
            outbox::one(&database, id).await
        })
        .await?;
    let sent = sent.ok_or_else(|| no_way(&name))?;
    Ok(web::Json(NoticeList {
        items: vec![super::notices::notice(sent, &std::collections::HashMap::new())],
        next: None,
    }))
}

/// Says how whoever asks wants to be told.
#[utoipa::path(operation_id = "show_notice_wishes", tag = "notices", responses((status = 200, body = NoticeWishes)))]
#[get("/notice-wishes")]
pub(super) async fn show_notice_wishes(viewer: Viewer, state: Seen) -> Result<web::Json<NoticeWishes>, ApiError> {
    let database = state.database.clone();
    let said = state
        .on_main(async move { stored_wishes::read(&database, &viewer.email).await })
        .await?;
    Ok(web::Json(
        serde_json::from_value(said).unwrap_or_else(|_never_said| wishes::unsaid()),
    ))
}

/// Sets how whoever asks wants to be told.
#[utoipa::path(operation_id = "set_notice_wishes", tag = "notices", request_body = NoticeWishes, responses(
    (status = 200, body = NoticeWishes),
    (status = 400, body = Problem, content_type = "application/problem+json"),
))]
#[put("/notice-wishes")]
pub(super) async fn set_notice_wishes(
    viewer: Viewer,
    body: Body<NoticeWishes>,
    state: Seen,
) -> Result<web::Json<NoticeWishes>, ApiError> {
    let said = wishes::write(&wishes::read(&body.into_inner())?);
    let setting = serde_json::to_value(&said).map_err(|error| bad(error.to_string()))?;
    let database = state.database.clone();
    state
        .on_main(async move { stored_wishes::save(&database, &viewer.email, &setting).await })
        .await?;
    Ok(web::Json(said))
}

/// Says what a link of a notice would do; does nothing.
#[utoipa::path(operation_id = "show_notice_link", tag = "notices", request_body = NoticeLink, responses(
    (status = 200, body = NoticeLinkAction),
    (status = 404, body = Problem, content_type = "application/problem+json", description = "The link is good no more"),
))]
#[post("/notice-link")]
pub(super) async fn show_notice_link(
    body: Body<NoticeLink>,
    state: web::Data<State>,
) -> Result<web::Json<NoticeLinkAction>, ApiError> {
    follow(&state, body.into_inner(), false).await
}

/// Does what a link of a notice says, as the member that it was sent to.
#[utoipa::path(operation_id = "follow_notice_link", tag = "notices", request_body = NoticeLink, responses(
    (status = 200, body = NoticeLinkAction),
    (status = 404, body = Problem, content_type = "application/problem+json", description = "The link is good no more"),
    (status = 409, body = Problem, content_type = "application/problem+json", description = "Somebody did something \
        meanwhile"),
))]
#[post("/notice-link/act")]
pub(super) async fn follow_notice_link(
    body: Body<NoticeLink>,
    state: web::Data<State>,
) -> Result<web::Json<NoticeLinkAction>, ApiError> {
    follow(&state, body.into_inner(), true).await
}

async fn follow(state: &State, link: NoticeLink, acts: bool) -> Result<web::Json<NoticeLinkAction>, ApiError> {
    let database = state.database.clone();
    let done = state
        .on_main(async move {
            match links::follow(&database, &link.link, acts, Utc::now()).await {
                Err(NotDone::Store(error)) => Err(error),
                other => Ok(other),
            }
        })
        .await?;
    done.map(web::Json).map_err(|refused| match refused {
        NotDone::Meanwhile(why) => ApiError::Conflict(why),
        NotDone::Store(error) => error.into(),
        other => ApiError::NotFound(other.to_string()),
    })
}
