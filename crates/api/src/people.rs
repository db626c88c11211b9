//! Wire types of members, invitations and teams.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What a member may do: each may what those before may.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum MemberRole {
    /// Reads.
    Viewer,
    /// Also takes, settles, quiets, groups, marks.
    Engineer,
    /// Also has people, keys and what is discarded in hand.
    Admin,
}

impl MemberRole {
    /// The word.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Viewer => "viewer",
            Self::Engineer => "engineer",
            Self::Admin => "admin",
        }
    }
}

/// A member as others see them.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct MemberItem {
    /// The address they sign in with.
    pub email: String,
    /// `viewer`, `engineer` or `admin`.
    pub role: String,
    /// The teams they are in.
    pub teams: Vec<String>,
    /// When they were added.
    pub created_at: DateTime<Utc>,
    /// When they last used a session or token; for admins alone.
    pub last_used_at: Option<DateTime<Utc>>,
    /// Their open sessions; for admins alone.
    pub sessions: Option<i64>,
    /// Their tokens in use; for admins alone.
    pub tokens: Option<i64>,
}

/// All members.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct MemberList {
    /// By their addresses.
    pub items: Vec<MemberItem>,
}

/// Another role for a member.
#[derive(Clone, Copy, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewRole {
    /// The role.
    pub role: MemberRole,
}

/// Whom to invite.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewInvitation {
    /// The address they will sign in with.
    #[schema(min_length = 3, max_length = 320)]
    pub email: String,
    /// The role they will have.
    pub role: MemberRole,
    /// The teams they will be in.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    #[schema(max_items = 50)]
    pub teams: Vec<String>,
    /// After how many days the link expires; 7 where not given.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(minimum = 1, maximum = 30)]
    pub days: Option<u32>,
}

/// An invitation that was made.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct MadeInvitation {
    /// The address of the page where they choose a password, in this answer and nowhere else. Its secret stands behind the
    /// `#`, which no browser sends to a server. Without a public address of the installation it begins with `/`.
    pub link: String,
    /// Until when it is good.
    pub expires_at: DateTime<Utc>,
}

/// Somebody who was invited and has not come yet.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct InvitationItem {
    /// Its number.
    pub id: i32,
    /// The address they will sign in with.
    pub email: String,
    /// The role they will have.
    pub role: String,
    /// The teams they will be in.
    pub teams: Vec<String>,
    /// Who invited them.
    pub by: String,
    /// When.
    pub at: DateTime<Utc>,
    /// Until when the link is good.
    pub expires_at: DateTime<Utc>,
}

/// Who was invited and has not come yet.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct InvitationList {
    /// The newest first.
    pub items: Vec<InvitationItem>,
}

/// The secret of an invitation's link.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct InvitationSecret {
    /// What stands behind the `#`.
    #[schema(max_length = 200)]
    pub secret: String,
}

/// What an invitation is good for.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Invited {
    /// The address to sign in with.
    pub email: String,
    /// The role.
    pub role: String,
    /// The teams.
    pub teams: Vec<String>,
    /// Who invited.
    pub by: String,
    /// Until when the link is good.
    pub expires_at: DateTime<Utc>,
}

/// How an invitation is accepted.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Acceptance {
    /// What stands behind the `#` of the link.
    #[schema(max_length = 200)]
    pub secret: String,
    /// The password to sign in with.
    #[schema(min_length = 10, max_length = 1_000)]
    pub password: String,
}

/// A team to make.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewTeam {
    /// Its name.
    #[schema(min_length = 1, max_length = 100)]
    pub name: String,
}

/// Who is in a team and what it owns, said anew; what is not given stays.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct TeamChange {
    /// Addresses of all its members.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(max_items = 500)]
    pub members: Option<Vec<String>>,
    /// All services it owns.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(max_items = 500)]
    pub services: Option<Vec<String>>,
}

/// A team.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct TeamItem {
    /// Its name.
    pub name: String,
    /// Addresses of its members.
    pub members: Vec<String>,
    /// The services it owns, as far as whoever asks may read them.
    pub services: Vec<String>,
}

/// All teams.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct TeamList {
    /// By name.
    pub items: Vec<TeamItem>,
    /// Services that only their teams and admins may read, as far as whoever asks may.
    pub limited: Vec<String>,
}

/// Whether only its teams may read a service.
#[derive(Clone, Copy, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ServiceLimit {
    /// Whether only its teams and admins may.
    pub limited: bool,
}
