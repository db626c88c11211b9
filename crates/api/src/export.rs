//! Records taken out.

use chrono::{DateTime, Utc};
use serde::Deserialize;
use utoipa::IntoParams;

/// The header of a page of records that others follow: what to give as `after` for the next one.
pub const NEXT: &str = "outcrop-next";

/// Which records to take out.
#[derive(Clone, Debug, Default, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub struct ExportQuery {
    /// Only of services of this name.
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
    /// Only records for which this predicate holds.
    #[serde(rename = "where")]
    #[param(rename = "where")]
    pub predicate: Option<String>,
    /// Only records after this one: the id of the last that was read.
    pub after: Option<String>,
}
