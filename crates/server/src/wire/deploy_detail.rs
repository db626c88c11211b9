//! One deploy in full, and why an error is there.

use chrono::{DateTime, Utc};
use outcrop_core::touching::Commit;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::{Course, DeployItem, MarkerItem};

/// What a deploy brought, as its pipeline read it from the repository.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct DeployChanges {
    /// The repository's name.
    #[serde(default)]
    pub repository: String,
    /// Its commits, each with the lines of the deployed revision that are its own.
    #[schema(value_type = Vec<Object>)]
    pub commits: Vec<Commit>,
    /// Patterns of CODEOWNERS with their owners, in order: the last that fits a file counts.
    #[serde(default)]
    pub owners: Vec<Owned>,
}

/// Who owns the files of a pattern.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct Owned {
    /// The pattern, as in CODEOWNERS.
    pub pattern: String,
    /// The owners; none takes the files out.
    pub owners: Vec<String>,
}

/// An endpoint before a deploy against after it.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct EndpointChange {
    /// The endpoint.
    pub endpoint: String,
    /// Requests to other versions in the day before.
    pub requests_before: i64,
    /// Of them failed.
    pub failed_before: i64,
    /// 95 of 100 of them took no longer.
    pub p95_before_ms: Option<f64>,
    /// Requests to the deployed version since.
    pub requests: i64,
    /// Of them failed.
    pub failed: i64,
    /// 95 of 100 of them took no longer.
    pub p95_ms: Option<f64>,
    /// What changed, by a test: `fails more`, `slower`, `fails less`, `faster`; empty where nothing
    /// is shown to have changed.
    pub changes: Vec<String>,
}

/// One deploy in full.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct DeployDetail {
    /// The deploy and its answer.
    pub deploy: DeployItem,
    /// The service's endpoints, those that changed first.
    pub endpoints: Vec<EndpointChange>,
    /// Of a canary or a deploy to an instance group: its endpoints against the rest in the same
    /// minutes, those that differ first (`…_before` is the rest); empty for others.
    pub beside: Vec<EndpointChange>,
    /// What is held against what there, in words.
    pub beside_what: Option<String>,
    /// Errors of the day before that have not occurred in the version since.
    pub stopped: Vec<StoppedError>,
    /// Requests and failures by version, over the time around the deploy.
    pub versions: Course,
    /// Other changes around it that may touch the service.
    pub markers: Vec<MarkerItem>,
    /// The commits it brought; null where its pipeline did not send them.
    pub commits: Option<Vec<CommitItem>>,
}

/// An error that stopped with a deploy.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct StoppedError {
    /// Its reference.
    #[serde(rename = "ref")]
    pub reference: String,
    /// Its title.
    pub title: String,
    /// Occurrences in the day before.
    pub count: i64,
}

/// A commit of a deploy.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct CommitItem {
    /// Its id.
    pub id: String,
    /// Its author.
    pub author: String,
    /// When it was made.
    pub at: DateTime<Utc>,
    /// The first line of its message.
    pub summary: String,
    /// How many files it changed.
    pub files: usize,
    /// Where it touches errors that are charged to the deploy, the nearest first.
    pub touches: Vec<TouchItem>,
}

/// A commit near an error's frames.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct TouchItem {
    /// The error's reference.
    #[serde(rename = "ref")]
    pub reference: String,
    /// The commit's id.
    pub commit: String,
    /// Its author.
    pub author: String,
    /// The first line of its message.
    pub summary: String,
    /// When it was made.
    pub at: DateTime<Utc>,
    /// The file in the repository.
    pub path: String,
    /// The line of the frame.
    pub line: u32,
    /// How many lines lie between the frame and the change; null where the commit only took lines of the file away.
    pub distance: Option<u32>,
    /// Who owns the file, by CODEOWNERS.
    pub owners: Vec<String>,
}

/// Why an error is there: the evidence in order.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Why {
    /// The error's reference.
    #[serde(rename = "ref")]
    pub reference: String,
    /// The version whose changes were looked at; null where none stands at its beginning.
    pub version: Option<String>,
    /// Sentences, the most telling first. Never empty: where nothing explains it, that is said.
    pub sentences: Vec<WhySentence>,
    /// Commits of that version near its frames, the nearest first.
    pub touches: Vec<TouchItem>,
    /// Who owns the files of its own frames, by CODEOWNERS.
    pub owners: Vec<String>,
    /// What to do next, as the evidence has it; the most promising first, 4 at most.
    pub steps: Vec<NextStep>,
}

/// What to do next.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct NextStep {
    /// The step, in words.
    pub text: String,
    /// The command that takes it; null where a link does.
    pub command: Option<String>,
    /// A page that it leads to: a path of the console, or a whole address.
    pub link: Option<String>,
}

/// A sentence of evidence.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct WhySentence {
    /// `beginning`, `origin`, `stands out`, `change`, `together`, `nothing`.
    pub kind: String,
    /// The sentence.
    pub text: String,
    /// The error it speaks of, where it is another one.
    #[serde(rename = "ref")]
    pub reference: Option<String>,
}
