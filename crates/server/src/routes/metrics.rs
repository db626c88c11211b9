//! Metrics: what services send, and questions that are counted for good.

use actix_web::http::header::ACCEPT;
use actix_web::{HttpRequest, HttpResponse, delete, get, put, web};
use chrono::Utc;
use outcrop_api::{
    CountedQuestion, ErrorQuery, MetricCourse, MetricItem, MetricLine, MetricList, MetricListQuery, MetricQuery,
    NewCounted, Problem,
};
use outcrop_core::metric::{Kind, Together, open_metrics};
use outcrop_core::question::read;
use outcrop_store::metrics::{self, Asked, Counting, MAX_COUNTED, MAX_SERIES};
use outcrop_store::{Scope, from_utc};

use super::ask::refused;
use super::input::Body;
use super::query::window;
use super::viewer::{Role, Seen, Viewer};
use crate::api_error::ApiError;
use crate::routes::parameters::{bad, parameters};

/// Steps of a chart, at most and about: what fits beside each other.
const STEPS: i64 = 240;
/// Steps that begin at round times, in minutes.
const ROUND: [u32; 9] = [1, 2, 5, 10, 15, 30, 60, 120, 180];

/// Longest name of a metric that is counted, and longest description, in characters.
const LONGEST: (usize, usize) = (100, 1_000);
/// The media type of `OpenMetrics` text.
const OPEN_METRICS: &str = "application/openmetrics-text; version=1.0.0; charset=utf-8";

/// Lists metrics by name: those that services send, and questions that are counted for good.
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
    let is_whole = scope.service.is_none() && scope.environment.is_none() && scope.version.is_none();
    let database = state.database.clone();
    let (rows, mut counted) = state
        .on_main(async move {
            let counted: Vec<_> = metrics::counted(&database).await?;
            Ok((metrics::list(&database, &scope).await?, counted))
        })
        .await?;
    let mut items: Vec<MetricItem> = vec![];
    for row in rows {
        let known = counted
            .iter()
            .position(|one| one.name == row.name && row.question.is_some());
        items.push(MetricItem {
            name: row.name,
            unit: row.unit,
            kind: Kind::of_number(row.kind).word().to_owned(),
            series: row.series,
            services: row.services,
            attributes: row.attributes,
            counted: known.map(|place| counted_question(counted.swap_remove(place))),
        });
    }
    // Those that nothing was found for yet have no series.
    let waiting = counted.into_iter().filter(|_| is_whole).map(|one| MetricItem {
        name: one.name.clone(),
        unit: String::new(),
        kind: one.kind().word().to_owned(),
        series: 0,
        services: vec![],
        attributes: vec![],
        counted: Some(counted_question(one)),
    });
    items.extend(waiting);
    items.sort_by(|one, other| one.name.cmp(&other.name));
    Ok(web::Json(MetricList { items }))
}

fn counted_question(row: metrics::CountedQuestion) -> CountedQuestion {
    CountedQuestion {
        question: row.question,
        step_ms: row.step_ms.into(),
        description: row.description,
        owner: row.owner,
        made_at: row.made_at,
        counted_from: row.counted_from,
        hours_left: row.hours_left,
        failure: row.failure,
    }
}

/// What a metric comes to over time.
#[utoipa::path(operation_id = "show_metric", tag = "metrics", params(("name" = String, Path,
    description = "Its name"), MetricQuery), responses(
    (status = 200, body = MetricCourse, content_type = "application/json"),
    (status = 400, body = Problem, content_type = "application/problem+json"),
    (status = 404, body = Problem, content_type = "application/problem+json"),
))]
#[get("/metrics/{name}")]
pub(super) async fn show_metric(
    _viewer: Viewer,
    name: web::Path<String>,
    request: HttpRequest,
    state: Seen,
) -> Result<HttpResponse, ApiError> {
    let asked: MetricQuery = parameters(request.query_string())?;
    let is_text = match asked.format.as_deref() {
        Some("openmetrics") => true,
        Some("json") => false,
        None => wants_text(&request),
        Some(other) => return Err(bad(format!("format is `{other}`: it is json or openmetrics"))),
    };
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
    let (database, name) = (state.database.clone(), name.into_inner());
    let (wanted, scope, found) = state
        .on_main(async move {
            let counted = metrics::counted_as(&database, &name).await?;
            let least = counted.and_then(|counted| u32::try_from(counted.step_ms / 60_000).ok());
            let (scope, minutes) = in_steps(scope, least.unwrap_or(1));
            let wanted = Asked {
                name,
                by,
                together,
                minutes,
            };
            let found = metrics::course(&database, &wanted, &scope).await?;
            Ok((wanted, scope, found))
        })
        .await?;
    let minutes = wanted.minutes;
    let Some(course) = found else {
        return Err(ApiError::NotFound(format!(
            "no service sends a metric `{}`, and no question is counted as it",
            wanted.name
        )));
    };
    let all_lines = i64::try_from(course.all_lines).unwrap_or(i64::MAX);
    let note = course.is_cut.then(|| {
        format!(
            "There are more than {MAX_SERIES} series: those that came last are shown. Choose a service or a version."
        )
    });
    if is_text {
        let help = course.counted.as_ref().map_or("", |counted| &counted.question);
        let lines: Vec<(&str, &[Option<f64>])> = (course.lines.iter())
            .map(|line| (line.key.as_str(), line.values.as_slice()))
            .collect();
        let steps = (from_utc(scope.from), i64::from(minutes) * 60_000);
        let text = open_metrics((&wanted.name, help), wanted.by.as_deref(), &lines, steps);
        return Ok(HttpResponse::Ok().content_type(OPEN_METRICS).body(text));
    }
    Ok(HttpResponse::Ok().json(MetricCourse {
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
        counted: course.counted.map(counted_question),
    }))
}

/// Whether `OpenMetrics` text is what is asked for by the header.
fn wants_text(request: &HttpRequest) -> bool {
    let accept = request.headers().get(ACCEPT).and_then(|value| value.to_str().ok());
    accept.is_some_and(|accept| accept.contains("application/openmetrics-text"))
}

/// Has a question counted for good, as a metric of this name: from now on, and backwards over what is kept.
#[utoipa::path(operation_id = "count_question", tag = "metrics", params(("name" = String, Path,
    description = "The metric's name")), request_body = NewCounted, responses(
    (status = 201),
    (status = 400, body = Problem, content_type = "application/problem+json"),
    (status = 409, body = Problem, content_type = "application/problem+json"),
))]
#[put("/metrics/{name}")]
pub(super) async fn count_question(
    viewer: Viewer,
    name: web::Path<String>,
    body: Body<NewCounted>,
    state: Seen,
) -> Result<HttpResponse, ApiError> {
    viewer.must_engineer()?;
    let name = name.trim().to_owned();
    let sent = body.into_inner();
    let is_name = |name: &str| {
        name.starts_with(|c: char| c.is_ascii_alphabetic())
            && name.chars().all(|c| c.is_ascii_alphanumeric() || "._-/".contains(c))
    };
    if name.len() > LONGEST.0 || !is_name(&name) {
        return Err(bad(format!(
            "a metric's name begins with a letter and has letters, digits, `.`, `_`, `-` and `/`, {} characters at most",
            LONGEST.0
        )));
    }
    if sent.description.chars().count() > LONGEST.1 || sent.description.contains('\0') {
        return Err(bad(format!("a description has {} characters at most", LONGEST.1)));
    }
    let question = read(&sent.question).map_err(|mistake| refused(&sent.question, mistake))?;
    let counted = question
        .counted_for_good()
        .map_err(|why| bad(format!("question: {why}")))?;
    let (database, wanted, owner) = (state.database.clone(), name.clone(), viewer.email.clone());
    let counting = state
        .on_main(async move {
            let new = metrics::NewCounted {
                name: &wanted,
                question: &counted.question.to_string(),
                step_ms: i32::try_from(counted.step_ms).unwrap_or(i32::MAX),
                description: sent.description.trim(),
            };
            metrics::count(&database, &new, &owner, Utc::now()).await
        })
        .await?;
    match counting {
        Counting::Begun => Ok(HttpResponse::Created().finish()),
        Counting::Taken(owner) => Err(ApiError::Conflict(format!(
            "`{name}` is counted already, for {owner}: choose another name, or end that"
        ))),
        Counting::Sent => Err(ApiError::Conflict(format!(
            "services send a metric `{name}`: choose another name"
        ))),
        Counting::Full => Err(ApiError::Conflict(format!(
            "{MAX_COUNTED} questions are counted already: end one that nobody needs"
        ))),
    }
}

/// Ends the counting of a question, with all that was counted: one's own, or as an admin anybody's.
#[utoipa::path(operation_id = "end_counting", tag = "metrics", params(("name" = String, Path,
    description = "The metric's name")), responses(
    (status = 204),
    (status = 404, body = Problem, content_type = "application/problem+json"),
))]
#[delete("/metrics/{name}")]
pub(super) async fn end_counting(
    viewer: Viewer,
    name: web::Path<String>,
    state: Seen,
) -> Result<HttpResponse, ApiError> {
    viewer.must_engineer()?;
    let (database, wanted) = (state.database.clone(), name.clone());
    let owner = (viewer.role < Role::Admin).then_some(viewer.email);
    let ended = async move { metrics::uncount(&database, &wanted, owner.as_deref()).await };
    if state.on_main(ended).await? {
        return Ok(HttpResponse::NoContent().finish());
    }
    Err(ApiError::NotFound(format!("you have no question counted as `{name}`")))
}

fn scope(query: ErrorQuery) -> Result<Scope, ApiError> {
    let scope = window(&query, Utc::now())?;
    Ok(Scope {
        version: query.version,
        ..scope
    })
}

/// The window from a whole step on, and how many minutes a step has: whole ones of those that the metric is kept in.
fn in_steps(scope: Scope, kept: u32) -> (Scope, u32) {
    let length = (scope.to - scope.from).num_minutes();
    let minutes = ROUND
        .into_iter()
        .find(|minutes| length / i64::from(*minutes) <= STEPS)
        .unwrap_or(ROUND[ROUND.len() - 1])
        .next_multiple_of(kept.max(1));
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
    #[case(30, 1, 1)]
    #[case(24 * 60, 1, 10)]
    #[case(24 * 60, 60, 60)]
    #[case(24 * 60, 12, 12)]
    #[case(7 * 24 * 60, 5, 60)]
    #[case(30 * 24 * 60, 1, 180)]
    fn steps_are_whole_and_as_many_as_fit(#[case] length: i64, #[case] kept: u32, #[case] expected: u32) {
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
        let (steps, minutes) = in_steps(scope, kept);
        assert_eq!(minutes, expected);
        assert_eq!(steps.from.timestamp() % (i64::from(minutes) * 60), 0);
        assert!(steps.from <= from && from - steps.from < TimeDelta::minutes(minutes.into()));
    }
}
