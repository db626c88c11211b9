//! One deploy in full, and why an error is there.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::{Course, DeployItem, MarkerItem};
use crate::deploy_changes::{EndpointChange, StoppedError};

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
