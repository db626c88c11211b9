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
