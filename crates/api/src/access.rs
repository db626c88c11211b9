//! Wire types of members, tokens and sessions.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

/// A token to make.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewToken {
    /// What it is for.
    #[schema(max_length = 200)]
    #[serde(default)]
    pub name: String,
    /// Whether it is a pipeline's: it records and checks deploys, marks changes and does nothing else.
    #[serde(default)]
    pub pipeline: bool,
    /// After how many days it ends; never where not given.
    #[schema(minimum = 1, maximum = 3_650)]
    #[serde(default)]
    pub days: Option<u32>,
}

/// A token that was made.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct MadeToken {
    /// Its number.
    pub id: i32,
    /// The token, in this answer and nowhere else.
    pub token: String,
}

/// A token of one's own.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct TokenItem {
    /// Its number.
    pub id: i32,
    /// What it is for; may be empty.
    pub name: String,
    /// Whether it is a pipeline's.
    pub pipeline: bool,
    /// When it was made.
    pub created_at: DateTime<Utc>,
    /// When it ends by itself.
    pub expires_at: Option<DateTime<Utc>>,
    /// When it was last used, to the minute.
    pub last_used_at: Option<DateTime<Utc>>,
    /// When it was revoked.
    pub revoked_at: Option<DateTime<Utc>>,
}

/// Tokens of one's own.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct TokenList {
    /// Those in use first, then the newest.
    pub items: Vec<TokenItem>,
}

/// A session of one's own.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SessionItem {
    /// Its number.
    pub id: i32,
    /// The browser, as it names itself.
    pub agent: String,
    /// When it began.
    pub created_at: DateTime<Utc>,
    /// When it was last used, to five minutes.
    pub last_used_at: DateTime<Utc>,
    /// When it ends at the latest.
    pub expires_at: DateTime<Utc>,
    /// Whether it is the one that asks.
    pub own: bool,
}

/// Sessions of one's own.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SessionList {
    /// The latest used first.
    pub items: Vec<SessionItem>,
}

/// Which part of the record is asked for.
#[derive(Clone, Debug, Default, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub struct AuditQuery {
    /// Items per page, 1 to 500; 50 where not given.
    pub limit: Option<u32>,
    /// The cursor of a page.
    pub cursor: Option<String>,
}

/// A change of the set-up.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct AuditItem {
    /// When it was made.
    pub at: DateTime<Utc>,
    /// Who made it: a member's address, or who ran the command on the database.
    pub by: String,
    /// What was done: `made sender key`.
    pub did: String,
    /// To what.
    pub subject: String,
}

/// Changes of the set-up.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct AuditPage {
    /// The newest first.
    pub items: Vec<AuditItem>,
    /// The cursor of the next page, if there is one.
    pub next: Option<String>,
}
