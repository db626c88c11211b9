//! Members, invitations, teams, and services that are limited to them.

use std::future::Future;

use actix_web::{HttpResponse, delete, get, post, put, web};
use chrono::{TimeDelta, Utc};
use outcrop_api::{
    Acceptance, InvitationItem, InvitationList, InvitationSecret, Invited, MadeInvitation, MemberItem, MemberList,
    NewInvitation, NewRole, NewTeam, Problem, ServiceLimit, TeamChange, TeamItem, TeamList,
};
use outcrop_store::people::{self, AccessError, invitations, teams};

use super::input::Body;
use super::session::LONGEST_PASSWORD;
use super::viewer::{Role, Seen, Viewer};
use crate::access::{Hashing, MIN_PASSWORD, Secret, digest_of, hash_password, hashing};
use crate::api_error::ApiError;
use crate::routes::parameters::bad;
use crate::state::State;

/// Days for which a link is good where not said, and at most.
const DAYS: (u32, u32) = (7, 30);
/// Longest name of a team, in bytes.
const LONGEST_NAME: usize = 100;
/// Teams of an invitation, and names of a team's members and services, at most.
const MOST: (usize, usize) = (50, 500);

/// Lists members with their roles and teams.
#[utoipa::path(operation_id = "list_members", tag = "people", responses((status = 200, body = MemberList)))]
#[get("/members")]
pub(super) async fn list_members(viewer: Viewer, state: Seen) -> Result<web::Json<MemberList>, ApiError> {
    let database = state.database.clone();
    let (rows, all_teams) = state
        .on_main(async move { Ok((people::members(&database).await?, teams::list(&database).await?)) })
        .await?;
    let is_admin = viewer.role >= Role::Admin;
    let teams_of = |email: &str| {
        let with = all_teams
            .iter()
            .filter(|team| team.members.iter().any(|member| member == email));
        with.map(|team| team.name.clone()).collect()
    };
    let items = rows.into_iter().map(|row| MemberItem {
        teams: teams_of(&row.email),
        email: row.email,
        role: row.role,
        created_at: row.created_at,
        last_used_at: row.last_used_at.filter(|_| is_admin),
        sessions: is_admin.then_some(row.sessions),
        tokens: is_admin.then_some(row.tokens),
    });
    Ok(web::Json(MemberList { items: items.collect() }))
}

/// Gives a member another role; it holds from the next request on.
#[utoipa::path(operation_id = "set_role", tag = "people", request_body = NewRole, params(("email" = String, Path,
    description = "The member's address")), responses(
    (status = 204),
    (status = 403, body = Problem, content_type = "application/problem+json"),
    (status = 404, body = Problem, content_type = "application/problem+json"),
    (status = 409, body = Problem, content_type = "application/problem+json", description = "They are the only admin"),
))]
#[put("/members/{email}")]
pub(super) async fn set_role(
    viewer: Viewer,
    path: web::Path<String>,
    body: Body<NewRole>,
    state: Seen,
) -> Result<HttpResponse, ApiError> {
    viewer.must_admin()?;
    let (database, email, role) = (state.database.clone(), path.into_inner(), body.role.word());
    let named = email.clone();
    done(&state, async move { people::set_role(&database, &named, role).await }).await?;
    state
        .note_change(&viewer.email, "changed role", &format!("{email}: {role}"))
        .await?;
    Ok(HttpResponse::NoContent().finish())
}

/// Removes a member with their tokens and sessions; what they did stays under their address.
#[utoipa::path(operation_id = "remove_member", tag = "people", params(("email" = String, Path, description = "The \
    member's address")), responses(
    (status = 204),
    (status = 403, body = Problem, content_type = "application/problem+json"),
    (status = 404, body = Problem, content_type = "application/problem+json"),
    (status = 409, body = Problem, content_type = "application/problem+json", description = "They are the only admin"),
))]
#[delete("/members/{email}")]
pub(super) async fn remove_member(
    viewer: Viewer,
    path: web::Path<String>,
    state: Seen,
) -> Result<HttpResponse, ApiError> {
    viewer.must_admin()?;
    let (database, email) = (state.database.clone(), path.into_inner());
    let named = email.clone();
    done(&state, async move { people::remove(&database, &named).await }).await?;
    state.note_change(&viewer.email, "removed member", &email).await?;
    Ok(HttpResponse::NoContent().finish())
}

/// Ends all sessions of a member and revokes all their tokens: for a machine that was lost. They sign in again.
#[utoipa::path(operation_id = "end_sessions", tag = "people", params(("email" = String, Path, description = "The \
    member's address")), responses(
    (status = 204),
    (status = 403, body = Problem, content_type = "application/problem+json"),
    (status = 404, body = Problem, content_type = "application/problem+json"),
))]
#[delete("/members/{email}/sessions")]
pub(super) async fn end_sessions(
    viewer: Viewer,
    path: web::Path<String>,
    state: Seen,
) -> Result<HttpResponse, ApiError> {
    viewer.must_admin()?;
    let (database, email) = (state.database.clone(), path.into_inner());
    let named = email.clone();
    done(&state, async move { people::end_all_of(&database, &named).await }).await?;
    state
        .note_change(&viewer.email, "ended sessions and tokens of", &email)
        .await?;
    Ok(HttpResponse::NoContent().finish())
}

/// Lists who was invited and has not come yet.
#[utoipa::path(operation_id = "list_invitations", tag = "people", responses(
    (status = 200, body = InvitationList),
    (status = 403, body = Problem, content_type = "application/problem+json"),
))]
#[get("/invitations")]
pub(super) async fn list_invitations(viewer: Viewer, state: Seen) -> Result<web::Json<InvitationList>, ApiError> {
    viewer.must_admin()?;
    let database = state.database.clone();
    let rows = state
        .on_main(async move { invitations::list(&database, Utc::now()).await })
        .await?;
    let items = rows.into_iter().map(|row| InvitationItem {
        id: row.id,
        email: row.email,
        role: row.role,
        teams: row.teams,
        by: row.made_by,
        at: row.made_at,
        expires_at: row.expires_at,
    });
    Ok(web::Json(InvitationList { items: items.collect() }))
}

/// Invites somebody: makes a link where they choose a password. An earlier link of theirs is good no more.
#[utoipa::path(operation_id = "invite", tag = "people", request_body = NewInvitation, responses(
    (status = 201, body = MadeInvitation),
    (status = 400, body = Problem, content_type = "application/problem+json"),
    (status = 403, body = Problem, content_type = "application/problem+json"),
    (status = 404, body = Problem, content_type = "application/problem+json", description = "There is no such team"),
    (status = 409, body = Problem, content_type = "application/problem+json", description = "They are a member"),
))]
#[post("/invitations")]
pub(super) async fn invite(viewer: Viewer, body: Body<NewInvitation>, state: Seen) -> Result<HttpResponse, ApiError> {
    viewer.must_admin()?;
    let NewInvitation {
        email,
        role,
        teams,
        days,
    } = body.into_inner();
    let email = address(&email)?;
    let days = days.unwrap_or(DAYS.0);
    if !(1..=DAYS.1).contains(&days) {
        return Err(bad(format!("days is {days}; it must be 1 to {}", DAYS.1)));
    }
    if teams.len() > MOST.0 {
        return Err(bad(format!("teams may hold {} names", MOST.0)));
    }
    let (secret, now) = (Secret::random("outcrop-invitation"), Utc::now());
    let expires_at = now + TimeDelta::days(i64::from(days));
    let (database, digest, by, invited) = (
        state.database.clone(),
        secret.digest(),
        viewer.email.clone(),
        email.clone(),
    );
    done(&state, async move {
        let asked = invitations::NewInvitation {
            email: &invited,
            role: role.word(),
            teams: &teams,
            by: &by,
            at: now,
            expires_at,
        };
        invitations::make(&database, digest, &asked).await
    })
    .await?;
    state
        .note_change(&viewer.email, "invited", &format!("{email}: {}", role.word()))
        .await?;
    let base = state.settings.public_url.as_deref().unwrap_or_default();
    Ok(HttpResponse::Created().json(MadeInvitation {
        link: format!("{}/join#{}", base.trim_end_matches('/'), secret.expose()),
        expires_at,
    }))
}

/// Takes an invitation back: its link is good no more.
#[utoipa::path(operation_id = "withdraw_invitation", tag = "people", params(("id" = i32, Path, description = "The \
    invitation's number")), responses(
    (status = 204),
    (status = 403, body = Problem, content_type = "application/problem+json"),
    (status = 404, body = Problem, content_type = "application/problem+json"),
))]
#[delete("/invitations/{id}")]
pub(super) async fn withdraw_invitation(
    viewer: Viewer,
    path: web::Path<i32>,
    state: Seen,
) -> Result<HttpResponse, ApiError> {
    viewer.must_admin()?;
    let (database, id) = (state.database.clone(), path.into_inner());
    let email = done(&state, async move { invitations::withdraw(&database, id).await }).await?;
    state.note_change(&viewer.email, "took invitation back", &email).await?;
    Ok(HttpResponse::NoContent().finish())
}

/// Says what an invitation's link is good for.
#[utoipa::path(operation_id = "show_invitation", tag = "people", request_body = InvitationSecret, responses(
    (status = 200, body = Invited),
    (status = 404, body = Problem, content_type = "application/problem+json", description = "The link is good no more"),
))]
#[post("/invitation")]
pub(super) async fn show_invitation(
    body: Body<InvitationSecret>,
    state: web::Data<State>,
) -> Result<web::Json<Invited>, ApiError> {
    let (database, digest) = (state.database.clone(), digest_of(&body.secret));
    let found = state
        .on_main(async move { invitations::of_secret(&database, digest, Utc::now()).await })
        .await?;
    let found = found.ok_or_else(good_no_more)?;
    Ok(web::Json(Invited {
        email: found.email,
        role: found.role,
        teams: found.teams,
        by: found.made_by,
        expires_at: found.expires_at,
    }))
}

/// Accepts an invitation: from now on one signs in with the address it is for and this password.
#[utoipa::path(operation_id = "accept_invitation", tag = "people", request_body = Acceptance, responses(
    (status = 204),
    (status = 400, body = Problem, content_type = "application/problem+json"),
    (status = 404, body = Problem, content_type = "application/problem+json", description = "The link is good no more"),
    (status = 409, body = Problem, content_type = "application/problem+json", description = "The address is taken"),
    (status = 429, body = Problem, content_type = "application/problem+json"),
))]
#[post("/invitation/accept")]
pub(super) async fn accept_invitation(
    body: Body<Acceptance>,
    state: web::Data<State>,
) -> Result<HttpResponse, ApiError> {
    let Acceptance { secret, password } = body.into_inner();
    if password.chars().count() < MIN_PASSWORD || password.len() > LONGEST_PASSWORD {
        return Err(bad(format!(
            "the password must have at least {MIN_PASSWORD} characters and at most {LONGEST_PASSWORD} bytes"
        )));
    }
    let (database, digest) = (state.database.clone(), digest_of(&secret));
    let known = state
        .on_main(async move { invitations::of_secret(&database, digest, Utc::now()).await })
        .await?;
    // Before a password is hashed: that costs more than a stranger may ask for.
    if known.is_none() {
        return Err(good_no_more());
    }
    let hash = match hashing(move || hash_password(&password)).await {
        Hashing::Done(hash) => hash.map_err(ApiError::BadRequest)?,
        Hashing::Busy => return Err(ApiError::TooMany(1)),
        Hashing::Failed => return Err(bad("the password cannot be used")),
    };
    let database = state.database.clone();
    let accepted = outcome(&state, async move {
        invitations::accept(&database, digest, &hash, Utc::now()).await
    })
    .await?;
    let invitation = accepted.map_err(|error| match error {
        AccessError::Missing(_) => good_no_more(),
        error => refused(error),
    })?;
    state
        .note_change(&invitation.email, "accepted invitation", &invitation.made_by)
        .await?;
    Ok(HttpResponse::NoContent().finish())
}

fn good_no_more() -> ApiError {
    ApiError::NotFound("this invitation was used, taken back or has expired: ask for another".to_owned())
}

/// Lists teams with their members and services, and the services that only their teams may read.
#[utoipa::path(operation_id = "list_teams", tag = "people", responses((status = 200, body = TeamList)))]
#[get("/teams")]
pub(super) async fn list_teams(_viewer: Viewer, state: Seen) -> Result<web::Json<TeamList>, ApiError> {
    let database = state.database.clone();
    let (rows, limited) = state
        .on_main(async move { Ok((teams::list(&database).await?, teams::limited(&database).await?)) })
        .await?;
    let items = rows.into_iter().map(|team| TeamItem {
        name: team.name,
        members: team.members,
        services: team.services,
    });
    Ok(web::Json(TeamList {
        items: items.collect(),
        limited,
    }))
}

/// Makes a team.
#[utoipa::path(operation_id = "make_team", tag = "people", request_body = NewTeam, responses(
    (status = 204),
    (status = 400, body = Problem, content_type = "application/problem+json"),
    (status = 403, body = Problem, content_type = "application/problem+json"),
    (status = 409, body = Problem, content_type = "application/problem+json", description = "The name is taken"),
))]
#[post("/teams")]
pub(super) async fn make_team(viewer: Viewer, body: Body<NewTeam>, state: Seen) -> Result<HttpResponse, ApiError> {
    viewer.must_admin()?;
    let name = body.name.trim().to_owned();
    if name.is_empty() || name.len() > LONGEST_NAME || name.contains('@') || name.contains('/') {
        return Err(bad(format!(
            "a team's name has 1 to {LONGEST_NAME} bytes, and neither @ nor /: deck team"
        )));
    }
    let (database, by, made) = (state.database.clone(), viewer.email.clone(), name.clone());
    done(
        &state,
        async move { teams::make(&database, &made, &by, Utc::now()).await },
    )
    .await?;
    state.note_change(&viewer.email, "made team", &name).await?;
    Ok(HttpResponse::NoContent().finish())
}

/// Says anew who is in a team and which services it owns.
#[utoipa::path(operation_id = "change_team", tag = "people", request_body = TeamChange, params(("name" = String, Path,
    description = "The team's name")), responses(
    (status = 204),
    (status = 400, body = Problem, content_type = "application/problem+json"),
    (status = 403, body = Problem, content_type = "application/problem+json"),
    (status = 404, body = Problem, content_type = "application/problem+json"),
))]
#[put("/teams/{name}")]
pub(super) async fn change_team(
    viewer: Viewer,
    path: web::Path<String>,
    body: Body<TeamChange>,
    state: Seen,
) -> Result<HttpResponse, ApiError> {
    viewer.must_admin()?;
    let (name, change) = (path.into_inner(), body.into_inner());
    let count = |names: &Option<Vec<String>>| names.as_ref().map_or(0, Vec::len);
    if count(&change.members) > MOST.1 || count(&change.services) > MOST.1 {
        return Err(bad(format!("a team has at most {} members and services", MOST.1)));
    }
    let (database, named, told) = (state.database.clone(), name.clone(), change.clone());
    done(&state, async move {
        teams::set(&database, &named, change.members.as_deref(), change.services.as_deref()).await
    })
    .await?;
    for (did, names) in [("set members of", told.members), ("set services of", told.services)] {
        if let Some(names) = names {
            let subject = format!("{name}: {}", names.join(", "));
            state.note_change(&viewer.email, did, &subject).await?;
        }
    }
    Ok(HttpResponse::NoContent().finish())
}

/// Removes a team. What was limited to it alone is then read by admins.
#[utoipa::path(operation_id = "remove_team", tag = "people", params(("name" = String, Path, description = "The \
    team's name")), responses(
    (status = 204),
    (status = 403, body = Problem, content_type = "application/problem+json"),
    (status = 404, body = Problem, content_type = "application/problem+json"),
))]
#[delete("/teams/{name}")]
pub(super) async fn remove_team(
    viewer: Viewer,
    path: web::Path<String>,
    state: Seen,
) -> Result<HttpResponse, ApiError> {
    viewer.must_admin()?;
    let (database, name) = (state.database.clone(), path.into_inner());
    let named = name.clone();
    done(&state, async move { teams::remove(&database, &named).await }).await?;
    state.note_change(&viewer.email, "removed team", &name).await?;
    Ok(HttpResponse::NoContent().finish())
}

/// Limits a service to its teams and admins, or opens it to all members.
#[utoipa::path(operation_id = "limit_service", tag = "people", request_body = ServiceLimit, params(("service" = String,
    Path, description = "The service")), responses(
    (status = 204),
    (status = 403, body = Problem, content_type = "application/problem+json"),
    (status = 404, body = Problem, content_type = "application/problem+json"),
))]
#[put("/services/{service}/limit")]
pub(super) async fn limit_service(
    viewer: Viewer,
    path: web::Path<String>,
    body: Body<ServiceLimit>,
    state: Seen,
) -> Result<HttpResponse, ApiError> {
    viewer.must_admin()?;
    let (database, service, is_limited) = (state.database.clone(), path.into_inner(), body.limited);
    let (named, by) = (service.clone(), viewer.email.clone());
    done(&state, async move {
        teams::limit(&database, &named, is_limited, (&by, Utc::now())).await
    })
    .await?;
    let did = if is_limited {
        "limited to its teams"
    } else {
        "opened to all members"
    };
    state.note_change(&viewer.email, did, &service).await?;
    Ok(HttpResponse::NoContent().finish())
}

/// An address that somebody may sign in with.
fn address(text: &str) -> Result<String, ApiError> {
    let text = text.trim();
    let is_one = text.len() <= 320
        && text
            .split_once('@')
            .is_some_and(|(who, host)| !who.is_empty() && !host.is_empty())
        && !text.chars().any(|c| c.is_whitespace() || c.is_control());
    if is_one {
        Ok(text.to_owned())
    } else {
        Err(bad("email must be an address, such as purser@skerry.example"))
    }
}

async fn done<T, F>(state: &State, work: F) -> Result<T, ApiError>
where
    T: Send + 'static,
    F: Future<Output = Result<T, AccessError>> + Send + 'static,
{
    outcome(state, work).await?.map_err(refused)
}

/// What came of something done to members, teams or keys, where the database answered.
pub(super) async fn outcome<T, F>(state: &State, work: F) -> Result<Result<T, AccessError>, ApiError>
where
    T: Send + 'static,
    F: Future<Output = Result<T, AccessError>> + Send + 'static,
{
    Ok(state
        .on_main(async move {
            match work.await {
                Err(AccessError::Store(error)) => Err(error),
                other => Ok(other),
            }
        })
        .await?)
}

fn refused(error: AccessError) -> ApiError {
    match error {
        AccessError::Exists(_) | AccessError::LastAdmin(_) => ApiError::Conflict(error.to_string()),
        AccessError::Missing(_) => ApiError::NotFound(error.to_string()),
        AccessError::Store(error) => error.into(),
    }
}
