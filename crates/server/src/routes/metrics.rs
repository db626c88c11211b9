//! Metrics that services send.

use actix_web::{HttpRequest, get, web};
use chrono::Utc;
use outcrop_api::{
    ErrorQuery, MetricCourse, MetricItem, MetricLine, MetricList, MetricListQuery, MetricQuery, Problem,
};
use outcrop_core::metric::{Kind, Together};
use outcrop_store::Scope;
use outcrop_store::metrics::{self, Asked, MAX_SERIES};

use super::query::window;
use super::viewer::{Seen, Viewer};
use crate::api_error::ApiError;
use crate::routes::parameters::{bad, parameters};

/// Steps of a chart, at most and about: what fits beside each other.
const STEPS: i64 = 240;
/// Steps that begin at round times, in minutes.
const ROUND: [u32; 9] = [1, 2, 5, 10, 15, 30, 60, 120, 180];

/// Lists the metrics that services send, by name.
#[utoipa::path(operation_id = "list_metrics", tag = "metrics", params(MetricListQuery), responses(
    (status = 200, body = MetricList),
    (status = 400, body = Problem, content_type = "application/problem+json"),
))]
#[get("/metrics")]
pub(super) async fn list_metrics(
    _viewer: Viewer,
    request: HttpRequest,
    state: Seen,
) -> Result<web::Json<MetricList>, ApiError> {
    let asked: MetricListQuery = parameters(request.query_string())?;
    let scope = scope(ErrorQuery {
        service: asked.service,
        environment: asked.environment,
        version: asked.version,
        since: asked.since,
        from: asked.from,
        to: asked.to,
        ..ErrorQuery::default()
    })?;
    let database = state.database.clone();
    let rows = state
        .on_main(async move { metrics::list(&database, &scope).await })
        .await?;
    let items = rows.into_iter().map(|row| MetricItem {
        name: row.name,
        unit: row.unit,
        kind: Kind::of_number(row.kind).word().to_owned(),
        series: row.series,
        services: row.services,
        attributes: row.attributes,
    });
    Ok(web::Json(MetricList { items: items.collect() }))
}

/// What a metric comes to over time.
#[utoipa::path(operation_id = "show_metric", tag = "metrics", params(("name" = String, Path,
    description = "Its name"), MetricQuery), responses(
    (status = 200, body = MetricCourse),
    (status = 400, body = Problem, content_type = "application/problem+json"),
    (status = 404, body = Problem, content_type = "application/problem+json"),
))]
#[get("/metrics/{name}")]
pub(super) async fn show_metric(
    _viewer: Viewer,
    name: web::Path<String>,
    request: HttpRequest,
    state: Seen,
) -> Result<web::Json<MetricCourse>, ApiError> {
    let asked: MetricQuery = parameters(request.query_string())?;
    let together = asked
        .together
        .map(|word| {
            Together::named(&word).ok_or_else(|| {
                bad(format!(
                    "together is `{word}`: it is mean, sum, most, least or a percentile such as p95"
                ))
            })
        })
        .transpose()?;
    let by = asked.by.filter(|by| !by.is_empty());
    let scope = scope(ErrorQuery {
        service: asked.service,
        environment: asked.environment,
        version: asked.version,
        since: asked.since,
        from: asked.from,
        to: asked.to,
        ..ErrorQuery::default()
    })?;
    let (scope, minutes) = in_steps(scope);
    let wanted = Asked {
        name: name.into_inner(),
        by,
        together,
        minutes,
    };
    let (database, window) = (state.database.clone(), scope.clone());
    let (wanted, found) = state
        .on_main(async move {
            let found = metrics::course(&database, &wanted, &window).await?;
            Ok((wanted, found))
        })
        .await?;
    let Some(course) = found else {
        return Err(ApiError::NotFound(format!(
            "no service sends a metric `{}`",
            wanted.name
        )));
    };
    let all_lines = i64::try_from(course.all_lines).unwrap_or(i64::MAX);
    let note = course.is_cut.then(|| {
        format!(
            "There are more than {MAX_SERIES} series: those that came last are shown. Choose a service or a version."
        )
    });
    Ok(web::Json(MetricCourse {
        name: wanted.name,
        unit: course.unit,
        kind: course.kind.word().to_owned(),
        together: course.together.to_string(),
        from: scope.from,
        to: scope.to,
        step_ms: i64::from(minutes) * 60_000,
        lines: (course.lines.into_iter())
            .map(|line| MetricLine {
                key: line.key,
                values: line.values,
            })
            .collect(),
        all_lines,
        note,
    }))
}

fn scope(query: ErrorQuery) -> Result<Scope, ApiError> {
    let scope = window(&query, Utc::now())?;
    Ok(Scope {
        version: query.version,
        ..scope
    })
}

/// The window from a whole step on, and how many minutes a step has.
fn in_steps(scope: Scope) -> (Scope, u32) {
    let length = (scope.to - scope.from).num_minutes();
    let minutes = ROUND
        .into_iter()
        .find(|minutes| length / i64::from(*minutes) <= STEPS)
        .unwrap_or(ROUND[ROUND.len() - 1]);
    let step = i64::from(minutes) * 60;
    let whole = scope.from.timestamp().div_euclid(step) * step;
    let from = chrono::DateTime::from_timestamp(whole, 0).unwrap_or(scope.from);
    (Scope { from, ..scope }, minutes)
}

#[cfg(test)]
mod tests {
    use chrono::TimeDelta;
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case(30, 1)]
    #[case(24 * 60, 10)]
    #[case(7 * 24 * 60, 60)]
    #[case(30 * 24 * 60, 180)]
    fn steps_are_whole_and_as_many_as_fit(#[case] length: i64, #[case] expected: u32) {
        let to: chrono::DateTime<Utc> = "2026-12-01T09:17:31Z".parse().unwrap();
        let from = to - TimeDelta::minutes(length);
        let scope = Scope {
            service: None,
            environment: None,
            version: None,
            from,
            to,
            predicate: None,
        };
        let (steps, minutes) = in_steps(scope);
        assert_eq!(minutes, expected);
        assert_eq!(steps.from.timestamp() % (i64::from(minutes) * 60), 0);
        assert!(steps.from <= from && from - steps.from < TimeDelta::minutes(minutes.into()));
    }
}
