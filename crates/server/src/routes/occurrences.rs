//! Occurrences of an error.

use actix_web::{HttpRequest, get, web};
use chrono::Utc;
use outcrop_api::{
    AlsoReported, ChoiceQuery, ChosenOccurrence, ErrorQuery, OccurrenceDetail, OccurrenceItem, OccurrencePage,
    OccurrenceQuery, Problem, RequestPart, RequestRow, Severity,
};
use outcrop_core::failure::OccurrenceId;
use outcrop_core::query::Field;
use outcrop_store::occurrences::{Choice, Wanted};
use outcrop_store::people::settings;
use outcrop_store::retention::RETENTION_DAYS;
use outcrop_store::{errors, occurrences, to_utc};

use super::query::{cursor, error_of, limit, read_cursor, scope, time};
use super::viewer::{Seen, Viewer};
use crate::api_error::ApiError;
use crate::routes::parameters::{bad, parameters};
use crate::state::State;

/// Lists the occurrences of an error, the newest first.
#[utoipa::path(operation_id = "list_occurrences", tag = "occurrences", params(("ref" = String, Path,
    description = "The error's reference"), OccurrenceQuery), responses(
    (status = 200, body = OccurrencePage),
    (status = 404, body = Problem, content_type = "application/problem+json"),
))]
#[get("/errors/{ref}/occurrences")]
pub(super) async fn of_error(
    viewer: Viewer,
    path: web::Path<String>,
    request: HttpRequest,
    state: Seen,
) -> Result<web::Json<OccurrencePage>, ApiError> {
    let query: OccurrenceQuery = parameters(request.query_string())?;
    let reference = error_of(&state, &path).await?;
    let limit = limit(query.limit)?;
    let before = query
        .cursor
        .as_deref()
        .map(|text| read_cursor(text).and_then(|id| occurrence_id(&id)))
        .transpose()?;
    let window = ErrorQuery {
        since: (query.since).or_else(|| query.from.is_none().then(|| format!("{RETENTION_DAYS}d"))),
        from: query.from,
        to: query.to,
        environment: query.environment,
        version: query.version,
        predicate: query.predicate,
        ..ErrorQuery::default()
    };
    let scope = scope(&window, &viewer, Utc::now())?;
    let wanted = Wanted {
        before,
        limit: i64::try_from(limit).unwrap_or(i64::MAX).saturating_add(1),
        columns: query.columns.as_deref().map(columns).transpose()?.unwrap_or_default(),
    };
    let database = state.database.clone();
    let found = state
        .on_main(async move {
            let (rows, total) = futures_util::try_join!(
                occurrences::of_error(&database, reference, &scope, &wanted),
                occurrences::count(&database, reference, &scope)
            )?;
            let is_known = !rows.is_empty() || !errors::sightings(&database, reference).await?.is_empty();
            Ok(is_known.then_some((rows, total)))
        })
        .await?;
    let (rows, total) = found.ok_or_else(|| ApiError::NotFound(format!("there is no error {reference}")))?;
    let next = (rows.len() > limit)
        .then(|| rows.get(limit - 1).map(|last| cursor(&last.id().to_string())))
        .flatten();
    Ok(web::Json(OccurrencePage {
        items: rows.into_iter().take(limit).map(item).collect(),
        total,
        next,
    }))
}

/// Columns beside those that each list of occurrences has: a table that is still read.
const MOST_COLUMNS: usize = 8;
/// Longest name of a column, in bytes: that of an attribute.
const LONGEST_COLUMN: usize = 200;

/// The fields and attributes of a list of names.
fn columns(text: &str) -> Result<Vec<Field>, ApiError> {
    let names = text.split(',').map(str::trim).filter(|name| !name.is_empty());
    let fields: Vec<Field> = names.map(Field::of).collect();
    if fields.len() > MOST_COLUMNS {
        return Err(bad(format!("columns: {MOST_COLUMNS} at most")));
    }
    let refused = |field: &&Field| !occurrences::is_column(field) || field.name().len() > LONGEST_COLUMN;
    if let Some(field) = fields.iter().find(refused) {
        return Err(bad(format!(
            "columns: an occurrence has no `{}`; give attributes, or namespace, service, endpoint, type, message, \
             severity, trace, touches, group, customer or user",
            field.name()
        )));
    }
    Ok(fields)
}

/// One occurrence in full.
#[utoipa::path(operation_id = "show_occurrence", tag = "occurrences", params(("id" = String, Path, description = "Its \
    id in hex")), responses(
    (status = 200, body = OccurrenceDetail),
    (status = 404, body = Problem, content_type = "application/problem+json"),
))]
#[get("/occurrences/{id}")]
pub(super) async fn one(
    _viewer: Viewer,
    path: web::Path<String>,
    state: Seen,
) -> Result<web::Json<OccurrenceDetail>, ApiError> {
    in_full(&state, occurrence_id(&path)?).await.map(web::Json)
}

/// The occurrence of an id, with its lines of source.
pub(super) async fn in_full(state: &State, id: OccurrenceId) -> Result<OccurrenceDetail, ApiError> {
    let database = state.database.clone();
    let found = state
        .on_main(async move {
            let Some(found) = occurrences::one(&database, id).await? else {
                return Ok(None);
            };
            let setting = settings::of_service(&database, &found.row.service).await?;
            Ok(Some((found, setting)))
        })
        .await?;
    let (found, setting) = found
        .ok_or_else(|| ApiError::NotFound(format!("there is no occurrence {id}; it may be past its retention")))?;
    Ok(super::sources::with_sources(detail(found), setting, &state.settings).await)
}

pub(super) fn occurrence_id(text: &str) -> Result<OccurrenceId, ApiError> {
    let refused = || bad("an occurrence's id is 32 hex digits");
    let digits = text.as_bytes();
    let mut id = [0; 16];
    if digits.len() != 32 {
        return Err(refused());
    }
    for (byte, pair) in id.iter_mut().zip(digits.chunks_exact(2)) {
        let digit = |at: usize| {
            char::from(pair[at])
                .to_digit(16)
                .and_then(|digit| u8::try_from(digit).ok())
        };
        *byte = digit(0)
            .zip(digit(1))
            .map(|(high, low)| high << 4 | low)
            .ok_or_else(refused)?;
    }
    Ok(OccurrenceId(id))
}

pub(super) fn item(row: occurrences::OccurrenceRow) -> OccurrenceItem {
    OccurrenceItem {
        id: row.id().to_string(),
        at: to_utc(row.at()),
        trace_id: row.trace_id(),
        span_id: row.span_id(),
        received_at: row.received_at,
        service: row.service,
        environment: row.environment,
        version: row.version,
        endpoint: row.endpoint,
        type_name: row.type_name,
        message: row.message,
        severity: Severity::of_number(row.severity),
        uncaught: row.uncaught,
        host: row.host,
        instance: row.instance,
        user: row.user,
        values: row.values,
    }
}

fn detail(mut found: occurrences::Full) -> OccurrenceDetail {
    let kept = found.sent.as_mut();
    let (stacktrace, sent) = match kept {
        Some(kept) => (
            kept["stacktrace"]
                .take()
                .as_str()
                .map(str::to_owned)
                .filter(|text| !text.is_empty()),
            Some(kept["sent"].take()),
        ),
        None => (None, None),
    };
    OccurrenceDetail {
        occurrence: item(found.row),
        error: found.error.to_string(),
        stack: found.stack.and_then(|stack| serde_json::from_value(stack).ok()),
        stacktrace,
        request: request(&found.attributes),
        attributes: found.attributes,
        resource: found.resource,
        also_reported: found
            .also_reported
            .into_iter()
            .map(|report| AlsoReported {
                at: to_utc(report.at()),
                span_id: report.span_id(),
                type_name: report.type_name,
                message: report.message,
            })
            .collect(),
        sent,
    }
}

pub(super) fn request(attributes: &serde_json::Value) -> Vec<RequestPart> {
    let parts = attributes
        .as_object()
        .map(outcrop_core::telemetry::request::parts)
        .unwrap_or_default();
    let row = |row: outcrop_core::telemetry::request::Row| RequestRow {
        label: row.label,
        value: row.value,
        attribute: row.attribute,
    };
    parts
        .into_iter()
        .map(|part| RequestPart {
            title: part.title.to_owned(),
            rows: part.rows.into_iter().map(row).collect(),
        })
        .collect()
}

fn named(choice: &str) -> Result<Choice, ApiError> {
    match choice {
        "first" => Ok(Choice::First),
        "latest" => Ok(Choice::Latest),
        "fullest" => Ok(Choice::Fullest),
        _ => Err(bad(format!(
            "choice is `{choice}`; it must be first, latest or fullest"
        ))),
    }
}

/// Finds one occurrence among those of an error: the first, the latest, the fullest, the next older or newer one, one
/// by its id, the first from a time on, the latest of a version.
#[utoipa::path(operation_id = "choose_occurrence", tag = "occurrences", params(("ref" = String, Path,
    description = "The error's reference"), ChoiceQuery), responses(
    (status = 200, body = ChosenOccurrence),
    (status = 400, body = Problem, content_type = "application/problem+json"),
))]
#[get("/errors/{ref}/choose")]
pub(super) async fn choose(
    _viewer: Viewer,
    path: web::Path<String>,
    request: HttpRequest,
    state: Seen,
) -> Result<web::Json<ChosenOccurrence>, ApiError> {
    let query: ChoiceQuery = parameters(request.query_string())?;
    let reference = error_of(&state, &path).await?;
    let asked = [
        query.choice.as_deref().map(named).transpose()?,
        query
            .older
            .as_deref()
            .map(occurrence_id)
            .transpose()?
            .map(Choice::Older),
        query
            .newer
            .as_deref()
            .map(occurrence_id)
            .transpose()?
            .map(Choice::Newer),
        query.at.as_deref().map(occurrence_id).transpose()?.map(Choice::At),
        time("from", query.from)?.map(Choice::From),
        query.version.map(Choice::InVersion),
    ];
    let mut asked = asked.into_iter().flatten();
    let (choice, None) = (asked.next().unwrap_or(Choice::Latest), asked.next()) else {
        return Err(bad(
            "give one of choice (first, latest, fullest), older, newer, at, from, version",
        ));
    };
    let database = state.database.clone();
    let chosen = state
        .on_main(async move { occurrences::choose(&database, reference, &choice, query.environment.as_deref()).await })
        .await?;
    Ok(web::Json(ChosenOccurrence {
        id: chosen.map(|chosen| chosen.id.to_string()),
        position: chosen.map_or(0, |chosen| chosen.position),
        total: chosen.map_or(0, |chosen| chosen.total),
    }))
}
