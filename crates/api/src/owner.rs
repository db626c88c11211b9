//! Wire types of who owns what.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A rule to make: what is owned, and by whom. What it names must all fit; one that names nothing is of what nobody else
/// owns.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NewOwnerRule {
    /// A team's name, or a member's address.
    #[schema(min_length = 1, max_length = 320)]
    pub owner: String,
    /// A service.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(max_length = 400)]
    pub service: Option<String>,
    /// A namespace.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(max_length = 200)]
    pub namespace: Option<String>,
    /// A pattern of paths in the repository, as CODEOWNERS has them: `app/tariff/**`. Held against the innermost own frame.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(max_length = 500)]
    pub path: Option<String>,
    /// A predicate: `status = 503`.
    #[serde(default, rename = "where", skip_serializing_if = "Option::is_none")]
    #[schema(max_length = 2_000)]
    pub predicate: Option<String>,
    /// Whether new errors go to the owner by themselves.
    #[serde(default)]
    pub hand_over: bool,
    /// Whether new errors get a ticket by themselves, as an admin set it up.
    #[serde(default)]
    pub make_ticket: bool,
}

/// A rule that says who owns what.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct OwnerRuleItem {
    /// Its number.
    pub id: i32,
    /// The rule, as it was made.
    pub rule: NewOwnerRule,
    /// What it is about, in words.
    pub about: String,
    /// Who made it.
    pub by: String,
    /// When.
    pub at: DateTime<Utc>,
}

/// Who owns a service, and what of it nobody does.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ServiceOwner {
    /// The service.
    pub service: String,
    /// Who owns it; `null` for nobody.
    pub owner: Option<String>,
    /// Why, in words: `owns fares`.
    pub because: Option<String>,
    /// Errors of it in the last 24 hours.
    pub errors: usize,
    /// References of those that nobody owns and nobody took, those with the most occurrences first; 20 at most.
    pub ownerless: Vec<String>,
}

/// Rules, and what they come to.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct OwnerList {
    /// The rules, the latest first.
    pub rules: Vec<OwnerRuleItem>,
    /// Services: those with errors that nobody owns first, then those that nobody owns, then by name.
    pub services: Vec<ServiceOwner>,
}

/// To whom an error may be handed, and why.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct HandOver {
    /// A team, a member, or a commit's author.
    pub to: String,
    /// Why, in words: `owns fares`, `changed 3 lines away in 2.4.0`.
    pub because: String,
}
