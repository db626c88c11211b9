//! Deploys, and whether they did harm.

use actix_web::{HttpRequest, HttpResponse, get, post, web};
use chrono::{DateTime, DurationRound, TimeDelta, Utc};
use futures_util::{StreamExt, TryStreamExt, stream};
use outcrop_store::deploy_changes::{self, Changes};
use outcrop_store::deploys::{self, CHARGED, Deploy, Flag};
use outcrop_store::{Database, StoreError, errors, traces};

use super::query::{bad, limit, parameters, scope};
use super::viewer::Pipeline;
use crate::api_error::ApiError;
use crate::state::State;
use crate::wire::{
    CheckQuery, DeployChanges, DeployCheck, DeployItem, DeployList, DeployQuery, EndpointChange, ErrorQuery, FlagItem, NewDeploy, Problem,
    Sums,
};

/// Failures to be expected at the rate of before, from which on a doubling would have shown: of twice as many expected, fewer
/// than these come by chance in one of twenty cases (Poisson: P(N ≤ 6 | 12) = 0.046).
const ENOUGH_FAILURES: f64 = 6.0;
/// Requests that are enough however rarely they failed before: then a failure in a hundred would have shown.
const ENOUGH_REQUESTS: i64 = 600;
/// Whole minutes before anything is called clear.
const LEAST_MINUTES: i64 = 5;
/// The longest that is looked back before a deploy, in minutes.
const BEFORE_MINUTES: i64 = 180;

/// Records a deploy.
#[utoipa::path(operation_id = "record_deploy", tag = "deploys", request_body = NewDeploy, responses(
    (status = 204),
    (status = 400, body = Problem, content_type = "application/problem+json"),
    (status = 403, body = Problem, content_type = "application/problem+json"),
))]
#[post("/deploys")]
pub(super) async fn record_deploy(
    Pipeline(viewer): Pipeline,
    body: web::Json<NewDeploy>,
    state: web::Data<State>,
) -> Result<HttpResponse, ApiError> {
    viewer.must_engineer()?;
    record(body.into_inner(), viewer.email, &state).await?;
    Ok(HttpResponse::NoContent().finish())
}

/// Records what was announced, in whatever form.
pub(super) async fn record(announced: NewDeploy, by: String, state: &State) -> Result<(), ApiError> {
    let NewDeploy { service, version, environment, at, ended_at, share, instance_group, revision, link, changes } = announced;
    let changes = changes.map(brought).transpose()?;
    let named = |what: &str, text: String| {
        let text = text.trim().to_owned();
        let fits = !text.is_empty() && text.len() <= outcrop_core::telemetry::names::MAX_NAME_BYTES && !text.contains('\0');
        if fits { Ok(text) } else { Err(bad(format!("the deploy's {what} must be 1 to 200 bytes"))) }
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
    if revision.len() > 200 || link.len() > 2_000 || !(link.is_empty() || link.starts_with("https://") || link.starts_with("http://")) {
        return Err(bad("revision is at most 200 bytes long, link an http or https address of at most 2,000"));
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
    let database = state.database.clone();
    let recorded = async move {
        deploys::record(&database, &deploy).await?;
        match &changes {
            Some(changes) => deploy_changes::note(&database, &deploy.service, &deploy.version, changes).await,
            None => Ok(()),
        }
    };
    state.on_main(recorded).await?;
    Ok(())
}

/// Commits and owners' patterns taken of one deploy, files of a commit, and lines' ranges of a file.
const MAX_CHANGES: (usize, usize, usize, usize) = (500, 2_000, 500, 5_000);

fn brought(sent: DeployChanges) -> Result<Changes, ApiError> {
    let (commits, owners, files, ranges) = MAX_CHANGES;
    let is_over =
        |commit: &outcrop_core::touching::Commit| commit.files.len() > files || commit.files.iter().any(|file| file.ranges.len() > ranges);
    if sent.commits.len() > commits || sent.owners.len() > owners || sent.commits.iter().any(is_over) {
        return Err(bad(format!(
            "changes are taken up to {commits} commits, {files} files a commit, {ranges} ranges a file and {owners} owners' patterns"
        )));
    }
    let clean = |text: &str| outcrop_core::scrub::text(text).unwrap_or_else(|| text.to_owned()).replace('\0', "");
    let commits = sent
        .commits
        .into_iter()
        .map(|commit| outcrop_core::touching::Commit { summary: clean(&commit.summary), author: clean(&commit.author), ..commit })
        .collect();
    let owners = sent.owners.into_iter().map(|owned| (owned.pattern, owned.owners)).collect();
    Ok(Changes { repository: clean(&sent.repository), commits, owners })
}

/// Deploys checked at once for a list: a third of the connections that readers have.
pub(super) const CHECKED_AT_ONCE: usize = 4;

/// Deploys, announced and seen, each with its answer.
#[utoipa::path(operation_id = "list_deploys", tag = "deploys", params(DeployQuery), responses(
    (status = 200, body = DeployList),
    (status = 400, body = Problem, content_type = "application/problem+json"),
))]
#[get("/deploys")]
pub(super) async fn list_deploys(
    _pipeline: Pipeline,
    request: HttpRequest,
    state: web::Data<State>,
) -> Result<web::Json<DeployList>, ApiError> {
    let asked: DeployQuery = parameters(request.query_string())?;
    let limit = limit(asked.limit)?;
    let since = asked.since.or_else(|| asked.from.is_none().then(|| "7d".to_owned()));
    let window = ErrorQuery { since, from: asked.from, to: asked.to, ..ErrorQuery::default() };
    let now = Utc::now();
    let window = scope(&window, now)?;
    let database = state.database.clone();
    let items = state
        .on_main(async move {
            let place = (asked.service.as_deref(), asked.environment.as_deref());
            let limit = i64::try_from(limit).unwrap_or(i64::MAX);
            let rows = deploys::list(&database, place, (window.from, window.to), limit).await?;
            let checked = rows.into_iter().map(|row| async {
                let check = check(&database, &row, &[], now).await?;
                Ok(item(row, check, now))
            });
            stream::iter(checked).buffered(CHECKED_AT_ONCE).try_collect().await
        })
        .await?;
    Ok(web::Json(DeployList { items }))
}

pub(super) fn item(row: Deploy, check: DeployCheck, now: DateTime<Utc>) -> DeployItem {
    DeployItem {
        runs: row.last_event_at.is_some_and(|last| now - last < TimeDelta::minutes(10)),
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
    state: web::Data<State>,
) -> Result<web::Json<DeployCheck>, ApiError> {
    let asked: CheckQuery = parameters(request.query_string())?;
    let kinds: Vec<String> =
        asked.fail_on.iter().flat_map(|text| text.split(',')).map(|kind| kind.trim().to_owned()).filter(|kind| !kind.is_empty()).collect();
    if let Some(other) = kinds.iter().find(|kind| !["new", "surging", "returned", "slower"].contains(&kind.as_str())) {
        return Err(bad(format!("fail_on names `{other}`; it may name new, surging, returned and slower")));
    }
    let named = format!("no deploy of {} {} into {} is known: neither announced nor seen", asked.service, asked.version, asked.environment);
    let database = state.database.clone();
    let check = state
        .on_main(async move {
            let deploy = deploys::of_version(&database, &asked.service, &asked.version, &asked.environment).await?;
            match deploy {
                Some(deploy) => check(&database, &deploy, &kinds, Utc::now()).await.map(Some),
                None => Ok(None),
            }
        })
        .await?;
    check.map(web::Json).ok_or(ApiError::NotFound(named))
}

pub(super) async fn check(database: &Database, deploy: &Deploy, kinds: &[String], now: DateTime<Utc>) -> Result<DeployCheck, StoreError> {
    let until = deploy.ended_at.filter(|_| deploy.share.is_some()).unwrap_or(now).min(deploy.at + CHARGED);
    let minutes = (until - deploy.at).num_minutes().max(0);
    let before_minutes = minutes.clamp(30, BEFORE_MINUTES);
    let before_from = deploy.at - TimeDelta::minutes(before_minutes);
    let (has_untold, flags, before, after) = futures_util::try_join!(
        deploys::has_untold_errors(database, deploy),
        deploys::flags_of(database, deploy, until),
        deploys::traffic(database, deploy, (before_from, deploy.at), None),
        deploys::traffic(database, deploy, (deploy.at, until), Some(&deploy.version)),
    )?;
    // A flag bears the beginning of its minute, which may be before the deploy's first telemetry.
    let from = deploy.at.duration_trunc(TimeDelta::minutes(1)).unwrap_or(deploy.at);
    let (withdrawn, flags): (Vec<Flag>, Vec<Flag>) = flags.into_iter().partition(|flag| flag.withdrawn_at.is_some());
    let flags = charged(database, flags, from, until).await?;
    let flags: Vec<FlagItem> = flags.into_iter().filter(|flag| kinds.is_empty() || kinds.contains(&flag.flag)).collect();
    let slower: Vec<EndpointChange> = super::deploy_detail::compared(database, deploy, now)
        .await?
        .into_iter()
        .filter(|endpoint| endpoint.changes.iter().any(|change| change == "slower"))
        .collect();
    let counts_slower = kinds.iter().any(|kind| kind == "slower");
    let needs = needs(before, after);
    let named = format!("{} {} in {}", deploy.service, deploy.version, deploy.environment);
    let (outcome, sentence) = if !flags.is_empty() {
        let count = |kind: &str| flags.iter().filter(|flag| flag.flag == kind).count();
        let kinds: Vec<String> = ["new", "surging", "returned"]
            .into_iter()
            .filter(|kind| count(kind) > 0)
            .map(|kind| format!("{} {kind}", count(kind)))
            .collect();
        let errors = if flags.len() == 1 { "error" } else { "errors" };
        let besides = if slower.is_empty() { String::new() } else { format!("; {} slower", endpoints(slower.len())) };
        ("flagged", format!("{named}: {} {errors}{besides} since this deploy.", kinds.join(", ")))
    } else if counts_slower && !slower.is_empty() {
        ("flagged", format!("{named}: {} slower since this deploy.", endpoints(slower.len())))
    } else if minutes < LEAST_MINUTES {
        ("too early", format!("{named}: {minutes} min since this deploy; it takes at least {LEAST_MINUTES}."))
    } else if needs > 0 && until == now {
        ("too early", format!("{named}: nothing so far; {needs} more requests are needed to rule out that failures doubled."))
    } else if needs > 0 && until < deploy.at + CHARGED {
        let reached = after.0;
        (
            "too early",
            format!(
                "{named}: nothing until the canary ended, of {reached} requests; {needs} more are needed to rule out that failures doubled."
            ),
        )
    } else if has_untold {
        (
            "too early",
            format!(
                "{named}: this service has more errors than are told apart, so nobody can say that none is new; join errors, or drop what is noise."
            ),
        )
    } else {
        let share = |(requests, failed): (i64, i64)| outcrop_core::attention::percent(ratio(failed, requests));
        let besides = if slower.is_empty() { String::new() } else { format!(" But {} slower.", endpoints(slower.len())) };
        (
            "clear",
            format!(
                "{named}: nothing new, surging or back; {} of {} requests failed ({} before).{besides}",
                share(after),
                after.0,
                share(before)
            ),
        )
    };
    Ok(DeployCheck {
        outcome: outcome.to_owned(),
        sentence,
        flags,
        withdrawn: withdrawn.iter().map(flag_item).collect(),
        slower,
        before: Sums { requests: before.0, failed: before.1, minutes: before_minutes },
        after: Sums { requests: after.0, failed: after.1, minutes },
        needs_requests: needs,
    })
}

fn endpoints(n: usize) -> String {
    if n == 1 { "1 endpoint is".to_owned() } else { format!("{n} endpoints are") }
}

/// A deploy's own flags, without those of errors that follow from another service's, and with those of errors elsewhere
/// that follow from its own: an echo counts against the deploy that caused its origin.
async fn charged(database: &Database, own: Vec<Flag>, from: DateTime<Utc>, to: DateTime<Utc>) -> Result<Vec<FlagItem>, StoreError> {
    let numbers: Vec<i32> = own.iter().map(|flag| flag.error_id).collect();
    let origins = traces::main_origins(database, &numbers, from, to).await?;
    let mut items: Vec<FlagItem> = vec![];
    for flag in own.iter().filter(|flag| !origins.contains_key(&flag.error_id)) {
        items.push(flag_item(flag));
        let (_, echoes) = traces::ties(database, flag.error_id, from, to).await?;
        let echoes: Vec<i32> = echoes.iter().map(|echo| echo.error_id).collect();
        let flags = deploys::flags(database, &echoes, from, to).await?;
        for echo in echoes.iter().filter_map(|echo| flags.get(echo)).flatten().filter(|echo| echo.said_at >= flag.since) {
            let item = flag_item(echo);
            let evidence = format!("follows from {}: {}", errors::reference(flag.error_id), item.evidence);
            items.push(FlagItem { evidence, ..item });
        }
    }
    Ok(items)
}

#[expect(clippy::cast_precision_loss, reason = "a share of requests")]
pub(super) fn ratio(part: i64, all: i64) -> f64 {
    if all == 0 { 0.0 } else { part as f64 / all as f64 }
}

/// How many more requests it takes until a doubling of the failures would have shown.
#[expect(clippy::cast_possible_truncation, reason = "held to a number of requests")]
fn needs(before: (i64, i64), after: (i64, i64)) -> i64 {
    let rate = ratio(before.1, before.0);
    let enough = if rate > 0.0 { ((ENOUGH_FAILURES / rate).ceil().min(1e12) as i64).min(ENOUGH_REQUESTS) } else { ENOUGH_REQUESTS };
    (enough - after.0).max(0)
}

/// A flag with its evidence in words.
pub(super) fn flag_item(flag: &Flag) -> FlagItem {
    let minutes = ((flag.said_at - flag.since).num_minutes() + 1).max(1);
    let at_requests = flag.requests.filter(|n| *n > 0).map(|n| format!(" at {n} requests")).unwrap_or_default();
    let since = if flag.by_deploy { format!("; since {} {}", flag.service, flag.version) } else { String::new() };
    let evidence = match flag.kind.as_str() {
        "surging" => format!("{} in {minutes} min{at_requests}; expected {:.1}{since}", flag.count, flag.expected),
        "returned" => format!("it was settled, and occurs in {} {}", flag.service, flag.version),
        _ => format!("never seen before in {}; first in {} {}", flag.environment, flag.service, flag.version),
    };
    FlagItem {
        flag: flag.kind.clone(),
        reference: errors::reference(flag.error_id).to_string(),
        title: flag.title.clone(),
        service: flag.service.clone(),
        environment: flag.environment.clone(),
        version: flag.version.clone(),
        by_deploy: flag.by_deploy,
        since: flag.since,
        said_at: flag.said_at,
        ended_at: flag.ended_at,
        evidence,
        why: flag.why.clone().unwrap_or_default(),
        withdrawn_at: flag.withdrawn_at,
    }
}
