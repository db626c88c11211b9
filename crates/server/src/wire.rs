//! The API's JSON, shared by the service, its OpenAPI document and the command line.

mod deploy_detail;
mod deploys;
mod grouping;
mod handling;
mod logs;
mod markers;
mod people;
mod report;
mod scrubbing;
mod sending;
mod slices;
mod storage;
mod traces;
mod uses;

pub use deploy_detail::*;
pub use deploys::*;
pub use grouping::*;
pub use handling::*;
pub use logs::*;
pub use markers::*;
pub use people::*;
pub use report::*;
pub use scrubbing::*;
pub use sending::*;
pub use slices::*;
pub use storage::*;
pub use traces::*;
pub use uses::*;

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

/// What went wrong (RFC 9457).
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Problem {
    /// The status in words.
    pub title: String,
    /// The HTTP status code.
    pub status: u16,
    /// A stable code for programs.
    pub code: String,
    /// What went wrong and what to do, for people.
    pub detail: String,
    /// Where in a text that was sent, in characters from 0; of a predicate.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub at: Option<u32>,
    /// How many characters it concerns.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub length: Option<u32>,
}

/// How severe an error is, by OTLP's ranges of severity numbers.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum Severity {
    /// 1 to 4.
    Trace,
    /// 5 to 8.
    Debug,
    /// 9 to 12; also where none is given.
    Info,
    /// 13 to 16.
    Warn,
    /// 17 to 20.
    Error,
    /// 21 to 24.
    Fatal,
}

/// Read by any of its usual names: `warning`, `critical`.
impl<'de> Deserialize<'de> for Severity {
    fn deserialize<D: serde::Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        String::deserialize(deserializer)?
            .parse()
            .map_err(serde::de::Error::custom)
    }
}

impl std::str::FromStr for Severity {
    type Err = String;

    fn from_str(name: &str) -> Result<Self, String> {
        let number = outcrop_core::severity::number(name);
        number.map(|number| Self::of_number(number.into())).ok_or_else(|| {
            format!(
                "`{name}` is no severity; it is one of trace, debug, info, warn (or warning), error, fatal (or \
                critical)"
            )
        })
    }
}

impl Severity {
    /// Reads OTLP's number.
    #[must_use]
    pub const fn of_number(number: i16) -> Self {
        match number {
            1..=4 => Self::Trace,
            5..=8 => Self::Debug,
            13..=16 => Self::Warn,
            17..=20 => Self::Error,
            21.. => Self::Fatal,
            _ => Self::Info,
        }
    }

    /// Reads OTLP's number; `None` where it says nothing.
    #[must_use]
    pub const fn of(number: i16) -> Option<Self> {
        if number > 0 {
            Some(Self::of_number(number))
        } else {
            None
        }
    }

    /// The word, as in JSON.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Trace => "trace",
            Self::Debug => "debug",
            Self::Info => "info",
            Self::Warn => "warn",
            Self::Error => "error",
            Self::Fatal => "fatal",
        }
    }
}

/// How much an error matters, and why.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Attention {
    /// 0 to 100.
    pub score: u8,
    /// The reasons, the weightiest first.
    pub reasons: Vec<String>,
}

/// An error with its numbers in the window asked for.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ErrorItem {
    /// Its reference: two five-letter words.
    #[serde(rename = "ref")]
    #[schema(example = "kobal-tirun")]
    pub reference: String,
    /// The namespace of its service; may be empty.
    pub namespace: String,
    /// Its service.
    pub service: String,
    /// Environments it occurred in within the window.
    pub environments: Vec<String>,
    /// The exception's type; may be empty.
    #[serde(rename = "type")]
    pub type_name: String,
    /// The latest occurrence's message; `null` where none is kept.
    pub message: Option<String>,
    /// Type and message template.
    pub title: String,
    /// The innermost own frame.
    pub own_frame: Option<String>,
    /// The highest severity of all time.
    pub severity: Severity,
    /// Whether any occurrence ended a request, job or process.
    pub uncaught: bool,
    /// What kind of failure it is, where its type or message tells: `timeout`, `connection`, `null`, `database`, …
    pub kind: Option<String>,
    /// Occurrences in the window.
    pub count: i64,
    /// Users in the window.
    pub users: i64,
    /// The share of the requests to its endpoints that failed with it in the window, 0 to 1; `null` without requests.
    pub request_share: Option<f64>,
    /// First event of all time.
    pub first_seen: DateTime<Utc>,
    /// Last event of all time.
    pub last_seen: DateTime<Utc>,
    /// The version it was first seen in.
    pub first_version: String,
    /// Whether it was first seen within an hour of that version, while an earlier version is known.
    pub came_with_version: bool,
    /// Versions it occurred in within the window, in the order they were first received.
    pub versions: Vec<String>,
    /// Who has taken it.
    pub taken_by: Option<String>,
    /// The version from which on it must not occur.
    pub settled_in: Option<String>,
    /// The condition until which nobody is told.
    pub quiet_until: Option<String>,
    /// `new`, `surging`, `returned`.
    pub flags: Vec<String>,
    /// Whether a deploy or a version stands at the beginning of one of them.
    pub since_deploy: bool,
    /// How much it matters.
    pub attention: Attention,
    /// The error in another service that this one follows from.
    pub origin: Option<String>,
    /// A small timeline, where asked for by `strip`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub strip: Option<Timeline>,
    /// The period asked for by `against`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub against: Option<Then>,
}

/// What the requests of the window did.
#[derive(Clone, Copy, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct RequestCounts {
    /// Requests of the services in scope.
    pub requests: i64,
    /// Of these, failed.
    pub failed: i64,
}

/// A page of errors, those that matter most first.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ErrorPage {
    /// The errors.
    pub items: Vec<ErrorItem>,
    /// How many errors there are in the window, on all pages.
    pub total: i64,
    /// Requests of the window.
    pub traffic: RequestCounts,
    /// The period asked for by `against`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub against: Option<Period>,
    /// The cursor of the next page; `null` on the last.
    pub next: Option<String>,
    /// What must be said of the question where nothing was found: that nothing has an attribute it asks for.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub note: Option<String>,
}

/// Of all time: an error in one environment and version.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Sighting {
    /// The environment.
    pub environment: String,
    /// The version.
    pub version: String,
    /// Occurrences.
    pub count: i64,
    /// Of these, uncaught.
    pub uncaught: i64,
    /// First event.
    pub first_seen: DateTime<Utc>,
    /// Last event.
    pub last_seen: DateTime<Utc>,
}

/// One error.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ErrorDetail {
    /// What was said of it in the window, the newest first.
    pub flagged: Vec<FlagItem>,
    /// Errors of other services in which occurrences of this one began, in the window; the most frequent first.
    pub begins_in: Vec<TiedError>,
    /// Errors of other services that followed from this one, in the window; the most frequent first.
    pub followed_by: Vec<TiedError>,
    /// The error with its numbers in the window.
    #[serde(flatten)]
    pub error: ErrorItem,
    /// The endpoints it occurs at in the window, those with most of its occurrences first; 5 at most.
    pub endpoints: Vec<HitEndpoint>,
    /// Of all time, per environment and version, the latest version first.
    pub sightings: Vec<Sighting>,
    /// The latest occurrence's id, as far as one is kept.
    pub latest_occurrence: Option<String>,
    /// What must be said beside its share of requests; null where its service sends every request, or none.
    pub sampling: Option<String>,
    /// How its code has moved between versions, the newest first, as far as that was taken for the same error.
    pub moved: Vec<MovedCause>,
    /// Errors of earlier versions that it may be, its code having moved, the likeliest first; 3 at most.
    pub may_be: Vec<NamedError>,
}

/// A cause that a version brought and that is taken for an error known before.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct MovedCause {
    /// The number of the change, by which it is undone.
    pub change: i64,
    /// What was edited, in words: `moved in 3.5.0: a frame watch: timed was added`.
    pub sentence: String,
    /// When it was found.
    pub at: DateTime<Utc>,
}

/// An endpoint that an error occurs at.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct HitEndpoint {
    /// The endpoint.
    pub endpoint: String,
    /// The share of the error's occurrences that fall on it, 0 to 1; of its newest 5,000.
    pub share: f64,
    /// The endpoint's requests in the window.
    pub requests: i64,
    /// The share of these that failed with this error, 0 to 1; `null` without requests.
    pub request_share: Option<f64>,
}

/// An occurrence in a list.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct OccurrenceItem {
    /// Its id in lower-case hex; ids sort by time.
    pub id: String,
    /// When it happened.
    pub at: DateTime<Utc>,
    /// When it was received.
    pub received_at: DateTime<Utc>,
    /// Its service.
    pub service: String,
    /// Its environment.
    pub environment: String,
    /// Its version.
    pub version: String,
    /// The endpoint of its request, where known.
    pub endpoint: Option<String>,
    /// The exception's type.
    #[serde(rename = "type")]
    pub type_name: String,
    /// The exception's message.
    pub message: String,
    /// Its severity.
    pub severity: Severity,
    /// Whether it ended a request, job or process.
    pub uncaught: bool,
    /// Its trace in lower-case hex.
    pub trace_id: Option<String>,
    /// Its span in lower-case hex.
    pub span_id: Option<String>,
    /// The host's name.
    pub host: Option<String>,
    /// The user.
    pub user: Option<String>,
}

/// A page of occurrences, the newest first.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct OccurrencePage {
    /// The occurrences.
    pub items: Vec<OccurrenceItem>,
    /// The cursor of the next page; `null` on the last.
    pub next: Option<String>,
}

/// A stack frame.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Frame {
    /// The function; empty where it has no name.
    pub function: String,
    /// The module, where the text tells it apart.
    #[serde(default)]
    pub module: String,
    /// The file.
    pub file: String,
    /// The line, from 1.
    #[serde(default)]
    pub line: Option<u32>,
    /// Whether it is the service's own code.
    pub own: bool,
    /// How often it repeats in a row, beyond the first time.
    #[serde(default)]
    pub repeats: u32,
    /// A link to its line, where the service has a URL template.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub link: Option<String>,
    /// Lines of source around its line, from the sender or a checkout.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub source: Option<SourceLines>,
    /// Its variables, where the sender gave them.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub variables: Vec<Variable>,
}

/// One exception of a chain.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Exception {
    /// How it belongs to the one before it: `thrown`, `cause`, `handled`, `member`.
    pub relation: String,
    /// Its type.
    #[serde(rename = "type")]
    pub type_name: String,
    /// Its message.
    pub message: String,
    /// Its frames, the innermost first.
    pub frames: Vec<Frame>,
}

/// A stack text read into exceptions and frames.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Stack {
    /// The runtime that wrote it.
    pub runtime: String,
    /// The exception as it was thrown last, then what it came from.
    pub exceptions: Vec<Exception>,
}

/// A further report of the same failure.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct AlsoReported {
    /// When.
    pub at: DateTime<Utc>,
    /// On which span, in lower-case hex.
    pub span_id: Option<String>,
    /// The type it gave.
    #[serde(rename = "type")]
    pub type_name: String,
    /// The message it gave.
    pub message: String,
}

/// One occurrence in full.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct OccurrenceDetail {
    /// What the list says of it.
    #[serde(flatten)]
    pub occurrence: OccurrenceItem,
    /// The error it belongs to.
    pub error: String,
    /// Its frames; `null` where no known runtime wrote the stack text.
    pub stack: Option<Stack>,
    /// The stack text as sent; `null` where it was not kept.
    pub stacktrace: Option<String>,
    /// The request, sorted for people.
    #[serde(default)]
    pub request: Vec<RequestPart>,
    /// The record's attributes.
    #[schema(value_type = Object)]
    pub attributes: serde_json::Value,
    /// The resource's attributes.
    #[schema(value_type = Object)]
    pub resource: serde_json::Value,
    /// Further reports of the same failure.
    pub also_reported: Vec<AlsoReported>,
    /// The exact data sent as OTLP/JSON, less what was scrubbed; `null` where it was not kept.
    #[schema(value_type = Option<Object>)]
    pub sent: Option<serde_json::Value>,
}

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
    pub(crate) fn window(&self) -> ErrorQuery {
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

/// Who signs in.
#[derive(Deserialize, ToSchema)]
pub struct SignIn {
    /// The address.
    #[schema(max_length = 320)]
    pub email: String,
    /// The password.
    #[schema(max_length = 1_000)]
    pub password: String,
}

/// A member.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Member {
    /// The address they sign in with.
    pub email: String,
    /// `viewer`, `engineer` or `admin`.
    pub role: String,
}

/// A change of one's own password.
#[derive(Deserialize, ToSchema)]
pub struct NewPassword {
    /// The password until now.
    #[schema(max_length = 1_000)]
    pub current: String,
    /// The password from now on, at least 10 characters.
    #[schema(min_length = 10, max_length = 1_000)]
    pub new: String,
    /// Whether one's tokens are revoked too.
    #[serde(default)]
    pub revoke_tokens: bool,
}

/// A service that has sent something.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ServiceItem {
    /// Its namespace; may be empty.
    pub namespace: String,
    /// Its name.
    pub service: String,
    /// Its environments.
    pub environments: Vec<String>,
    /// Its versions, in the order they were first received.
    pub versions: Vec<String>,
    /// When its first data was received.
    pub first_received_at: DateTime<Utc>,
    /// Its latest event.
    pub last_event_at: DateTime<Utc>,
    /// Requests of the last 24 hours.
    pub requests: i64,
    /// Occurrences of the last 24 hours.
    pub occurrences: i64,
    /// What must be said beside its rates of requests; null where every request is sent, or none.
    pub sampling: Option<String>,
    /// What is missing for good answers, in words; empty where nothing is.
    pub missing: Vec<String>,
}

/// The services that have sent something, by name.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ServiceList {
    /// The services.
    pub items: Vec<ServiceItem>,
}

/// Which occurrences to list.
#[derive(Clone, Debug, Default, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub struct OccurrenceQuery {
    /// Items per page, 1 to 500; 50 where not given.
    pub limit: Option<u32>,
    /// The cursor of a page.
    pub cursor: Option<String>,
    /// Only occurrences for which this predicate holds.
    #[serde(rename = "where")]
    #[param(rename = "where")]
    pub predicate: Option<String>,
    /// The window, back from now; all that is kept where not given.
    pub since: Option<String>,
}

/// A predicate that is being written.
#[derive(Clone, Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub struct CompletionQuery {
    /// The text so far.
    pub text: String,
    /// The place to complete at, in characters; its end where not given.
    pub at: Option<u32>,
}

/// What may stand at a place of a predicate.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Completion {
    /// Where the word being written begins, in characters.
    pub from: u32,
    /// `field`, `check`, `value`, `connective` or `nothing`.
    pub wanted: String,
    /// What it may become, the likeliest first, ready to be put in.
    pub offers: Vec<String>,
    /// What is wrong with the text as it stands; `null` where it is a predicate.
    pub mistake: Option<Mistake>,
}

/// A mistake in a predicate.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Mistake {
    /// Where, in characters from 0.
    pub at: u32,
    /// How many characters it concerns; 0 at the end.
    pub length: u32,
    /// What is wrong, and what would be right.
    pub message: String,
}

/// Which occurrence to stand at: one of these.
#[derive(Clone, Debug, Default, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub struct ChoiceQuery {
    /// `first`, `latest` (where nothing is given) or `fullest`.
    pub choice: Option<String>,
    /// The next older one than this id.
    pub older: Option<String>,
    /// The next newer one than this id.
    pub newer: Option<String>,
    /// The latest in this version.
    pub version: Option<String>,
    /// Only in this environment.
    pub environment: Option<String>,
}

/// The occurrence chosen.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ChosenOccurrence {
    /// Its id; `null` where there is none further.
    pub id: Option<String>,
    /// Its place among those kept, from 1 for the first.
    pub position: i64,
    /// How many are kept.
    pub total: i64,
}

/// What the occurrences of an error have in common, against the service's requests in the same time.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Common {
    /// Occurrences looked at: the newest 5,000 of the window at most.
    pub occurrences: u64,
    /// Sampled requests they are compared with.
    pub requests: u64,
    /// Values that stand out, the strongest first.
    pub stands_out: Vec<StandsOut>,
    /// Why nothing is compared, where that is so.
    pub not_compared: Option<String>,
    /// `every 15 minutes`, where the occurrences come in a rhythm.
    pub rhythm: Option<String>,
    /// The most frequent values of every attribute.
    pub attributes: Vec<AttributeValues>,
}

/// A value over-represented in an error's occurrences.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct StandsOut {
    /// In words: `all with season = winter; usually 11 %`.
    pub sentence: String,
    /// The attribute's name.
    pub name: String,
    /// The value.
    pub value: String,
    /// A predicate for the occurrences with it; `null` where time is what stands out.
    #[serde(rename = "where")]
    pub predicate: Option<String>,
    /// Occurrences with it.
    pub count: u64,
    /// The share of occurrences with it, 0 to 1.
    pub share: f64,
    /// The share of requests with it, 0 to 1.
    pub usual_share: f64,
    /// How many times as frequent it is at least, by the bounds of both shares (95 %).
    pub ratio_at_least: f64,
}

/// The values of an attribute over an error's occurrences.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct AttributeValues {
    /// Its name.
    pub name: String,
    /// How many different values there are.
    pub kinds: i64,
    /// The 20 most frequent at most.
    pub values: Vec<ValueCount>,
}

/// A value with its number of occurrences.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ValueCount {
    /// The value.
    pub value: String,
    /// Occurrences with it.
    pub count: i64,
    /// A predicate for the occurrences with it; `null` for times.
    #[serde(rename = "where")]
    pub predicate: Option<String>,
}

/// Why an occurrence belongs to its error.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Explanation {
    /// In words: what decided.
    pub sentence: String,
    /// What decided: `own_frames`, `library_frames` or `message`.
    pub tier: String,
    /// All that went into the grouping key, in order.
    pub counted: Vec<Counted>,
    /// What was left out, and why.
    pub ignored: Vec<String>,
}

/// A part of a grouping key.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Counted {
    /// `type`, `frame`, `code` or `message`.
    pub kind: String,
    /// As it went in.
    pub text: String,
}

/// Whatever somebody has at hand.
#[derive(Clone, Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub struct FindQuery {
    /// A reference, a link, a trace or request id, a user, a log line, a stack: at most 64 kB.
    pub text: String,
}

/// What was found.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct FoundPage {
    /// The likeliest first, 10 at most.
    pub items: Vec<Candidate>,
}

/// Something that the text may mean.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Candidate {
    /// How it was found: `error`, `occurrence`, `trace`, `attribute`, `resource`, `version`,
    /// `endpoint`, `file`, `function`, `log lines`, `stack`, `log line` or `words`.
    pub by: String,
    /// In words.
    pub title: String,
    /// The error's reference, where it is one error.
    #[serde(rename = "ref")]
    pub reference: Option<String>,
    /// The console's page, with its view.
    pub path: String,
    /// The predicate for what was found, where it is no single error.
    #[serde(rename = "where")]
    pub predicate: Option<String>,
}
