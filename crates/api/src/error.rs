//! Errors: their list, and one of them.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::severity::Severity;
use super::timeline::Timeline;
use super::window::{Period, Then};
use crate::{FlagItem, NamedError, TiedError};

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
    /// The commit by which it is settled; while `settled_in` is `null`, no deploy is known to hold it.
    #[serde(default)]
    pub settled_by: Option<String>,
    /// The time from which on it must not occur, where that is said of no version.
    #[serde(default)]
    pub settled_from: Option<DateTime<Utc>>,
    /// The condition until which nobody is told.
    pub quiet_until: Option<String>,
    /// `new`, `surging`, `returned`.
    pub flags: Vec<String>,
    /// Whether a deploy or a version stands at the beginning of one of them.
    pub since_deploy: bool,
    /// Which part of the list it belongs to.
    pub part: ListPart,
    /// Of an error that came with a version within the last day: the share of that version's requests that fail with
    /// it, 0 to 1. Where `strip` is asked for, and in the window.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub version_share: Option<f64>,
    /// What fails, and since when.
    pub sentence: Sentence,
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

/// Parts of a list of errors.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum ListPart {
    /// Flagged, and a deploy or a version stands at the beginning.
    FromDeploy,
    /// Flagged without one.
    Rising,
    /// Not flagged.
    Known,
    /// Settled or quiet: it comes last, whatever is said of it.
    Handled,
}

/// A sentence in which an age may stand: whoever shows it says how long ago `since` was.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Sentence {
    /// The part that matters most; may be empty.
    pub lead: String,
    /// What follows it, up to the age where there is one.
    pub text: String,
    /// What the age is of.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub since: Option<DateTime<Utc>>,
    /// What follows the age; may be empty.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub rest: String,
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
    /// How many errors there are without `words`.
    pub total_without_words: i64,
    /// How many of these are settled or quiet; they come last.
    pub handled: i64,
    /// How many of these stand in each part of the list.
    pub parts: PartCounts,
    /// How many of these are flagged, of those that are neither settled nor quiet.
    pub flagged: FlagCounts,
    /// What fails most, over all pages.
    pub headline: Sentence,
    /// Requests of the window, where it is held against another period.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub traffic: Option<RequestCounts>,
    /// The period asked for by `against`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub against: Option<Period>,
    /// The cursor of the next page; `null` on the last.
    pub next: Option<String>,
    /// What must be said of the question where nothing was found: that nothing has an attribute it asks for.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub note: Option<String>,
}

/// How many errors stand in each part of a list.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct PartCounts {
    /// Flagged since a deploy.
    pub from_deploy: i64,
    /// Flagged otherwise.
    pub rising: i64,
    /// Not flagged.
    pub known: i64,
    /// Settled or quiet.
    pub handled: i64,
}

/// How many errors are flagged, by kind; one may have several flags.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct FlagCounts {
    /// As new.
    pub new: i64,
    /// As surging.
    pub surging: i64,
    /// As returned.
    pub returned: i64,
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
    /// Which share of which requests fails with it, else how often it occurred, in words.
    pub lead: String,
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
