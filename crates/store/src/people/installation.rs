//! What holds for the installation as a whole.

use crate::boxed;
use crate::{Database, StoreError};

/// Makes the database the demo's, where it is that already or holds nothing yet. One that an
/// earlier release's demo made is known by its only member and the names of its keys. Returns
/// whether it is the demo's now.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn become_demo(database: &Database, member: &str) -> Result<bool, StoreError> {
    let done = sqlx::query(
        "UPDATE installation SET is_demo = true WHERE is_demo OR NOT EXISTS (SELECT FROM member WHERE email <> $1) \
         AND NOT EXISTS (SELECT FROM sender_key WHERE name NOT LIKE 'Skerry Line, %') \
         AND (NOT EXISTS (SELECT FROM service) OR EXISTS (SELECT FROM member WHERE email = $1) AND EXISTS (SELECT \
         FROM sender_key))",
    )
    .bind(member)
    .execute(&database.pool)
    .await?;
    Ok(done.rows_affected() > 0)
}

/// The key that signs the links of notices, the same on all instances.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn link_key(database: &Database) -> Result<Vec<u8>, StoreError> {
    Ok(sqlx::query_scalar("SELECT link_key FROM installation")
        .fetch_one(&database.pool)
        .await?)
}

#[cfg(test)]
mod tests {
    use outcrop_core::Digest;

    use super::*;
    use crate::people::add_member;
    use crate::people::keys;
    use crate::people::keys::Bounds;
    use crate::testing::{database, now, of, resource, span, spans, store, trace, writer};

    const PURSER: &str = "purser@skerry.example";

    async fn is_demo(database: &Database) -> bool {
        become_demo(database, PURSER).await.unwrap()
    }

    #[tokio::test]
    async fn an_empty_database_becomes_the_demos_and_stays_it() {
        let database = database().await;
        assert!(is_demo(&database).await);
        add_member(&database, "bosun@skerry.example", "viewer", "hash")
            .await
            .unwrap();
        store(
            &writer(&database),
            &[spans(
                vec![of(resource("fares"), vec![span(trace(1), 1, None, now())])],
                now(),
            )],
        )
        .await;
        assert!(is_demo(&database).await);
    }

    #[tokio::test]
    async fn each_installation_signs_links_with_a_key_of_its_own() {
        let (one, other) = (database().await, database().await);
        let key = link_key(&one).await.unwrap();
        assert_eq!((key.len(), &key), (32, &link_key(&one).await.unwrap()));
        assert_ne!(key, link_key(&other).await.unwrap());
    }

    #[tokio::test]
    async fn a_database_with_members_keys_or_telemetry_is_left_alone() {
        let members = database().await;
        add_member(&members, "harbour@skerry.example", "admin", "hash")
            .await
            .unwrap();
        assert!(!is_demo(&members).await);
        let keys = database().await;
        keys::add(&keys, "pier-3", &Bounds::default(), Digest::of(["a", "key"]))
            .await
            .unwrap();
        assert!(!is_demo(&keys).await);
        let telemetry = database().await;
        store(
            &writer(&telemetry),
            &[spans(
                vec![of(resource("fares"), vec![span(trace(1), 1, None, now())])],
                now(),
            )],
        )
        .await;
        assert!(!is_demo(&telemetry).await);
        // As an earlier release's demo left it.
        add_member(&telemetry, PURSER, "admin", "hash").await.unwrap();
        keys::add(
            &telemetry,
            "Skerry Line, 2026-11-28 07:00:00.000",
            &Bounds::default(),
            Digest::of(["another", "key"]),
        )
        .await
        .unwrap();
        assert!(is_demo(&telemetry).await);
    }
}
