//! How members want pages to be.

use crate::{Database, StoreError, boxed};

/// What a member prefers, as it was saved; empty where nothing was, or there is no such member.
#[boxed]
pub async fn read(database: &Database, email: &str) -> Result<serde_json::Value, StoreError> {
    let saved: Option<serde_json::Value> = sqlx::query_scalar("SELECT preferences FROM member WHERE email = $1")
        .bind(email)
        .fetch_optional(&database.pool)
        .await?;
    Ok(saved.unwrap_or_default())
}

/// Saves what a member prefers, in place of all that was saved before.
#[boxed]
pub async fn save(database: &Database, email: &str, preferences: &serde_json::Value) -> Result<(), StoreError> {
    sqlx::query("UPDATE member SET preferences = $2 WHERE email = $1")
        .bind(email)
        .bind(preferences)
        .execute(&database.pool)
        .await?;
    Ok(())
}

#[cfg(test)]
mod tests {
    use serde_json::{Value, json};

    use super::*;
    use crate::people::add_member;
    use crate::testing::database;

    #[tokio::test]
    async fn each_member_has_their_own() {
        let database = database().await;
        for email in ["purser@skerry.example", "mate@skerry.example"] {
            add_member(&database, email, "viewer", "a hash").await.unwrap();
        }
        assert_eq!(read(&database, "purser@skerry.example").await.unwrap(), json!({}));
        let dark = json!({"theme": "dark"});
        save(&database, "purser@skerry.example", &dark).await.unwrap();
        assert_eq!(read(&database, "purser@skerry.example").await.unwrap(), dark);
        assert_eq!(read(&database, "mate@skerry.example").await.unwrap(), json!({}));
        assert_eq!(read(&database, "nobody@skerry.example").await.unwrap(), Value::Null);
    }
}
