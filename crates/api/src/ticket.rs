//! Wire types of tickets in another program.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use serde_json::Value;
use utoipa::ToSchema;

/// A header of a request.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Header {
    /// Its name.
    #[schema(max_length = 200)]
    pub name: String,
    /// Its value. `{secret}` stands for the secret.
    #[schema(max_length = 2_000)]
    pub value: String,
}

/// How a ticket is made in another program, and how its state is read there.
///
/// Places for facts stand in braces: `{ref}`, `{title}`, `{sentence}`, `{service}`, `{environments}`, `{version}`, `{frames}`,
/// `{evidence}`, `{counts}`, `{link}`.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Tracker {
    /// `POST` or `PUT`.
    #[serde(default = "post")]
    #[schema(max_length = 10)]
    pub method: String,
    /// Where a ticket is made. Its host must be one that the installation sends to.
    #[schema(max_length = 2_000)]
    pub address: String,
    /// Headers beside `Content-Type: application/json`.
    #[serde(default)]
    #[schema(max_items = 20)]
    pub headers: Vec<Header>,
    /// What is sent: a JSON document with places for facts in its texts.
    pub body: Value,
    /// The name of the secret: `tracker` is read from `OUTCROP_SECRET_TRACKER`, or from the service manager's credential
    /// `tracker`. It is never kept in the database.
    #[serde(default)]
    #[schema(max_length = 64)]
    pub secret: Option<String>,
    /// Where the ticket's id stands in the answer, by a JSON pointer: `/id`.
    #[schema(max_length = 200)]
    pub id: String,
    /// Where its address stands in the answer, by a JSON pointer; or an address with the place `{id}`.
    #[schema(max_length = 2_000)]
    pub link: String,
    /// Where its state is read: an address with the place `{id}`. Not read where not given.
    #[serde(default)]
    #[schema(max_length = 2_000)]
    pub state_address: Option<String>,
    /// Where the state stands in that answer, by a JSON pointer: `/state`.
    #[serde(default)]
    #[schema(max_length = 200)]
    pub state: Option<String>,
}

fn post() -> String {
    "POST".to_owned()
}

/// How tickets are made, where it is set.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct TrackerSetting {
    /// For admins: all of it.
    pub tracker: Option<Tracker>,
    /// Whether tickets can be made.
    pub is_set: bool,
    /// Hosts that the installation sends to.
    pub hosts: Vec<String>,
}

/// What would be sent for an error, to see before it is.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct TrackerTrial {
    /// The setting to try.
    pub tracker: Tracker,
    /// The error, by its reference.
    #[serde(rename = "ref")]
    pub reference: String,
}

/// A request as it would be sent.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct TriedRequest {
    /// Its method.
    pub method: String,
    /// Its address.
    pub address: String,
    /// Its headers, without the secret.
    pub headers: Vec<Header>,
    /// Its body.
    pub body: Value,
}

/// A ticket to link.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct TicketLink {
    /// Its address, http or https.
    #[schema(max_length = 2_000)]
    pub link: String,
}

/// The ticket of an error.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct TicketItem {
    /// What the other program calls it; empty of one that was linked by its address.
    pub id: String,
    /// Its address.
    pub link: String,
    /// Its state there, as it was last read.
    pub state: Option<String>,
    /// Who made or linked it.
    pub by: String,
    /// When.
    pub at: DateTime<Utc>,
    /// When its state was last read.
    pub looked_at: DateTime<Utc>,
}
