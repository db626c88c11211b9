//! One error with its numbers in a window.

use chrono::{DateTime, Utc};
use outcrop_core::Reference;
use outcrop_core::attention::{Attention, Evidence, FlagKind, attention};
use serde::{Deserialize, Serialize};

use crate::errors::handling::Handling;

/// One error with its numbers in a window.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Summary {
    /// Its reference.
    pub reference: Reference,
    /// The namespace of its service; may be empty.
    pub namespace: String,
    /// Its service.
    pub service: String,
    /// The exception's type; may be empty.
    pub type_name: String,
    /// Type and message template.
    pub title: String,
    /// The innermost own frame in one line.
    pub own_frame: Option<String>,
    /// Environments it occurred in within the window.
    pub environments: Vec<String>,
    /// Versions it occurred in within the window, in the order they were first received.
    pub versions: Vec<String>,
    /// Occurrences in the window.
    pub count: i64,
    /// Users in the window.
    pub users: i64,
    /// Requests to the endpoints it occurs at, in the window; 0 where none are known.
    pub requests: i64,
    /// First event of all time.
    pub first_seen: DateTime<Utc>,
    /// Last event of all time.
    pub last_seen: DateTime<Utc>,
    /// The version it was first seen in.
    pub first_version: String,
    /// Whether it was first seen within an hour of that version, while an earlier version is known.
    pub came_with_version: bool,
    /// Whether any occurrence was uncaught.
    pub uncaught: bool,
    /// OTLP severity number, the highest.
    pub severity: i16,
    /// Names of the endpoints it occurred at in the window.
    pub endpoints: Vec<String>,
    /// The numbers of these in the database.
    pub endpoint_ids: Vec<i32>,
    /// Instances it occurred on in the window's whole hours; 64 stands for as many or more.
    pub instances: i64,
    /// Occurrences in the window's last quarter.
    pub recent: i64,
    /// How many each occurrence counts for beside the requests, where it is seen on sampled spans alone.
    pub one_in: Option<f64>,
    /// The weight people have set for it; `None` where none.
    pub weight: Option<f64>,
    /// Who has it, whether it is settled or quiet; read anew wherever it is shown.
    #[serde(skip)]
    pub handling: Handling,
    /// What was said of it in the window that weighs most, and whether it still stands.
    pub flag: Option<(FlagKind, bool)>,
    /// The number of its service in the database.
    pub service_id: i32,
}

impl Summary {
    /// Several occurrences may fall on one request: a share is at most 1; `None` without requests.
    #[must_use]
    pub fn request_share(&self) -> Option<f64> {
        #[expect(clippy::cast_precision_loss, reason = "counts beyond 2^53 do not occur")]
        (self.requests > 0).then(|| (self.count as f64 * self.one_in.unwrap_or(1.0) / self.requests as f64).min(1.0))
    }

    /// What kind of failure it is, where its type or message tells.
    #[must_use]
    pub fn kind(&self) -> Option<&'static str> {
        outcrop_core::failure_kind(&self.type_name, &self.title)
    }

    /// How much it matters at a time.
    #[must_use]
    pub fn attention(&self, now: DateTime<Utc>) -> Attention {
        attention(&Evidence {
            uncaught: self.uncaught,
            severity: self.severity,
            count: self.count.unsigned_abs(),
            users: self.users.unsigned_abs(),
            request_share: self.request_share(),
            requests: self.requests.unsigned_abs(),
            flag: self.flag,
            age_hours: (now - self.first_seen).as_seconds_f64() / 3_600.0,
            came_with: self
                .came_with_version
                .then(|| format!("{} {}", self.service, self.first_version)),
            endpoints: self.endpoints.len() as u64,
            instances: self.instances.unsigned_abs(),
            at_edge: self.endpoints.iter().any(|endpoint| is_waited_for(endpoint)),
            kind: self.kind(),
            recent: self.recent.unsigned_abs(),
            weight: self.weight,
            handled: self.handling.in_words(now),
        })
    }
}

/// Endpoints of requests begin with their method; jobs and queues do not.
fn is_waited_for(endpoint: &str) -> bool {
    const METHODS: &[&str] = &[
        "GET ", "POST ", "PUT ", "PATCH ", "DELETE ", "HEAD ", "OPTIONS ", "QUERY ",
    ];
    METHODS.iter().any(|method| endpoint.starts_with(method))
}
