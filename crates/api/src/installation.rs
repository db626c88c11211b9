//! Wire types of how the installation is.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What was found about one thing.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct FindingItem {
    /// `wrong`: something fails or can be lost; `look`: it works, and is worth a look; `fine`.
    pub level: String,
    /// What it is about, in words.
    pub about: String,
    /// What is so.
    pub says: String,
    /// What to do about it; null where nothing is to be done.
    pub todo: Option<String>,
}

/// How the installation is.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct Installation {
    /// The release of the service that answers.
    pub version: String,
    /// What was found, the worst first.
    pub findings: Vec<FindingItem>,
}
