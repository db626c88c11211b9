//! Wire types of what members allow programs (OAuth 2.1).

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

/// What a program asks a member for.
#[derive(Clone, Debug, Serialize, Deserialize, IntoParams)]
#[serde(deny_unknown_fields)]
#[into_params(parameter_in = Query)]
pub struct ConsentQuery {
    /// The query string of the authorization request, as the program made it.
    #[param(max_length = 4_000)]
    pub request: String,
}

/// A program that asks a member to be let in.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ConsentAsked {
    /// What it calls itself; nobody has checked that.
    pub client: String,
    /// Where it is sent back to: `http://127.0.0.1:33418`, or `skerry-editor:` for a program on the same machine.
    pub back_to: String,
    /// Who is asked.
    pub email: String,
    /// What they may do: `viewer`, `engineer` or `admin`.
    pub role: String,
}

/// What a member answers to a program.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Consent {
    /// The query string of the authorization request.
    #[schema(max_length = 4_000)]
    pub request: String,
    /// Whether it is let in.
    pub allow: bool,
}

/// Where a member's browser goes next.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct SentBack {
    /// The program's own address, with its code or with what went wrong.
    pub location: String,
}

/// A program that one lets act in one's name.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct GrantItem {
    /// Its number.
    pub id: i32,
    /// What the program calls itself.
    pub client: String,
    /// Since when.
    pub given_at: DateTime<Utc>,
    /// When it was last used, to the minute.
    pub last_used_at: Option<DateTime<Utc>>,
    /// When it ends unless it is used before.
    pub expires_at: DateTime<Utc>,
}

/// Programs that one lets act in one's name.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct GrantList {
    /// The newest first.
    pub items: Vec<GrantItem>,
}
