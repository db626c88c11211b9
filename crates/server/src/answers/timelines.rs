//! Counts over time.

use outcrop_api::{Layer, Timeline};
use outcrop_core::Reference;
use outcrop_store::errors::Summary;
use outcrop_store::traffic::timeline;
use outcrop_store::traffic::timeline::{Point, Steps};
use outcrop_store::{Database, Scope, StoreError, asking};

/// Per error, occurrences and the requests of its service, in layers, one per version; in the order of `summaries`.
pub(crate) async fn timelines(
    database: &Database,
    summaries: &[&Summary],
    scope: &Scope,
    steps: Steps,
) -> Result<Vec<Timeline>, StoreError> {
    if summaries.is_empty() {
        return Ok(vec![]);
    }
    let references: Vec<Reference> = summaries.iter().map(|summary| summary.reference).collect();
    let mut services: Vec<i32> = summaries.iter().map(|summary| summary.service_id).collect();
    services.sort_unstable();
    services.dedup();
    let (occurrences, requests, order) = futures_util::try_join!(
        timeline::occurrences(database, &references, scope, steps),
        timeline::requests(database, &services, scope, steps),
        timeline::first_seen(database, &services, scope),
    )?;
    let layers = |summary: &Summary| {
        let own = occurrences
            .iter()
            .filter(|(of, _)| *of == summary.reference)
            .map(|(_, point)| point);
        let served = requests.iter().filter(|point| point.owner == summary.service_id);
        order
            .iter()
            .filter(|(service, _, _)| *service == summary.service_id)
            .map(|(_, version, first_seen)| Layer {
                version: version.clone(),
                first_seen: *first_seen,
                occurrences: series(own.clone(), version, steps),
                requests: series(served.clone(), version, steps),
            })
            .filter(|layer| layer.occurrences.iter().chain(&layer.requests).any(|n| *n > 0))
            .collect()
    };
    Ok(summaries
        .iter()
        .map(|summary| Timeline {
            from: steps.from,
            to: steps.to(),
            step_ms: steps.step.num_milliseconds(),
            layers: layers(summary),
        })
        .collect())
}

/// One error over time; `None` where there is none of that reference.
pub(crate) async fn of_error(
    database: &Database,
    reference: Reference,
    scope: &Scope,
    most: usize,
) -> Result<Option<Timeline>, StoreError> {
    let Some(summary) = asking::one_error(database, reference, scope).await? else {
        return Ok(None);
    };
    let steps = Steps::cut(scope.from, scope.to, most);
    Ok(timelines(database, &[&summary], scope, steps).await?.pop())
}

fn series<'a>(points: impl Iterator<Item = &'a Point>, version: &str, steps: Steps) -> Vec<i64> {
    let mut series = vec![0; steps.count];
    for point in points.filter(|point| point.version == version) {
        if let Some(slot) = usize::try_from(point.at).ok().and_then(|at| series.get_mut(at)) {
            *slot += point.n;
        }
    }
    series
}
