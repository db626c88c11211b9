//! What part of all telemetry is asked about.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

/// Which part of all errors to look at.
#[derive(Clone, Debug, Default, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub struct ErrorQuery {
    /// Only errors of services of this name.
    pub service: Option<String>,
    /// Only what happened in this environment.
    pub environment: Option<String>,
    /// Only what happened in this version.
    pub version: Option<String>,
    /// The window, back from now: `30m`, `24h` (the default), `7d`. Not together with `from`.
    pub since: Option<String>,
    /// Beginning of the window.
    pub from: Option<DateTime<Utc>>,
    /// End of the window; now where not given.
    pub to: Option<DateTime<Utc>>,
    /// Items per page, 1 to 500; 50 where not given. Lists only.
    pub limit: Option<u32>,
    /// The cursor of a page. Lists only.
    pub cursor: Option<String>,
    /// Add a small timeline of at most so many steps to each item, 2 to 100. Lists only.
    pub strip: Option<u32>,
    /// Only occurrences for which this predicate holds; counts are of these.
    #[serde(rename = "where")]
    #[param(rename = "where")]
    pub predicate: Option<String>,
    /// Only errors of which all these words stand in the title, service, own frame, reference, versions or latest
    /// message, whatever their case; at most 200 bytes. Lists only.
    pub words: Option<String>,
    /// Whether those flagged since a deploy come first, then others that are flagged, then known ones. Lists only.
    pub by_part: Option<bool>,
    /// What comes first: the most of `attention` (where not given), `count`, `users`, `request_share`, `first_seen` or
    /// `last_seen`; `count up` the least. What is settled or quiet stays last. Lists only.
    pub order: Option<String>,
    /// The period to hold the window against: `before` it, so much earlier (`1d`, `7d`), or
    /// `BEGINNING/END`. Lists and one error.
    pub against: Option<String>,
}

/// An error in the period that the window is held against.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Then {
    /// Occurrences.
    pub count: i64,
    /// Users.
    pub users: i64,
    /// The share of the requests to its endpoints that failed with it; `null` without requests.
    pub request_share: Option<f64>,
    /// `more` or `less` of it now, relative to the requests, where chance would do it once in ten
    /// thousand; else `null`.
    pub change: Option<String>,
}

/// The period that a window is held against.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Period {
    /// Its beginning.
    pub from: DateTime<Utc>,
    /// Its end.
    pub to: DateTime<Utc>,
    /// Requests of the services in scope.
    pub requests: i64,
    /// Of these, failed.
    pub failed: i64,
    /// Errors that occurred then.
    pub errors: i64,
    /// Of these, not in the window.
    pub gone: i64,
}
