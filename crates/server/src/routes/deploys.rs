//! Deploys, and whether they did harm.

use actix_web::{HttpRequest, HttpResponse, get, post, web};
use chrono::{DateTime, TimeDelta, Utc};
use outcrop_api::{
    CheckQuery, DeployChanges, DeployCheck, DeployItem, DeployList, DeployQuery, ErrorQuery, NewDeploy, Problem,
};
use outcrop_core::Reference;
use outcrop_store::deploys;
use outcrop_store::deploys::changes::Changes;
use outcrop_store::deploys::{Deploy, changes};
use outcrop_store::errors::handling;
use outcrop_store::errors::handling::{Action, Settled};
use outcrop_store::people::service_names::{is_closed, is_meant};

use super::input::Body;
use super::query::{limit, window as window_of};
use super::viewer::{Pipeline, Seen};
use crate::answers::{deploy_answers, deploy_check};
use crate::api_error::ApiError;
use crate::routes::parameters::{bad, parameters};
use crate::state::State;

/// Records a deploy.
#[utoipa::path(operation_id = "record_deploy", tag = "deploys", request_body = NewDeploy, responses(
    (status = 204),
    (status = 400, body = Problem, content_type = "application/problem+json"),
    (status = 403, body = Problem, content_type = "application/problem+json"),
))]
#[post("/deploys")]
pub(super) async fn record_deploy(
    Pipeline(viewer): Pipeline,
    body: Body<NewDeploy>,
    state: Seen,
) -> Result<HttpResponse, ApiError> {
    viewer.must_engineer()?;
    record(body.into_inner(), viewer.email, &state).await?;
    Ok(HttpResponse::NoContent().finish())
}

/// Records what was announced, in whatever form.
pub(super) async fn record(announced: NewDeploy, by: String, state: &State) -> Result<(), ApiError> {
    let NewDeploy {
        service,
        version,
        environment,
        at,
        ended_at,
        share,
        instance_group,
        revision,
        link,
        changes,
        settles,
    } = announced;
    let changes = changes.map(brought).transpose()?;
    let named = |what: &str, text: String| {
        let text = text.trim().to_owned();
        let fits =
            !text.is_empty() && text.len() <= outcrop_core::telemetry::names::MAX_NAME_BYTES && !text.contains('\0');
        if fits {
            Ok(text)
        } else {
            Err(bad(format!("the deploy's {what} must be 1 to 200 bytes")))
        }
    };
    let now = Utc::now();
    let at = at.unwrap_or(now);
    if at > now + TimeDelta::minutes(5) || at < now - TimeDelta::days(30) {
        return Err(bad("at must lie within the last 30 days"));
    }
    if ended_at.is_some_and(|ended| ended < at) {
        return Err(bad("ended_at is before at"));
    }
    if share.is_some_and(|share| !(share > 0.0 && share < 1.0)) {
        return Err(bad("share is a canary's part of the traffic: above 0 and below 1"));
    }
    if revision.len() > 200
        || revision.contains('\0')
        || link.len() > 2_000
        || link.contains('\0')
        || !(link.is_empty() || link.starts_with("https://") || link.starts_with("http://"))
    {
        return Err(bad(
            "revision is at most 200 bytes long and without NUL, link an http or https address of at most 2,000",
        ));
    }
    let deploy = deploys::NewDeploy {
        service: named("service", service)?,
        environment: named("environment", environment)?,
        version: named("version", version)?,
        at,
        ended_at,
        share,
        instance_group: instance_group.map(|group| named("instance group", group)).transpose()?,
        revision,
        link,
        by,
    };
    let (database, name) = (state.database.clone(), deploy.service.clone());
    if state.on_main(async move { is_closed(&database, &name).await }).await? {
        return Err(ApiError::Forbidden(format!(
            "{} is limited to its teams, and you are in none of them",
            deploy.service
        )));
    }
    let errors = settled_by_it(&settles, &deploy.service, state).await?;
    let database = state.database.clone();
    let recorded = async move {
        deploys::record(&database, &deploy).await?;
        if let Some(changes) = &changes {
            changes::note(&database, &deploy.service, &deploy.version, changes).await?;
        }
        handling::meet_commits(&database, &deploy.service, now).await?;
        let settle = Action::Settle(Settled::In(deploy.version.clone()));
        super::handling::refusal(handling::act(&database, &errors, &settle, (&deploy.by, now), None).await)
    };
    state.on_main(recorded).await?.map_or(Ok(()), Err)
}

/// Most errors that one deploy settles.
const MAX_SETTLED: usize = 500;

/// The errors that a deploy names as settled by it: each must be one of its service.
async fn settled_by_it(named: &[String], service: &str, state: &State) -> Result<Vec<Reference>, ApiError> {
    if named.len() > MAX_SETTLED {
        return Err(bad(format!("a deploy settles {MAX_SETTLED} errors at most")));
    }
    let mut errors = vec![];
    for name in named {
        let error = super::handling::known(state, name).await?;
        if !is_meant(service, &error.service) {
            return Err(bad(format!(
                "settles: {} is an error of {}, not of {service}",
                error.reference(),
                error.service
            )));
        }
        errors.push(error.reference());
    }
    Ok(errors)
}

/// Commits and owners' patterns taken of one deploy, files of a commit, and lines' ranges of a file.
const MAX_CHANGES: (usize, usize, usize, usize) = (500, 2_000, 500, 5_000);

fn brought(sent: DeployChanges) -> Result<Changes, ApiError> {
    let (commits, owners, files, ranges) = MAX_CHANGES;
    let is_over = |commit: &outcrop_core::touching::Commit| {
        commit.files.len() > files || commit.files.iter().any(|file| file.ranges.len() > ranges)
    };
    if sent.commits.len() > commits || sent.owners.len() > owners || sent.commits.iter().any(is_over) {
        return Err(bad(format!(
            "changes are taken up to {commits} commits, {files} files a commit, {ranges} ranges a file and {owners} \
             owners' patterns"
        )));
    }
    let clean = |text: &str| {
        outcrop_core::scrub::text(text)
            .unwrap_or_else(|| text.to_owned())
            .replace('\0', "")
    };
    let commits = sent
        .commits
        .into_iter()
        .map(|commit| outcrop_core::touching::Commit {
            summary: clean(&commit.summary),
            author: clean(&commit.author),
            ..commit
        })
        .collect();
    let owners = sent
        .owners
        .into_iter()
        .map(|owned| (owned.pattern, owned.owners))
        .collect();
    Ok(Changes {
        repository: clean(&sent.repository),
        commits,
        owners,
    })
}

/// Deploys, announced and seen, each with its answer.
#[utoipa::path(operation_id = "list_deploys", tag = "deploys", params(DeployQuery), responses(
    (status = 200, body = DeployList),
    (status = 400, body = Problem, content_type = "application/problem+json"),
))]
#[get("/deploys")]
pub(super) async fn list_deploys(
    _pipeline: Pipeline,
    request: HttpRequest,
    state: Seen,
) -> Result<web::Json<DeployList>, ApiError> {
    let asked: DeployQuery = parameters(request.query_string())?;
    let limit = limit(asked.limit)?;
    let since = asked.since.or_else(|| asked.from.is_none().then(|| "7d".to_owned()));
    let window = ErrorQuery {
        since,
        from: asked.from,
        to: asked.to,
        ..ErrorQuery::default()
    };
    let now = Utc::now();
    let window = window_of(&window, now)?;
    let database = state.database.clone();
    let items = state
        .on_main(async move {
            let place = (asked.service.as_deref(), asked.environment.as_deref());
            let limit = i64::try_from(limit).unwrap_or(i64::MAX);
            let rows = deploys::list(&database, place, (window.from, window.to), limit).await?;
            let checks = deploy_answers::of(&database, &rows, now).await?;
            let items = rows.into_iter().zip(checks);
            Ok(items.map(|(row, check)| item(row, check, now)).collect())
        })
        .await?;
    Ok(web::Json(DeployList { items }))
}

pub(super) fn item(row: Deploy, check: DeployCheck, now: DateTime<Utc>) -> DeployItem {
    DeployItem {
        runs: row
            .last_event_at
            .is_some_and(|last| now - last < TimeDelta::minutes(10)),
        service: row.service,
        version: row.version,
        environment: row.environment,
        at: row.at,
        ended_at: row.ended_at,
        share: row.share,
        instance_group: row.instance_group,
        announced: row.announced,
        rollback: row.rollback,
        revision: row.revision,
        link: row.link,
        by: row.by,
        check,
    }
}

/// Whether a deploy did harm: `clear`, `flagged`, or `too early` to say.
#[utoipa::path(operation_id = "check_deploy", tag = "deploys", params(CheckQuery), responses(
    (status = 200, body = DeployCheck),
    (status = 400, body = Problem, content_type = "application/problem+json"),
    (status = 404, body = Problem, content_type = "application/problem+json"),
))]
#[get("/deploys/check")]
pub(super) async fn check_deploy(
    _pipeline: Pipeline,
    request: HttpRequest,
    state: Seen,
) -> Result<web::Json<DeployCheck>, ApiError> {
    checked(&state, parameters(request.query_string())?)
        .await
        .map(web::Json)
}

/// The answer for one deploy.
pub(super) async fn checked(state: &State, asked: CheckQuery) -> Result<DeployCheck, ApiError> {
    let kinds: Vec<String> = asked
        .fail_on
        .iter()
        .flat_map(|text| text.split(','))
        .map(|kind| kind.trim().to_owned())
        .filter(|kind| !kind.is_empty())
        .collect();
    if let Some(other) = kinds
        .iter()
        .find(|kind| !["new", "surging", "returned", "failing", "slower"].contains(&kind.as_str()))
    {
        return Err(bad(format!(
            "fail_on names `{other}`; it may name new, surging, returned, failing and slower"
        )));
    }
    let named = format!(
        "no deploy of {} {} into {} is known: neither announced nor seen",
        asked.service, asked.version, asked.environment
    );
    let page = state.settings.page(
        &["deploys", &asked.service, &asked.version],
        &[("environment", &asked.environment)],
    );
    let database = state.database.clone();
    let check = state
        .on_main(async move {
            let deploy = deploys::of_version(&database, &asked.service, &asked.version, &asked.environment).await?;
            match deploy {
                Some(deploy) => deploy_check::check_one(&database, &deploy, &kinds, Utc::now())
                    .await
                    .map(|judged| Some(judged.check)),
                None => Ok(None),
            }
        })
        .await?;
    check
        .map(|check| DeployCheck { page, ..check })
        .ok_or(ApiError::NotFound(named))
}
