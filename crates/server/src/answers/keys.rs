//! Sender keys as the API tells them.

use outcrop_api::KeyItem;
use outcrop_store::people::keys;

/// A key and its use, without its secret.
#[must_use]
pub fn key_item(row: keys::KeyInUse) -> KeyItem {
    KeyItem {
        name: row.key.name,
        services: row.key.bounds.services,
        environments: row.key.bounds.environments,
        bytes_per_minute: row.key.bounds.bytes_per_minute,
        created_at: row.key.created_at,
        last_used_at: row.key.last_used_at,
        previous_until: row.key.previous_until,
        revoked_at: row.key.revoked_at,
        requests_24h: row.requests,
        bytes_24h: row.bytes,
        refused_24h: row.refused,
    }
}
