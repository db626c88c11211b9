//! Signing in, and who is signed in.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

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

/// How times are shown.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Times {
    /// In UTC, as logs and the command line have them.
    #[default]
    Utc,
    /// In the time zone of the browser.
    Local,
}

/// The colours of pages.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Theme {
    /// As the browser's system has it.
    #[default]
    System,
    /// Always light.
    Light,
    /// Always dark.
    Dark,
}

/// How a member wants pages to be.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Preferences {
    /// How times are shown.
    #[serde(default)]
    pub times: Times,
    /// The colours.
    #[serde(default)]
    pub theme: Theme,
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
