//! Members, their tokens and sessions. Only digests of secrets are stored.

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
    /// Whether it is a pipeline's token, which records and checks deploys, marks changes and does nothing else.
    pub is_pipeline: bool,
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

/// Gives a member one more token; a pipeline's records and checks deploys, marks changes and does nothing else.
///
/// # Errors
/// [`AccessError::Missing`] when there is no such member.
pub async fn add_token(database: &Database, email: &str, digest: Digest, is_pipeline: bool) -> Result<(), AccessError> {
    let done = sqlx::query("INSERT INTO token (member_id, digest, scope) SELECT id, $2, $3 FROM member WHERE email = $1")
        .bind(email)
        .bind(uuid(digest))
        .bind(if is_pipeline { "deploys" } else { "member" })
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
        "SELECT member.email, member.role, token.scope = 'deploys' AS is_pipeline FROM token JOIN member ON member.id = token.member_id \
         WHERE token.digest = $1 AND token.revoked_at IS NULL",
    )
    .bind(uuid(digest))
    .fetch_optional(&database.pool)
    .await?;
    Ok(member)
}

/// How long a session lasts, in days.
pub const SESSION_DAYS: i32 = 14;

/// What signing in needs to know of a member.
#[derive(Clone, Debug, FromRow)]
pub struct Credentials {
    /// The member's number.
    pub id: i32,
    /// What the password is checked against.
    pub password_hash: String,
}

/// Finds what a member signs in with.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
pub async fn credentials(database: &Database, email: &str) -> Result<Option<Credentials>, StoreError> {
    Ok(sqlx::query_as("SELECT id, password_hash FROM member WHERE email = $1").bind(email).fetch_optional(&database.pool).await?)
}

/// Begins a session and forgets failed attempts.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
pub async fn begin_session(database: &Database, member: i32, digest: Digest, attempt: Digest) -> Result<(), StoreError> {
    sqlx::query(
        "WITH forgotten AS (DELETE FROM sign_in_failure WHERE key = $4), expired AS (DELETE FROM session WHERE expires_at < now()) \
         INSERT INTO session (digest, member_id, expires_at) VALUES ($1, $2, now() + make_interval(days => $3))",
    )
    .bind(uuid(digest))
    .bind(member)
    .bind(SESSION_DAYS)
    .bind(uuid(attempt))
    .execute(&database.pool)
    .await?;
    Ok(())
}

/// Ends a session.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
pub async fn end_session(database: &Database, digest: Digest) -> Result<(), StoreError> {
    sqlx::query("DELETE FROM session WHERE digest = $1").bind(uuid(digest)).execute(&database.pool).await?;
    Ok(())
}

/// Finds whose session it is.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
pub async fn member_of_session(database: &Database, digest: Digest) -> Result<Option<Member>, StoreError> {
    let member = sqlx::query_as(
        "SELECT member.email, member.role, false AS is_pipeline FROM session JOIN member ON member.id = session.member_id WHERE session.digest = $1 AND session.expires_at > now()",
    )
    .bind(uuid(digest))
    .fetch_optional(&database.pool)
    .await?;
    Ok(member)
}

/// Seconds until the next attempt to sign in is looked at: 2, 4, 8, … up to 60 after the third failure in a row.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
pub async fn sign_in_wait(database: &Database, attempt: Digest) -> Result<i64, StoreError> {
    let wait: Option<(i64,)> = sqlx::query_as(
        "SELECT GREATEST(0, ceil(extract(epoch FROM last_at + make_interval(secs => LEAST(60, 2 ^ LEAST(n - 2, 6))) - now())))::bigint \
         FROM sign_in_failure WHERE key = $1 AND n >= 3",
    )
    .bind(uuid(attempt))
    .fetch_optional(&database.pool)
    .await?;
    Ok(wait.map_or(0, |(seconds,)| seconds))
}

/// Notes a failed attempt to sign in; one after an hour of quiet counts as the first.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
pub async fn note_failed_sign_in(database: &Database, attempt: Digest) -> Result<(), StoreError> {
    sqlx::query(
        "INSERT INTO sign_in_failure AS f (key, n, last_at) VALUES ($1, 1, now()) \
         ON CONFLICT (key) DO UPDATE SET last_at = now(), n = CASE WHEN f.last_at < now() - interval '1 hour' THEN 1 ELSE f.n + 1 END",
    )
    .bind(uuid(attempt))
    .execute(&database.pool)
    .await?;
    Ok(())
}

/// Sets a member's password; all sessions but the given one end.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
pub async fn set_password(database: &Database, email: &str, password_hash: &str, keep: Digest) -> Result<(), StoreError> {
    sqlx::query(
        "WITH changed AS (UPDATE member SET password_hash = $2 WHERE email = $1 RETURNING id) \
         DELETE FROM session USING changed WHERE session.member_id = changed.id AND session.digest <> $3",
    )
    .bind(email)
    .bind(password_hash)
    .bind(uuid(keep))
    .execute(&database.pool)
    .await?;
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::{database, number};

    fn secret(text: &str) -> Digest {
        Digest::of(["secret", text])
    }

    #[tokio::test]
    async fn a_session_ends_by_sign_out_by_time_and_by_a_new_password_elsewhere() {
        let database = database().await;
        add_member(&database, "purser@skerry.example", "engineer", "hash").await.unwrap();
        assert!(matches!(add_member(&database, "purser@skerry.example", "viewer", "other").await, Err(AccessError::Exists(_))));
        let member = credentials(&database, "purser@skerry.example").await.unwrap().unwrap();
        assert!(credentials(&database, "nobody@skerry.example").await.unwrap().is_none());
        let who = async |session: &str| member_of_session(&database, secret(session)).await.unwrap().map(|member| member.role);
        for session in ["on the bridge", "in the office", "at home"] {
            begin_session(&database, member.id, secret(session), secret("attempt")).await.unwrap();
            assert_eq!(who(session).await.as_deref(), Some("engineer"));
        }
        end_session(&database, secret("at home")).await.unwrap();
        assert_eq!(who("at home").await, None);
        set_password(&database, "purser@skerry.example", "new hash", secret("on the bridge")).await.unwrap();
        assert_eq!((who("in the office").await, who("on the bridge").await.as_deref()), (None, Some("engineer")));
        sqlx::query("UPDATE session SET expires_at = now() - interval '1 second'").execute(&database.pool).await.unwrap();
        assert_eq!(who("on the bridge").await, None);
        // The next sign-in clears away what has expired.
        begin_session(&database, member.id, secret("again"), secret("attempt")).await.unwrap();
        assert_eq!(number(&database, "SELECT count(*) FROM session").await, 1);
    }

    #[tokio::test]
    async fn guesses_wait_ever_longer_and_are_forgotten_by_success_or_an_hour_of_quiet() {
        let database = database().await;
        add_member(&database, "purser@skerry.example", "engineer", "hash").await.unwrap();
        let member = credentials(&database, "purser@skerry.example").await.unwrap().unwrap();
        let attempt = secret("purser@skerry.example");
        let mut waits = vec![];
        for _ in 0..10 {
            note_failed_sign_in(&database, attempt).await.unwrap();
            waits.push(sign_in_wait(&database, attempt).await.unwrap());
        }
        assert_eq!(waits, [0, 0, 2, 4, 8, 16, 32, 60, 60, 60]);
        assert_eq!(sign_in_wait(&database, secret("another")).await.unwrap(), 0, "others are not held up");
        sqlx::query("UPDATE sign_in_failure SET last_at = now() - interval '61 minutes'").execute(&database.pool).await.unwrap();
        note_failed_sign_in(&database, attempt).await.unwrap();
        assert_eq!(sign_in_wait(&database, attempt).await.unwrap(), 0, "it counts as the first");
        begin_session(&database, member.id, secret("session"), attempt).await.unwrap();
        assert_eq!(number(&database, "SELECT count(*) FROM sign_in_failure").await, 0);
    }

    #[tokio::test]
    async fn a_token_is_its_members_and_a_pipelines_is_good_for_deploys_alone() {
        let database = database().await;
        add_member(&database, "purser@skerry.example", "viewer", "hash").await.unwrap();
        add_token(&database, "purser@skerry.example", secret("own"), false).await.unwrap();
        add_token(&database, "purser@skerry.example", secret("pipeline"), true).await.unwrap();
        assert!(matches!(add_token(&database, "nobody@skerry.example", secret("none"), false).await, Err(AccessError::Missing(_))));
        let of =
            async |token: &str| member_of_token(&database, secret(token)).await.unwrap().map(|member| (member.role, member.is_pipeline));
        assert_eq!(of("own").await, Some(("viewer".to_owned(), false)));
        assert_eq!(of("pipeline").await, Some(("viewer".to_owned(), true)));
        assert_eq!(of("guess").await, None);
        sqlx::query("UPDATE token SET revoked_at = now()").execute(&database.pool).await.unwrap();
        assert_eq!((of("own").await, of("pipeline").await), (None, None));
    }
}
