//! Counts over time.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

use super::window::ErrorQuery;

/// Which part of an error's time to chart.
#[derive(Clone, Debug, Default, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub struct TimelineQuery {
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
    /// Steps at most, 2 to 400; 60 where not given.
    #[param(minimum = 2, maximum = 400)]
    pub steps: Option<u32>,
    /// Only occurrences for which this predicate holds.
    #[serde(rename = "where")]
    #[param(rename = "where")]
    pub predicate: Option<String>,
}

impl TimelineQuery {
    /// The window alone.
    #[must_use]
    pub fn window(&self) -> ErrorQuery {
        ErrorQuery {
            environment: self.environment.clone(),
            version: self.version.clone(),
            since: self.since.clone(),
            from: self.from,
            to: self.to,
            predicate: self.predicate.clone(),
            ..ErrorQuery::default()
        }
    }
}

/// Counts over time, in layers, the oldest version first.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Timeline {
    /// Beginning of the first step.
    pub from: DateTime<Utc>,
    /// End of the last step.
    pub to: DateTime<Utc>,
    /// Length of a step.
    pub step_ms: i64,
    /// One layer per version that occurs or takes requests in the window.
    pub layers: Vec<Layer>,
}

/// One version over time.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Layer {
    /// The version.
    pub version: String,
    /// Its first telemetry of all time: where the layer begins.
    pub first_seen: DateTime<Utc>,
    /// Occurrences per step.
    pub occurrences: Vec<i64>,
    /// Requests of the service per step.
    pub requests: Vec<i64>,
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_chart_looks_at_the_window_and_the_place_it_was_asked_for() {
        let sent =
            serde_json::json!({"environment": "production", "version": "2.4.0", "since": "7d", "where": "uncaught"});
        let query: TimelineQuery = serde_json::from_value(sent).unwrap();
        let window = query.window();
        assert_eq!(window.environment.as_deref(), Some("production"));
        assert_eq!(
            (window.version.as_deref(), window.since.as_deref()),
            (Some("2.4.0"), Some("7d"))
        );
        assert_eq!(window.predicate.as_deref(), Some("uncaught"));
        assert!(window.service.is_none() && window.limit.is_none() && window.cursor.is_none());
    }

    #[test]
    fn a_parameter_that_does_not_exist_is_refused() {
        let misspelt = serde_json::from_value::<TimelineQuery>(serde_json::json!({"sinse": "7d"})).unwrap_err();
        assert!(misspelt.to_string().contains("unknown field `sinse`"), "{misspelt}");
    }
}
