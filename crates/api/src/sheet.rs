//! Sheets: pages of questions and text that people arrange.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

/// The sheets.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SheetList {
    /// The sheets, by name.
    pub items: Vec<SheetItem>,
}

/// A sheet in a list.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SheetItem {
    /// Its name.
    pub name: String,
    /// What it is for; may be empty.
    pub about: String,
    /// How many parts it has.
    pub parts: u32,
    /// Who saved it, and alone changes it.
    pub owner: String,
    /// When it was saved last.
    pub changed_at: DateTime<Utc>,
}

/// A sheet: its document, and who saved it. One that is made by itself has no owner.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Sheet {
    /// Its name.
    pub name: String,
    /// What is on it.
    pub document: SheetDocument,
    /// Who saved it, and alone changes it; `null` where it is made by itself.
    pub owner: Option<String>,
    /// How often it was saved; 0 where it is made by itself.
    pub version: i32,
    /// When it was saved last.
    pub changed_at: Option<DateTime<Utc>>,
    /// The text of each part's question, in the order of the parts: of a saved question what it is now; `null` where a
    /// part is text, or its saved question was removed.
    pub questions: Vec<Option<String>>,
}

/// What is on a sheet. It is exported and imported as this JSON object.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SheetDocument {
    /// What it is for.
    #[serde(default)]
    #[schema(max_length = 1_000)]
    pub about: String,
    /// The service that all its questions are asked of; all where there is none.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub service: Option<String>,
    /// The environment that all its questions are asked of; all where there is none.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub environment: Option<String>,
    /// The time up to now that questions without a window of their own are asked over, such as `7d`; the reader's where
    /// there is none.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub over: Option<String>,
    /// What stands on it, in order.
    #[schema(max_items = 40)]
    pub parts: Vec<SheetPart>,
}

/// One thing on a sheet: text, a question, a question saved under a name, or a metric.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SheetPart {
    /// What stands above it; may be empty.
    #[serde(default)]
    #[schema(max_length = 200)]
    pub title: String,
    /// Text in plain Markdown.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[schema(max_length = 4_000)]
    pub text: Option<String>,
    /// A question.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[schema(max_length = 4_096)]
    pub question: Option<String>,
    /// The name of a saved question, which is asked as it is at the time.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub saved: Option<String>,
    /// The name of a metric that services send, which is drawn over time.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub metric: Option<String>,
    /// What the lines of a metric are by: `service`, `version`, `instance`, `environment` or one of its attributes.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub by: Option<String>,
    /// How minutes and series of a metric are put together: `mean`, `sum`, `most`, `least`, or a percentile such as `p95`.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub together: Option<String>,
    /// Which part of the sheet's width it has.
    #[serde(default)]
    pub width: SheetWidth,
}

/// Which part of a sheet's width something has.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum SheetWidth {
    /// A third.
    Third,
    /// A half.
    #[default]
    Half,
    /// All of it.
    Whole,
}

/// A sheet to save under a name.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewSheet {
    /// What is on it.
    pub document: SheetDocument,
    /// The version that is changed; without it the name must be new.
    pub version: Option<i32>,
}

/// Which sheet is made.
#[derive(Clone, Debug, Default, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub struct MadeSheetQuery {
    /// The service.
    pub service: String,
    /// A version of it: the sheet is of its deploy.
    pub version: Option<String>,
}
