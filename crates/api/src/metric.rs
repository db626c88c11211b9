//! Metrics: what services send, and questions that are counted for good.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

/// Which metrics are listed.
#[derive(Clone, Debug, Default, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub struct MetricListQuery {
    /// The service that sends them.
    pub service: Option<String>,
    /// The environment they come from.
    pub environment: Option<String>,
    /// The version that sends them.
    pub version: Option<String>,
    /// How far back the window reaches, such as `24h`; the default.
    pub since: Option<String>,
    /// When the window begins.
    pub from: Option<DateTime<Utc>>,
    /// When it ends; now where it is not given.
    pub to: Option<DateTime<Utc>>,
}

/// How a metric is asked for.
#[derive(Clone, Debug, Default, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub struct MetricQuery {
    /// The service that sends it.
    pub service: Option<String>,
    /// The environment it comes from.
    pub environment: Option<String>,
    /// The version that sends it.
    pub version: Option<String>,
    /// How far back the window reaches, such as `24h`; the default.
    pub since: Option<String>,
    /// When the window begins.
    pub from: Option<DateTime<Utc>>,
    /// When it ends; now where it is not given.
    pub to: Option<DateTime<Utc>>,
    /// What its lines are by: `service`, `environment`, `version`, `instance`, or an attribute of the metric.
    pub by: Option<String>,
    /// How minutes and series are put together: `mean`, `sum`, `most`, `least`, or a percentile such as `p95`. Without it increases are summed up,
    /// and of all else it is the mean.
    pub together: Option<String>,
    /// `openmetrics` answers as `OpenMetrics` text, as does the header `accept: application/openmetrics-text`.
    pub format: Option<String>,
}

/// Metrics, by name.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct MetricList {
    /// The metrics; 1,000 at most.
    pub items: Vec<MetricItem>,
}

/// A metric in a list.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct MetricItem {
    /// Its name.
    pub name: String,
    /// Its unit, as it was sent.
    pub unit: String,
    /// What its numbers are: `level`, how much there is; `increase`, how much came; `distribution`, measurements.
    pub kind: String,
    /// How many series it has.
    pub series: i64,
    /// The services that send it.
    pub services: Vec<String>,
    /// The attributes that tell its series apart.
    pub attributes: Vec<String>,
    /// How it is counted; nothing where services send it.
    pub counted: Option<CountedQuestion>,
}

/// A question that is counted for good, as a metric.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct CountedQuestion {
    /// What is counted.
    pub question: String,
    /// In steps of so many milliseconds.
    pub step_ms: i64,
    /// What it is for; may be empty.
    pub description: String,
    /// Who has it counted, and alone ends that.
    pub owner: String,
    /// Since when it is counted.
    pub made_at: DateTime<Utc>,
    /// The first hour that is counted; nothing before the first round.
    pub counted_from: Option<DateTime<Utc>>,
    /// Hours that are to be counted still: of the past, or where something came late.
    pub hours_left: i32,
    /// What the last hour failed with, where it did.
    pub failure: Option<String>,
}

/// A question to count for good.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewCounted {
    /// The question: one measure, split by three fields at most, in steps that divide an hour (`each 5m` where it names
    /// none).
    pub question: String,
    /// What it is for.
    #[serde(default)]
    pub description: String,
}

/// A metric over time.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct MetricCourse {
    /// Its name.
    pub name: String,
    /// Its unit, as it was sent.
    pub unit: String,
    /// What its numbers are: `level`, `increase` or `distribution`.
    pub kind: String,
    /// How minutes and series were put together: `mean`, `sum`, `most`, `least` or a percentile.
    pub together: String,
    /// When the first step begins.
    pub from: DateTime<Utc>,
    /// When the window ends.
    pub to: DateTime<Utc>,
    /// How long a step is, in milliseconds.
    pub step_ms: i64,
    /// The lines, those with the greatest numbers first; 20 at most.
    pub lines: Vec<MetricLine>,
    /// How many lines there are in all.
    pub all_lines: i64,
    /// What it leaves out, in words.
    pub note: Option<String>,
    /// How it is counted; nothing where services send it.
    pub counted: Option<CountedQuestion>,
}

/// One line of a metric.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct MetricLine {
    /// The value of what lines are by; empty where it is not set, and of the only line.
    pub key: String,
    /// A number for each step; `null` where nothing came.
    pub values: Vec<Option<f64>>,
}
