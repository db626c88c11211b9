//! One deploy in full: its endpoints before and after, what stopped, versions over time, what it brought.

use actix_web::{HttpRequest, get, web};
use chrono::{DateTime, TimeDelta, Utc};
use outcrop_api::{CheckQuery, Course, CourseStep, DeployDetail, EndpointChange, Problem, StoppedError};
use outcrop_core::Reference;
use outcrop_store::deploys::{Deploy, changes, comparison, markers};
use outcrop_store::traffic::timeline::Steps;
use outcrop_store::{Database, StoreError, deploys, ids};

use super::deploys::item as deploy_item;
use super::viewer::{Seen, Viewer};
use crate::answers::deploy_check;
use crate::answers::deploy_check::Judged;
use crate::answers::endpoint_changes::{COMPARED, changed};
use crate::answers::touches::commits;
use crate::api_error::ApiError;
use crate::routes::parameters::parameters;

/// How much of the time around a deploy its versions are drawn over.
const AROUND: TimeDelta = TimeDelta::hours(6);
const STEPS: usize = 96;

/// One deploy in full.
#[utoipa::path(operation_id = "show_deploy", tag = "deploys", params(CheckQuery), responses(
    (status = 200, body = DeployDetail),
    (status = 404, body = Problem, content_type = "application/problem+json"),
))]
#[get("/deploys/one")]
pub(super) async fn show_deploy(
    _viewer: Viewer,
    request: HttpRequest,
    state: Seen,
) -> Result<web::Json<DeployDetail>, ApiError> {
    let asked: CheckQuery = parameters(request.query_string())?;
    let named = format!(
        "no deploy of {} {} into {} is known: neither announced nor seen",
        asked.service, asked.version, asked.environment
    );
    let database = state.database.clone();
    let detail = state
        .on_main(async move {
            match deploys::of_version(&database, &asked.service, &asked.version, &asked.environment).await? {
                Some(deploy) => detail(&database, deploy, Utc::now()).await.map(Some),
                None => Ok(None),
            }
        })
        .await?;
    detail.map(web::Json).ok_or(ApiError::NotFound(named))
}

async fn detail(database: &Database, deploy: Deploy, now: DateTime<Utc>) -> Result<DeployDetail, StoreError> {
    let Judged { check, endpoints } = deploy_check::check_one(database, &deploy, &[], now).await?;
    let until = now.min(deploy.at + COMPARED);
    let cut = Steps::cut(deploy.at - AROUND, now.min(deploy.at + AROUND), STEPS);
    let minutes = i32::try_from(cut.step.num_minutes()).unwrap_or(i32::MAX);
    let (beside, stopped, versions, marked, brought) = futures_util::try_join!(
        beside(database, &deploy, now),
        comparison::stopped(database, &deploy, until),
        comparison::versions(database, &deploy, (cut.from, cut.to()), minutes),
        markers::list(
            database,
            (Some(&deploy.service), Some(&deploy.environment)),
            (deploy.at - AROUND, deploy.at + AROUND),
            20
        ),
        changes::of_version(database, &deploy.service, &deploy.version),
    )?;
    let around = super::markers::items(database, marked, now).await?;
    let commits = match brought {
        Some(brought) => {
            let flagged: Vec<Reference> = check
                .flags
                .iter()
                .filter_map(|flag| flag.reference.parse().ok())
                .collect();
            Some(commits(database, &deploy.service, &brought, &flagged).await?)
        }
        None => None,
    };
    let steps = versions
        .into_iter()
        .map(|step| CourseStep {
            at: step.at,
            version: step.version,
            requests: step.requests,
            failed: step.failed,
        })
        .collect();
    let beside_what = match (&deploy.instance_group, deploy.share) {
        (Some(group), _) => Some(format!(
            "the instances of group {group} against the other groups, in the same minutes"
        )),
        (None, Some(_)) => Some(format!(
            "the canary {} against the other versions, in the same minutes",
            deploy.version
        )),
        (None, None) => None,
    };
    Ok(DeployDetail {
        endpoints,
        beside,
        beside_what,
        stopped: stopped
            .into_iter()
            .map(|error| StoppedError {
                reference: ids::reference(error.error_id).to_string(),
                title: error.title,
                count: error.count,
            })
            .collect(),
        versions: Course {
            from: cut.from,
            step_ms: cut.step.num_milliseconds(),
            count: cut.count,
            steps,
        },
        markers: around,
        commits,
        deploy: deploy_item(deploy, check, now),
    })
}

/// The endpoints of a canary, or of the instance group that a deploy went to, against the rest in the same minutes.
async fn beside(database: &Database, deploy: &Deploy, now: DateTime<Utc>) -> Result<Vec<EndpointChange>, StoreError> {
    if deploy.instance_group.is_none() && deploy.share.is_none() {
        return Ok(vec![]);
    }
    let until = deploy.ended_at.unwrap_or(now).min(deploy.at + COMPARED);
    Ok(changed(comparison::beside(database, deploy, until).await?))
}

#[cfg(test)]
mod tests {

    use crate::answers::touches::owners;
    #[test]
    fn the_last_rule_that_fits_names_the_owners() {
        let rule = |pattern: &str, owners: &[&str]| {
            (
                pattern.to_owned(),
                owners.iter().map(|owner| (*owner).to_owned()).collect(),
            )
        };
        let rules = [
            rule("*", &["@everyone"]),
            rule("/app/", &["@deck"]),
            rule("*.sql", &["@hold", "@deck"]),
            rule("app/old.py", &[]),
        ];
        let of = |path| owners(&rules, path).join(" ");
        assert_eq!(
            (
                of("app/tariff.py").as_str(),
                of("lib/a.py").as_str(),
                of("app/x/rates.sql").as_str()
            ),
            ("@deck", "@everyone", "@hold @deck")
        );
        assert_eq!(of("app/old.py"), "");
    }
}
