//! Members, their tokens, and the keys that senders authenticate with. Only digests of secrets are stored.

use chrono::{DateTime, Utc};
use outcrop_core::Digest;
use sqlx::FromRow;

use crate::{Database, StoreError, uuid};

/// A name that is taken, or that does not exist.
#[derive(Debug, thiserror::Error)]
pub enum AccessError {
    /// Another has this name.
    #[error("`{0}` exists already")]
    Exists(String),
    /// Nobody has this name.
    #[error("there is no `{0}`")]
    Missing(String),
    /// The database.
    #[error(transparent)]
    Store(#[from] StoreError),
}

/// Who a token belongs to.
#[derive(Clone, Debug, FromRow)]
pub struct Member {
    /// The address they sign in with.
    pub email: String,
    /// `viewer`, `engineer` or `admin`.
    pub role: String,
}

/// A sender key, without its secret.
#[derive(Clone, Debug, FromRow)]
pub struct SenderKey {
    /// Its number.
    pub id: i32,
    /// Its name.
    pub name: String,
    /// The services it may write for; empty for all.
    pub services: Vec<String>,
    /// When it was made.
    pub created_at: DateTime<Utc>,
    /// When it was last used, to the minute.
    pub last_used_at: Option<DateTime<Utc>>,
    /// When it was revoked.
    pub revoked_at: Option<DateTime<Utc>>,
}

/// Adds a member.
///
/// # Errors
/// [`AccessError::Exists`] when the address is taken.
pub async fn add_member(database: &Database, email: &str, role: &str, password_hash: &str) -> Result<(), AccessError> {
    let done = sqlx::query("INSERT INTO member (email, role, password_hash) VALUES ($1, $2, $3) ON CONFLICT (email) DO NOTHING")
        .bind(email)
        .bind(role)
        .bind(password_hash)
        .execute(&database.pool)
        .await
        .map_err(StoreError::from)?;
    if done.rows_affected() == 0 { Err(AccessError::Exists(email.to_owned())) } else { Ok(()) }
}

/// Gives a member one more token.
///
/// # Errors
/// [`AccessError::Missing`] when there is no such member.
pub async fn add_token(database: &Database, email: &str, digest: Digest) -> Result<(), AccessError> {
    let done = sqlx::query("INSERT INTO token (member_id, digest) SELECT id, $2 FROM member WHERE email = $1")
        .bind(email)
        .bind(uuid(digest))
        .execute(&database.pool)
        .await
        .map_err(StoreError::from)?;
    if done.rows_affected() == 0 { Err(AccessError::Missing(email.to_owned())) } else { Ok(()) }
}

/// Finds whose token it is.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
pub async fn member_of_token(database: &Database, digest: Digest) -> Result<Option<Member>, StoreError> {
    let member = sqlx::query_as(
        "SELECT member.email, member.role FROM token JOIN member ON member.id = token.member_id WHERE token.digest = $1 AND token.revoked_at IS NULL",
    )
    .bind(uuid(digest))
    .fetch_optional(&database.pool)
    .await?;
    Ok(member)
}

/// Adds a sender key.
///
/// # Errors
/// [`AccessError::Exists`] when the name is taken, also by a revoked key: its history stays readable.
pub async fn add_key(database: &Database, name: &str, services: &[String], digest: Digest) -> Result<(), AccessError> {
    let done = sqlx::query("INSERT INTO sender_key (name, services, digest) VALUES ($1, $2, $3) ON CONFLICT (name) DO NOTHING")
        .bind(name)
        .bind(services)
        .bind(uuid(digest))
        .execute(&database.pool)
        .await
        .map_err(StoreError::from)?;
    if done.rows_affected() == 0 { Err(AccessError::Exists(name.to_owned())) } else { Ok(()) }
}

/// Revokes a sender key; it stays in the list.
///
/// # Errors
/// [`AccessError::Missing`] when there is no such key, or it was revoked before.
pub async fn revoke_key(database: &Database, name: &str) -> Result<(), AccessError> {
    let done = sqlx::query("UPDATE sender_key SET revoked_at = now() WHERE name = $1 AND revoked_at IS NULL")
        .bind(name)
        .execute(&database.pool)
        .await
        .map_err(StoreError::from)?;
    if done.rows_affected() == 0 { Err(AccessError::Missing(name.to_owned())) } else { Ok(()) }
}

const KEY_COLUMNS: &str = "SELECT id, name, services, created_at, last_used_at, revoked_at FROM sender_key";

/// Lists all sender keys by name.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
pub async fn keys(database: &Database) -> Result<Vec<SenderKey>, StoreError> {
    Ok(sqlx::query_as(sqlx::AssertSqlSafe(format!("{KEY_COLUMNS} ORDER BY name"))).fetch_all(&database.pool).await?)
}

/// Finds a key that is not revoked by the digest of its secret, and notes its use at most once a minute.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
pub async fn key_of_secret(database: &Database, digest: Digest) -> Result<Option<SenderKey>, StoreError> {
    let statement = format!("{KEY_COLUMNS} WHERE digest = $1 AND revoked_at IS NULL");
    let key: Option<SenderKey> = sqlx::query_as(sqlx::AssertSqlSafe(statement)).bind(uuid(digest)).fetch_optional(&database.pool).await?;
    if let Some(key) = &key {
        sqlx::query("UPDATE sender_key SET last_used_at = now() WHERE id = $1 AND (last_used_at IS NULL OR last_used_at < now() - interval '1 minute')")
            .bind(key.id)
            .execute(&database.pool)
            .await?;
    }
    Ok(key)
}
