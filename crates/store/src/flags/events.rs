//! What the detector is told of: deploys, what people did, requests and errors by the minute, as rows.

use chrono::{DateTime, Utc};
use outcrop_core::deploy::{Event, Minute};
use sqlx::FromRow;

#[derive(FromRow)]
pub(super) struct Row {
    pub(super) kind: i32,
    pub(super) at: DateTime<Utc>,
    pub(super) service: i32,
    pub(super) environment: i32,
    pub(super) version: String,
    pub(super) error: i32,
    pub(super) n: i64,
    pub(super) share: Option<f32>,
}

/// Deploys, then requests, then errors of each minute, then what people settled or opened in it.
/// Services and environments go by their numbers.
pub(super) const EVENTS: &str = "SELECT 0 AS kind, date_trunc('minute', at) AS at, service_id AS service, environment_id AS \
    environment, version, 0 AS error, 0::bigint AS n, share \
         FROM (DEPLOYS) d WHERE at >= $1 AND at < $2 \
     UNION ALL SELECT 1, minute, t.service_id, environment_id, version.label, 0, sum(requests)::bigint, NULL::real \
     FROM served_minute t \
         JOIN version ON version.id = t.version_id WHERE minute >= $1 AND minute < $2 GROUP BY minute, t.service_id, \
         environment_id, version.label \
     UNION ALL SELECT 2, minute, cause.service_id, environment_id, version.label, cause.error_id, sum(n)::bigint, \
     NULL FROM tally_minute t \
         JOIN cause ON cause.id = t.cause_id JOIN version ON version.id = t.version_id WHERE minute >= $1 AND minute \
         < $2 AND n > 0 \
         GROUP BY minute, cause.service_id, environment_id, version.label, cause.error_id \
     UNION ALL SELECT 3, date_trunc('minute', h.at), e.service_id, 0, h.what, h.error_id, (h.verb = \
     'settle')::int::bigint, NULL FROM handling_change h \
         JOIN error_group e ON e.id = h.error_id WHERE h.verb IN ('settle', 'reopen') AND h.at >= $1 AND h.at < $2 \
     ORDER BY at, kind, service, environment, version, error";

/// Errors of the minutes from one on.
pub(super) const OPEN: &str = "SELECT 2 AS kind, minute AS at, cause.service_id AS service, environment_id AS environment, \
    version.label AS version, \
         cause.error_id AS error, sum(n)::bigint AS n, NULL::real AS share FROM tally_minute t \
         JOIN cause ON cause.id = t.cause_id JOIN version ON version.id = t.version_id WHERE minute >= $1 AND n > 0 \
         GROUP BY minute, cause.service_id, environment_id, version.label, cause.error_id";

pub(super) fn time(minute: Minute) -> DateTime<Utc> {
    DateTime::from_timestamp(minute * 60, 0).unwrap_or_default()
}

impl Row {
    pub(super) fn event(self) -> Event {
        let (service, environment, count) = (
            self.service.to_string(),
            self.environment.to_string(),
            u64::try_from(self.n).unwrap_or_default(),
        );
        match self.kind {
            0 => {
                let share = self.share.map(f64::from);
                Event::Deploy {
                    at: self.at,
                    service,
                    environment,
                    version: self.version,
                    share,
                    ended_at: None,
                }
            }
            1 => Event::Requests {
                minute: self.at,
                service,
                environment,
                version: self.version,
                count,
            },
            3 => {
                let state = if count > 0 { "settled" } else { "open" }.to_owned();
                Event::State {
                    at: self.at,
                    service,
                    group: self.error.to_string(),
                    state,
                    version: self.version,
                }
            }
            _ => Event::Errors {
                minute: self.at,
                service,
                environment,
                version: self.version,
                group: self.error.to_string(),
                count,
            },
        }
    }
}
