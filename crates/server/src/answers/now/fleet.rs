//! All services as they are now, the worst first.

use std::cmp::Reverse;
use std::collections::HashMap;

use chrono::{DateTime, TimeDelta, Utc};
use outcrop_api::{DeployCheck, FleetDeploy, FleetItem, NowItem, VersionShare};
use outcrop_core::attention::least_share;
use outcrop_store::deploys::{self, Deploy};
use outcrop_store::people::service_names;
use outcrop_store::traffic::fleet;
use outcrop_store::{Database, Scope, StoreError};

use crate::answers::deploy_answers;
use crate::answers::owners::Directory;

/// How far back a service's latest deploy is shown with its answer, and how many deploys are looked through.
const DEPLOYED: TimeDelta = TimeDelta::days(3);
const DEPLOYS: i64 = 1_000;

/// Numbers of errors flagged new, surging and returned, by service.
pub(super) type Flagged = HashMap<String, [i64; 3]>;

/// The services in a scope as they are now. `told` is what needs somebody, `flagged` what is flagged and open.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
pub(super) async fn items(
    database: &Database,
    scope: &Scope,
    told: &[NowItem],
    flagged: &Flagged,
    now: DateTime<Utc>,
) -> Result<Vec<FleetItem>, StoreError> {
    let environment = scope.environment.as_deref();
    let (services, deploys, directory) = futures_util::try_join!(
        fleet::services(database, environment, now),
        answered(database, scope, now),
        Directory::read(database)
    )?;
    let is_asked = |name: &str| {
        let asked = scope.service.as_deref();
        asked.is_none_or(|asked| service_names::is_meant(asked, name))
    };
    let mut items: Vec<(u8, FleetItem)> = services
        .into_iter()
        .filter(|service| is_asked(&service.service))
        .map(|service| {
            let worst = worst(told, &service.service);
            let deploy = deploys.get(&service.service).map(told_of);
            let [new, surging, returned] = flagged.get(&service.service).copied().unwrap_or_default();
            let item = FleetItem {
                worst: worst.map(|(_, kind)| kind.to_owned()),
                new,
                surging,
                returned,
                deploy,
                owner: directory.of_service(&service.service).map(|owned| owned.owner),
                ..counted(service)
            };
            (worst.map_or(0, |(weight, _)| weight), item)
        })
        .collect();
    items.sort_by(|(weight, one), (other_weight, other)| order(*weight, one).cmp(&order(*other_weight, other)));
    Ok(items.into_iter().map(|(_, item)| item).collect())
}

/// The worst first: by what is told of it, then by the least that its share of failures can be, then by its requests.
fn order(weight: u8, item: &FleetItem) -> (Reverse<u8>, Reverse<u64>, Reverse<i64>, &str) {
    #[expect(clippy::cast_precision_loss, reason = "requests of an hour")]
    let share = item.failed as f64 / item.requests.max(1) as f64;
    let least = least_share(share, item.requests.unsigned_abs());
    #[expect(
        clippy::cast_possible_truncation,
        clippy::cast_sign_loss,
        reason = "a share of a million"
    )]
    let least = (least.clamp(0.0, 1.0) * 1e6) as u64;
    (Reverse(weight), Reverse(least), Reverse(item.requests), &item.service)
}

/// The weightiest of what is told of a service, by itself or as an echo, and its kind.
fn worst<'t>(told: &'t [NowItem], service: &str) -> Option<(u8, &'t str)> {
    let own: Vec<(u8, &str)> = told
        .iter()
        .filter(|item| item.service == service)
        .map(|item| (item.weight, item.kind.as_str()))
        .collect();
    // What fails is said of it before what is new in it.
    if let Some((weight, _)) = own.iter().max()
        && let Some((_, failing)) = own.iter().find(|(_, kind)| *kind == "failing")
    {
        return Some((*weight, failing));
    }
    let echoes = told
        .iter()
        .flat_map(|item| item.echoes.iter().map(move |echo| (item.weight, echo)))
        .filter(|(_, echo)| echo.service == service)
        // Somebody who mends the origin mends it too.
        .map(|(weight, echo)| (weight / 2, echo.kind.as_str()));
    own.into_iter().chain(echoes).max_by_key(|(weight, _)| *weight)
}

/// A service's numbers.
fn counted(service: fleet::Service) -> FleetItem {
    let requests: i64 = service.requests.iter().sum();
    #[expect(clippy::cast_precision_loss, reason = "requests of an hour")]
    let share = |part: i64| part as f64 / requests.max(1) as f64;
    FleetItem {
        service: service.service,
        worst: None,
        requests,
        failed: service.failed.iter().sum(),
        requests_by_step: service.requests,
        failed_by_step: service.failed,
        p95_ms: service.p95_us.map(|micros| micros / 1_000.0),
        p95_before_ms: service.p95_before_us.map(|micros| micros / 1_000.0),
        new: 0,
        surging: 0,
        returned: 0,
        versions: (service.versions.into_iter())
            .map(|(version, part)| VersionShare {
                version,
                share: share(part),
            })
            .collect(),
        deploy: None,
        owner: None,
    }
}

fn told_of((deploy, check): &(Deploy, DeployCheck)) -> FleetDeploy {
    FleetDeploy {
        version: deploy.version.clone(),
        environment: deploy.environment.clone(),
        at: deploy.at,
        outcome: check.outcome.clone(),
        sentence: check.sentence.clone(),
    }
}

/// The latest deploy of each service with its answer, where the job has made one.
async fn answered(
    database: &Database,
    scope: &Scope,
    now: DateTime<Utc>,
) -> Result<HashMap<String, (Deploy, DeployCheck)>, StoreError> {
    let within = (scope.service.as_deref(), scope.environment.as_deref());
    let all = deploys::list(database, within, (now - DEPLOYED, now), DEPLOYS).await?;
    let mut latest: Vec<Deploy> = vec![];
    for deploy in all {
        if latest.iter().all(|known| known.service != deploy.service) {
            latest.push(deploy);
        }
    }
    // A page that is read every few seconds waits for none to be made.
    let checks = deploy_answers::known(database, &latest, now).await?;
    let pairs = latest.into_iter().zip(checks);
    Ok(pairs
        .filter_map(|(deploy, check)| Some((deploy.service.clone(), (deploy, check?))))
        .collect())
}

#[cfg(test)]
mod tests {
    use outcrop_api::NowEcho;

    use super::*;

    fn service(name: &str, requests: i64, failed: i64) -> FleetItem {
        counted(fleet::Service {
            id: 1,
            service: name.to_owned(),
            requests: vec![requests - 1, 1],
            failed: vec![failed, 0],
            versions: vec![("2.4.0".to_owned(), 1), ("2.3.9".to_owned(), requests - 1)],
            p95_us: Some(181_000.0),
            p95_before_us: None,
        })
    }

    #[test]
    fn the_worst_comes_first_and_few_requests_prove_little() {
        let rows = [
            (0, service("ledger", 4, 1)),
            (73, service("fares", 90, 14)),
            (0, service("berths", 4_000, 400)),
            (36, service("gangway", 900, 14)),
            (0, service("sailings", 0, 0)),
            (0, service("bulletins", 500, 0)),
        ];
        let mut sorted: Vec<_> = rows.iter().collect();
        sorted.sort_by(|(weight, one), (other, two)| order(*weight, one).cmp(&order(*other, two)));
        let names: Vec<&str> = sorted.iter().map(|(_, item)| item.service.as_str()).collect();
        assert_eq!(names, ["fares", "gangway", "berths", "ledger", "bulletins", "sailings"]);
    }

    #[test]
    fn of_a_service_that_fails_that_is_said_and_what_echoes_an_origin_weighs_half() {
        let item = |kind: &str, service: &str, weight, echoes: Vec<NowEcho>| NowItem {
            kind: kind.to_owned(),
            service: service.to_owned(),
            what: String::new(),
            reference: None,
            why: String::new(),
            since: DateTime::UNIX_EPOCH,
            weight,
            echoes,
            handled: None,
        };
        let echo = NowEcho {
            kind: "failing".to_owned(),
            service: "gangway".to_owned(),
            what: String::new(),
            reference: None,
            why: String::new(),
        };
        let told = [
            item("failing", "fares", 73, vec![]),
            item("error", "fares", 80, vec![echo]),
            item("slow", "ledger", 40, vec![]),
        ];
        assert_eq!(worst(&told, "fares"), Some((80, "failing")));
        assert_eq!(worst(&told, "gangway"), Some((40, "failing")));
        assert_eq!(worst(&told, "ledger"), Some((40, "slow")));
        assert_eq!(worst(&told, "berths"), None);
    }

    #[test]
    fn a_services_numbers_are_the_sums_of_its_steps() {
        let item = service("fares", 100, 14);
        assert_eq!((item.requests, item.failed, item.p95_ms), (100, 14, Some(181.0)));
        let shares: Vec<f64> = item.versions.iter().map(|version| version.share).collect();
        assert_eq!(shares, [0.01, 0.99]);
    }
}
