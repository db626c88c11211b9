//! Questions and their answers.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

use super::Mistake;

/// A question.
#[derive(Clone, Debug, Default, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub struct AskQuery {
    /// The question, such as `count of occurrences by service over 7d`.
    pub question: String,
    /// Only records of services of this name.
    pub service: Option<String>,
    /// Only records of this environment.
    pub environment: Option<String>,
    /// The window of a question that names none: back from now, such as `24h` (the default). Not together with `from`.
    pub since: Option<String>,
    /// Beginning of the window of a question that names none.
    pub from: Option<DateTime<Utc>>,
    /// Its end; now where not given.
    pub to: Option<DateTime<Utc>>,
}

/// What a question came to.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Answer {
    /// The question, as it was understood.
    pub question: String,
    /// Its parts, to change one of them and ask again.
    pub parts: QuestionParts,
    /// Beginning of the window.
    pub from: DateTime<Utc>,
    /// End of the window, excluded.
    pub to: DateTime<Utc>,
    /// The step of a question over time, in milliseconds; the last step may be shorter.
    pub step_ms: Option<i64>,
    /// The period that the window is compared with.
    pub against: Option<AnswerPeriod>,
    /// What the values of the rows are: first of `keys`, then of `values`.
    pub columns: Vec<AnswerColumn>,
    /// The groups that are shown.
    pub rows: Vec<AnswerRow>,
    /// All groups that are not shown, together; null where all are.
    pub others: Option<AnswerRow>,
    /// All records together.
    pub total: AnswerRow,
    /// How many groups there are.
    pub groups: i64,
    /// What limits the answer, in words: how long records are kept, what groups leave out.
    pub note: Option<String>,
}

/// The parts of a question, as they are written.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct QuestionParts {
    /// The measures, in the order of their columns.
    pub measures: Vec<String>,
    /// `occurrences` or `lines`.
    pub source: String,
    /// What it groups by.
    pub by: Vec<String>,
    /// The predicate.
    #[serde(rename = "where")]
    pub predicate: Option<String>,
    /// The step over time, such as `1h`.
    pub each: Option<String>,
    /// The column that orders the rows, and `up` where the least comes first.
    pub order: Option<String>,
    /// How many groups are shown.
    pub top: Option<u32>,
    /// The window: `over 7d`, or `from … to …`; null where the question names none.
    pub window: Option<String>,
    /// What the window is compared with: `before`, or such as `7d earlier`.
    pub against: Option<String>,
}

/// A period.
#[derive(Clone, Copy, Debug, Serialize, Deserialize, ToSchema)]
pub struct AnswerPeriod {
    /// Its beginning.
    pub from: DateTime<Utc>,
    /// Its end, excluded.
    pub to: DateTime<Utc>,
}

/// A column of an answer.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct AnswerColumn {
    /// Its name, as the question says it.
    pub name: String,
    /// `key` for what is grouped by; of measures `count` (a whole number), `number`, `time` or `text`.
    pub kind: String,
}

/// A group of records.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct AnswerRow {
    /// Its values of what is grouped by; empty where a record has none.
    pub keys: Vec<String>,
    /// Its measures: a number, a time or text; null where no record has one.
    pub values: Vec<serde_json::Value>,
    /// Its measures step by step; empty where the question is not over time.
    pub steps: Vec<Vec<serde_json::Value>>,
    /// By which part of itself the number of its records may be off, 19 times in 20, where it comes from a sample of
    /// requests; else null.
    pub margin: Option<f64>,
    /// Its measures in the period that the window is compared with; null where there is none.
    pub before: Option<Vec<serde_json::Value>>,
    /// A predicate for its records; null where the language has none for one of its keys.
    #[serde(rename = "where")]
    pub predicate: Option<String>,
}

/// What may stand at a place of a question that is being written.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct QuestionCompletion {
    /// Where the word being written begins, in characters.
    pub from: u32,
    /// What it may become, the likeliest first, ready to be put in.
    pub offers: Vec<String>,
    /// What is wrong with the text as it stands; null where it is a question.
    pub mistake: Option<Mistake>,
}

/// Questions saved under a name.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SavedQuestionList {
    /// The questions, by name.
    pub items: Vec<SavedQuestion>,
}

/// A question saved under a name.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SavedQuestion {
    /// Its name.
    pub name: String,
    /// Its text.
    pub question: String,
    /// What it is for; may be empty.
    pub description: String,
    /// Who saved it, and alone changes it.
    pub owner: String,
    /// How often it was saved.
    pub version: i32,
    /// When it was saved last.
    pub changed_at: DateTime<Utc>,
    /// What it was before, the newest first; of one question, not in lists.
    pub before: Vec<SavedQuestionBefore>,
}

/// What a saved question was.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SavedQuestionBefore {
    /// Its version then.
    pub version: i32,
    /// Its text then.
    pub question: String,
    /// What it was for.
    pub description: String,
    /// When it was saved so.
    pub changed_at: DateTime<Utc>,
}

/// A question to save under a name.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewSavedQuestion {
    /// Its text.
    #[schema(max_length = 4_096)]
    pub question: String,
    /// What it is for.
    #[serde(default)]
    #[schema(max_length = 1_000)]
    pub description: String,
    /// The version that is changed; without it the name must be new.
    pub version: Option<i32>,
}
