//! What a batch brings of log lines.

use std::collections::{BTreeMap, HashMap, HashSet};
use std::sync::Mutex;

use outcrop_core::completeness::Limit;
use outcrop_core::failure::{FoundLine, OccurrenceId};
use outcrop_core::{Hasher, Timestamp};
use sqlx::PgConnection;
use uuid::Uuid;

use super::batch::Prepared;
use crate::database::copy::Rows;
use crate::database::partitions::partition;
use crate::ids::{id_uuid, signed, template_hash, uuid};
use crate::writing::limits::Reached;
use crate::{StoreError, to_utc};

/// Templates told apart per service and day of reception, by this process: a logger that writes
/// what no template folds would otherwise make one for each of its lines.
const MAX_TEMPLATES: usize = 2_000;
/// Templates told apart of all services together: some 20 MB of hashes.
const MAX_OF_ALL: usize = 200_000;
/// The template that stands for all past the limit.
const OTHER_LINES: &str = "(other lines)";

/// Which templates have been seen of a service today.
#[derive(Default)]
pub(super) struct Templates {
    seen: Mutex<Seen>,
}

#[derive(Default)]
struct Seen {
    day: i64,
    count: usize,
    of_service: HashMap<i32, HashSet<Uuid>>,
}

impl Templates {
    /// The template of a line, or `None` where there are too many.
    fn of<'a>(&self, service: i32, line: &'a FoundLine, today: i64) -> Option<(Uuid, &'a str)> {
        let hash = template_hash(&line.template);
        let mut seen = self.seen.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        if seen.day != today {
            *seen = Seen {
                day: today,
                ..Seen::default()
            };
        }
        let is_full = seen.count >= MAX_OF_ALL;
        let of_service = seen.of_service.entry(service).or_default();
        if !of_service.contains(&hash) {
            if is_full || of_service.len() >= MAX_TEMPLATES {
                return None;
            }
            of_service.insert(hash);
            seen.count += 1;
        }
        Some((hash, &line.template))
    }
}

/// A line with its numbers.
pub(super) struct Line<'a> {
    /// Its request, as a place in the batch.
    submission: usize,
    found: &'a FoundLine,
    id: OccurrenceId,
    service: i32,
    environment: i32,
    version: i32,
    template: Uuid,
    resource: Uuid,
}

impl Line<'_> {
    /// The number of its service.
    pub(super) const fn service(&self) -> i32 {
        self.service
    }
}

/// Lines with the templates they need, by hash, and the limits reached.
type Numbered<'a> = (Vec<Line<'a>>, BTreeMap<Uuid, &'a str>, Reached);

/// Numbers the lines of a batch that are young enough to be kept.
pub(super) fn number<'a>(prepared: &Prepared<'a>, templates: &Templates, kept_days: i64) -> Numbered<'a> {
    let mut reached = Reached::default();
    let mut lines = vec![];
    let mut needed = BTreeMap::new();
    for (place, submission) in prepared.submissions.iter().enumerate() {
        let today = submission.received.day();
        let young = submission
            .found
            .lines
            .iter()
            .enumerate()
            .filter(|(_, line)| line.at.day() > today - kept_days);
        for (at, line) in young {
            let sender = prepared.sender(&line.identity);
            let (template, text) = templates.of(sender.service, line, today).unwrap_or_else(|| {
                reached.add(sender.service, Limit::Templates, 1);
                (template_hash(OTHER_LINES), OTHER_LINES)
            });
            needed.entry(template).or_insert(text);
            let mut content = Hasher::default();
            // The same body again once its receipt is gone is stored again, rather than refused for
            // an id that is there.
            content
                .part(&submission.receipt.0)
                .number(at as u64)
                .number(submission.received.millis().unsigned_abs());
            lines.push(Line {
                submission: place,
                found: line,
                id: OccurrenceId::new(line.at, content.finish()),
                service: sender.service,
                environment: sender.environment,
                version: sender.version,
                template,
                resource: uuid(prepared.resource_hash(&line.resource)),
            });
        }
    }
    (lines, needed, reached)
}

/// Stores lines of requests that are new, and counts them by template and hour.
pub(super) async fn store(connection: &mut PgConnection, lines: &[Line<'_>], fresh: &[bool]) -> Result<(), StoreError> {
    let mut days: BTreeMap<i64, Rows> = BTreeMap::new();
    let mut hours: BTreeMap<(Timestamp, i32, i32, Uuid), (i16, i64)> = BTreeMap::new();
    for numbered in lines.iter().filter(|numbered| fresh[numbered.submission]) {
        let line = numbered.found;
        let json = serde_json::to_vec(&line.attributes).expect("a map of JSON values always encodes");
        days.entry(line.at.day())
            .or_insert_with(|| Rows::new(11))
            .row()
            .uuid(id_uuid(numbered.id))
            .int4(numbered.service)
            .int4(numbered.environment)
            .int4(numbered.version)
            .maybe(line.trace_id, |row, trace| row.uuid(Uuid::from_bytes(trace.0)))
            .maybe(line.span_id.and_then(|span| signed(span.0)), Rows::int8)
            .int2(line.severity)
            .uuid(numbered.template)
            .uuid(numbered.resource)
            .text(&line.message)
            .jsonb(&json);
        let counts = hours
            .entry((
                line.at.hour(),
                numbered.service,
                numbered.environment,
                numbered.template,
            ))
            .or_default();
        counts.0 = counts.0.max(line.severity);
        counts.1 += 1;
    }
    let columns = "id, service_id, environment_id, version_id, trace_id, span_id, severity, template, resource, \
        message, attributes";
    for (day, rows) in days {
        rows.send(
            connection,
            &format!(
                "COPY {} ({columns}) FROM STDIN (FORMAT binary)",
                partition("log_record", day)
            ),
        )
        .await?;
    }
    if hours.is_empty() {
        return Ok(());
    }
    sqlx::query(
        "INSERT INTO log_hour AS l (hour, service_id, environment_id, template, severity, n) \
         SELECT * FROM UNNEST($1::timestamptz[], $2::int[], $3::int[], $4::uuid[], $5::smallint[], $6::bigint[]) AS \
         new ORDER BY 1, 2, 3, 4 \
         ON CONFLICT (hour, service_id, environment_id, template) \
         DO UPDATE SET n = l.n + excluded.n, severity = greatest(l.severity, excluded.severity)",
    )
    .bind(hours.keys().map(|key| to_utc(key.0)).collect::<Vec<_>>())
    .bind(hours.keys().map(|key| key.1).collect::<Vec<_>>())
    .bind(hours.keys().map(|key| key.2).collect::<Vec<_>>())
    .bind(hours.keys().map(|key| key.3).collect::<Vec<_>>())
    .bind(hours.values().map(|counts| counts.0).collect::<Vec<_>>())
    .bind(hours.values().map(|counts| counts.1).collect::<Vec<_>>())
    .execute(connection)
    .await?;
    Ok(())
}
