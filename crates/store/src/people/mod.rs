//! Members, with their [`tokens`] and [`sessions`], how they [`sign_in`], and the record of what
//! they changed ([`audit`]). Only digests of secrets are stored. Addresses are compared without
//! regard to case.

use chrono::{DateTime, Utc};
use sqlx::FromRow;

use crate::boxed;
use crate::{Database, StoreError};

pub mod allowances;
pub mod audit;
pub mod drops;
pub mod grants;
pub mod installation;
pub mod invitations;
pub mod keys;
pub mod owners;
pub mod preferences;
pub mod scrub_rules;
pub mod service_names;
pub mod sessions;
pub mod settings;
pub mod sign_in;
pub mod teams;
pub mod tokens;
pub mod views;

/// A name that is taken, or that does not exist.
#[derive(Debug, thiserror::Error)]
pub enum AccessError {
    /// Another has this name.
    #[error("`{0}` exists already")]
    Exists(String),
    /// Nobody has this name.
    #[error("there is no `{0}`")]
    Missing(String),
    /// Without this member nobody could manage keys and members.
    #[error("`{0}` is the only admin: make another member admin first")]
    LastAdmin(String),
    /// The database.
    #[error(transparent)]
    Store(#[from] StoreError),
}

impl From<sqlx::Error> for AccessError {
    fn from(error: sqlx::Error) -> Self {
        Self::Store(error.into())
    }
}

/// Who a token belongs to.
#[derive(Clone, Debug, FromRow)]
pub struct Member {
    /// The address they sign in with.
    pub email: String,
    /// `viewer`, `engineer` or `admin`.
    pub role: String,
    /// The services that are closed to them: limited to teams they are not in.
    pub closed: Vec<i32>,
    /// Whether it is a pipeline's token, which records and checks deploys, marks changes and does nothing else.
    pub is_pipeline: bool,
}

/// Somebody found by a secret that was presented, and whether its use is due to be noted.
#[derive(FromRow)]
struct Presented {
    /// The number of what was presented.
    id: i32,
    is_due: bool,
    #[sqlx(flatten)]
    member: Member,
}

impl Presented {
    /// The member; the use of what they presented is noted by a statement on its number, but for a standby's.
    async fn noted(self, database: &Database, statement: &'static str) -> Result<Member, StoreError> {
        if self.is_due && !database.is_read_only {
            sqlx::query(statement).bind(self.id).execute(&database.pool).await?;
        }
        Ok(self.member)
    }
}

/// Adds a member.
///
/// # Errors
/// [`AccessError::Exists`] when the address is taken.
#[boxed]
pub async fn add_member(database: &Database, email: &str, role: &str, password_hash: &str) -> Result<(), AccessError> {
    let statement = "INSERT INTO member (email, role, password_hash) SELECT $1, $2, $3 \
                     WHERE NOT EXISTS (SELECT FROM member WHERE lower(email) = lower($1)) ON CONFLICT (email) DO \
                     NOTHING";
    let done = sqlx::query(statement)
        .bind(email)
        .bind(role)
        .bind(password_hash)
        .execute(&database.pool)
        .await?;
    if done.rows_affected() == 0 {
        Err(AccessError::Exists(email.to_owned()))
    } else {
        Ok(())
    }
}

/// A member as listed.
#[derive(Clone, Debug, FromRow)]
pub struct Listed {
    /// The address they sign in with.
    pub email: String,
    /// `viewer`, `engineer` or `admin`.
    pub role: String,
    /// When they were added.
    pub created_at: DateTime<Utc>,
    /// Tokens of theirs that are in use.
    pub tokens: i64,
    /// Sessions of theirs that are open.
    pub sessions: i64,
    /// When a token or session of theirs was last used; `None` for never.
    pub last_used_at: Option<DateTime<Utc>>,
}

/// All members, by their addresses.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn members(database: &Database) -> Result<Vec<Listed>, StoreError> {
    Ok(sqlx::query_as(
        "SELECT email, role, created_at, t.n AS tokens, s.n AS sessions, greatest(t.last_at, s.last_at) AS \
         last_used_at FROM member \
         CROSS JOIN LATERAL (SELECT count(*) FILTER (WHERE revoked_at IS NULL AND (expires_at IS NULL OR expires_at > \
         now())) AS n, max(last_used_at) AS last_at \
             FROM token WHERE member_id = member.id) t \
         CROSS JOIN LATERAL (SELECT count(*) AS n, max(last_used_at) AS last_at FROM session WHERE member_id = \
         member.id AND expires_at > now()) s \
         ORDER BY lower(email)",
    )
    .fetch_all(&database.pool)
    .await?)
}

/// Gives a member another role; it holds from the next request on.
///
/// # Errors
/// [`AccessError::Missing`] when there is no such member; [`AccessError::LastAdmin`] where nobody
/// would be left to manage.
#[boxed]
pub async fn set_role(database: &Database, email: &str, role: &str) -> Result<(), AccessError> {
    let mut transaction = database.pool.begin().await?;
    let (id, is_last) = locked(&mut transaction, email).await?;
    if is_last && role != "admin" {
        return Err(AccessError::LastAdmin(email.to_owned()));
    }
    sqlx::query("UPDATE member SET role = $2 WHERE id = $1")
        .bind(id)
        .bind(role)
        .execute(&mut *transaction)
        .await?;
    transaction.commit().await?;
    Ok(())
}

/// Removes a member with their tokens, grants and sessions; what they did stays under their address.
///
/// # Errors
/// [`AccessError::Missing`] when there is no such member; [`AccessError::LastAdmin`] where nobody
/// would be left to manage.
#[boxed]
pub async fn remove(database: &Database, email: &str) -> Result<(), AccessError> {
    let mut transaction = database.pool.begin().await?;
    let (id, is_last) = locked(&mut transaction, email).await?;
    if is_last {
        return Err(AccessError::LastAdmin(email.to_owned()));
    }
    for statement in [
        "DELETE FROM token WHERE member_id = $1",
        "DELETE FROM oauth_grant WHERE member_id = $1",
        "DELETE FROM session WHERE member_id = $1",
        "DELETE FROM member WHERE id = $1",
    ] {
        sqlx::query(statement).bind(id).execute(&mut *transaction).await?;
    }
    transaction.commit().await?;
    Ok(())
}

/// Ends all sessions of a member, and revokes all their tokens and what they allowed programs.
///
/// # Errors
/// [`AccessError::Missing`] when there is no such member.
#[boxed]
pub async fn end_all_of(database: &Database, email: &str) -> Result<(), AccessError> {
    let mut transaction = database.pool.begin().await?;
    let (id, _) = locked(&mut transaction, email).await?;
    for statement in [
        "UPDATE token SET revoked_at = now() WHERE member_id = $1 AND revoked_at IS NULL",
        "DELETE FROM oauth_grant WHERE member_id = $1",
        "DELETE FROM session WHERE member_id = $1",
    ] {
        sqlx::query(statement).bind(id).execute(&mut *transaction).await?;
    }
    transaction.commit().await?;
    Ok(())
}

/// A member's number, and whether they are the only admin: held until the end of the transaction,
/// so that two admins cannot remove each other.
async fn locked(connection: &mut sqlx::PgConnection, email: &str) -> Result<(i32, bool), AccessError> {
    let admins: Vec<(i32,)> = sqlx::query_as("SELECT id FROM member WHERE role = 'admin' ORDER BY id FOR UPDATE")
        .fetch_all(&mut *connection)
        .await?;
    let found: Option<(i32,)> = sqlx::query_as("SELECT id FROM member WHERE lower(email) = lower($1) FOR UPDATE")
        .bind(email)
        .fetch_optional(connection)
        .await?;
    let (id,) = found.ok_or_else(|| AccessError::Missing(email.to_owned()))?;
    Ok((id, admins == [(id,)]))
}

/// What ends with an old password beside a member's sessions.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Tokens {
    /// Their tokens stay.
    Stay,
    /// Their tokens are revoked, and what they allowed programs ends.
    End,
}

/// Sets a member's password; all their sessions end, but for one that is given.
///
/// # Errors
/// [`AccessError::Missing`] when there is no such member.
#[boxed]
pub async fn set_password(
    database: &Database,
    email: &str,
    password_hash: &str,
    keep: Option<outcrop_core::Digest>,
    tokens: Tokens,
) -> Result<(), AccessError> {
    let done: (i64,) = sqlx::query_as(
        "WITH changed AS (UPDATE member SET password_hash = $2 WHERE lower(email) = lower($1) RETURNING id), \
             ended AS (DELETE FROM session USING changed WHERE session.member_id = changed.id AND session.digest IS \
             DISTINCT FROM $3), \
             revoked AS (UPDATE token SET revoked_at = now() FROM changed WHERE token.member_id = changed.id AND \
             revoked_at IS NULL AND $4), \
             shut_out AS (DELETE FROM oauth_grant USING changed WHERE oauth_grant.member_id = changed.id AND $4) \
         SELECT count(*) FROM changed",
    )
    .bind(email)
    .bind(password_hash)
    .bind(keep.map(crate::ids::uuid))
    .bind(tokens == Tokens::End)
    .fetch_one(&database.pool)
    .await
    .map_err(StoreError::from)?;
    if done.0 == 0 {
        Err(AccessError::Missing(email.to_owned()))
    } else {
        Ok(())
    }
}
