//! What the detector is told, and what it says.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};

/// A minute, counted from 1970-01-01T00:00Z.
pub type Minute = i64;

/// One thing that happened.
#[derive(Clone, Debug, PartialEq, Deserialize)]
#[serde(tag = "kind", rename_all = "snake_case")]
pub enum Event {
    /// A version was put into an environment, or a canary ended.
    Deploy {
        /// When.
        at: DateTime<Utc>,
        /// The service.
        service: String,
        /// The environment.
        environment: String,
        /// The version.
        version: String,
        /// The share of the traffic that a canary takes; none for all of it.
        #[serde(default)]
        share: Option<f64>,
        /// When a canary was ended without being promoted; this line tells of that alone.
        #[serde(default)]
        ended_at: Option<DateTime<Utc>>,
    },
    /// Requests of one minute.
    Requests {
        /// The minute.
        minute: DateTime<Utc>,
        /// The service.
        service: String,
        /// The environment.
        environment: String,
        /// The version.
        version: String,
        /// How many.
        count: u64,
    },
    /// Occurrences of an error in one minute.
    Errors {
        /// The minute.
        minute: DateTime<Utc>,
        /// The service.
        service: String,
        /// The environment.
        environment: String,
        /// The version.
        version: String,
        /// The error.
        group: String,
        /// How many.
        count: u64,
    },
    /// People say that an error is settled in a version, in every environment, or open again.
    State {
        /// When.
        at: DateTime<Utc>,
        /// The service.
        service: String,
        /// The error.
        group: String,
        /// What is said: `open`; everything else settles it.
        state: String,
        /// The version from which on it must not occur; empty: from then on, whatever the version.
        version: String,
    },
}

/// A line that is no event.
#[derive(Debug, thiserror::Error)]
#[error("{0}")]
pub struct BadEvent(#[from] serde_json::Error);

impl Event {
    /// Reads one line of the scenario format.
    ///
    /// # Errors
    /// [`BadEvent`] where it is none.
    pub fn parse(line: &str) -> Result<Self, BadEvent> {
        Ok(serde_json::from_str(line)?)
    }

    /// The minute it belongs to.
    #[must_use]
    pub fn minute(&self) -> Minute {
        let at = match self {
            Self::Deploy { at, ended_at, .. } => ended_at.unwrap_or(*at),
            Self::Requests { minute, .. } | Self::Errors { minute, .. } => *minute,
            Self::State { at, .. } => *at,
        };
        parse_minute(at)
    }
}

/// The minute of a time.
#[must_use]
pub fn parse_minute(at: DateTime<Utc>) -> Minute {
    at.timestamp().div_euclid(60)
}

/// What is said of an error.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum FlagKind {
    /// It never occurred before in this service and environment.
    New,
    /// There is more of it than its past and the requests explain.
    Surging,
    /// It was settled, and occurs in the version it was settled in or a later one.
    Returned,
}

impl FlagKind {
    /// The kind of a word.
    #[must_use]
    pub fn of(word: &str) -> Option<Self> {
        [Self::New, Self::Surging, Self::Returned]
            .into_iter()
            .find(|kind| kind.word() == word)
    }

    /// Its word.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::New => "new",
            Self::Surging => "surging",
            Self::Returned => "returned",
        }
    }
}

/// A text that is the word of no kind.
#[derive(Debug, PartialEq, Eq, thiserror::Error)]
#[error("`{0}` is no kind of flag; new, surging and returned are")]
pub struct UnknownFlag(String);

impl TryFrom<String> for FlagKind {
    type Error = UnknownFlag;

    fn try_from(word: String) -> Result<Self, UnknownFlag> {
        Self::of(&word).ok_or(UnknownFlag(word))
    }
}

/// A flag.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct FlagLine {
    /// What is said.
    pub flag: FlagKind,
    /// The service.
    pub service: String,
    /// The environment.
    pub environment: String,
    /// The error.
    pub group: String,
    /// The version it is charged to: the one that was deployed, or what was running.
    pub version: String,
    /// The minute whose data was needed to say so.
    #[serde(serialize_with = "as_time")]
    pub at: Minute,
    /// When it began: the deploy, or the beginning of the window that told.
    #[serde(skip)]
    pub since: Minute,
    /// Whether a deploy stands at its beginning.
    #[serde(skip)]
    pub by_deploy: bool,
    /// Occurrences since then.
    #[serde(skip)]
    pub count: u64,
    /// Occurrences to be expected.
    #[serde(skip)]
    pub expected: f64,
    /// How strongly that speaks against an unchanged rate, in nats; 0 for new and returned ones.
    #[serde(skip)]
    pub evidence: f64,
    /// Requests since then, where they are reported.
    #[serde(skip)]
    pub requests: Option<u64>,
}

#[expect(clippy::trivially_copy_pass_by_ref, reason = "serde asks for a reference")]
fn as_time<S: serde::Serializer>(minute: &Minute, serializer: S) -> Result<S::Ok, S::Error> {
    let at = DateTime::<Utc>::from_timestamp(minute * 60, 0).unwrap_or_default();
    serializer.serialize_str(&at.format("%Y-%m-%dT%H:%M:%SZ").to_string())
}
