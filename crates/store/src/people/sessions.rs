//! Sessions of members who signed in by password.

use chrono::{DateTime, Utc};
use outcrop_core::Digest;
use sqlx::FromRow;

use super::{Member, Presented};
use crate::boxed;
use crate::ids::uuid;
use crate::{Database, StoreError};

/// How long a session lasts, in days.
pub const LONGEST_DAYS: i32 = 14;
/// How long a session lasts that nobody uses, in days: a weekend and a day.
pub const IDLE_DAYS: i32 = 3;

/// A session as listed.
#[derive(Clone, Debug, FromRow)]
pub struct Session {
    /// Its number.
    pub id: i32,
    /// Its member's address.
    pub email: String,
    /// The browser, as it names itself.
    pub agent: String,
    /// When it began.
    pub created_at: DateTime<Utc>,
    /// When it was last used, to five minutes.
    pub last_used_at: DateTime<Utc>,
    /// When it ends at the latest.
    pub expires_at: DateTime<Utc>,
    /// Whether it is the one that a digest was given of.
    pub is_own: bool,
}

/// Begins a session of a member.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn begin(database: &Database, member: i32, digest: Digest, agent: &str) -> Result<(), StoreError> {
    sqlx::query(
        "WITH expired AS (DELETE FROM session WHERE expires_at < now() OR last_used_at < now() - make_interval(days \
         => $5)) \
         INSERT INTO session (digest, member_id, expires_at, agent) VALUES ($1, $2, now() + make_interval(days => \
         $3), $4)",
    )
    .bind(uuid(digest))
    .bind(member)
    .bind(LONGEST_DAYS)
    .bind(agent)
    .bind(IDLE_DAYS)
    .execute(&database.pool)
    .await?;
    Ok(())
}

/// Ends a session.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn end(database: &Database, digest: Digest) -> Result<(), StoreError> {
    sqlx::query("DELETE FROM session WHERE digest = $1")
        .bind(uuid(digest))
        .execute(&database.pool)
        .await?;
    Ok(())
}

/// Ends sessions of a member: the one of a number, or all. Returns how many there were.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn end_of(database: &Database, email: &str, id: Option<i32>) -> Result<u64, StoreError> {
    Ok(sqlx::query(
        "DELETE FROM session USING member WHERE member.id = session.member_id AND lower(member.email) = lower($1) AND \
         ($2::int IS NULL OR session.id = $2)",
    )
    .bind(email)
    .bind(id)
    .execute(&database.pool)
    .await?
    .rows_affected())
}

/// Open sessions of a member, or of all, the latest used first.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn list(database: &Database, email: Option<&str>, own: Option<Digest>) -> Result<Vec<Session>, StoreError> {
    Ok(sqlx::query_as(
        "SELECT session.id, member.email, agent, session.created_at, last_used_at, expires_at, coalesce(digest = $2, \
         false) AS is_own FROM session JOIN member ON member.id = member_id \
         WHERE ($1::text IS NULL OR lower(member.email) = lower($1)) AND expires_at > now() AND last_used_at > now() \
         - make_interval(days => $3) \
         ORDER BY last_used_at DESC, session.id LIMIT 1000",
    )
    .bind(email)
    .bind(own.map(uuid))
    .bind(IDLE_DAYS)
    .fetch_all(&database.pool)
    .await?)
}

/// Finds whose session it is, and notes its use every five minutes.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn member(database: &Database, digest: Digest) -> Result<Option<Member>, StoreError> {
    let found: Option<Presented> = sqlx::query_as(
        "SELECT session.id, email, role, closed_to(member.id) AS closed, false AS is_pipeline, last_used_at < now() - interval \
         '5 minutes' AS is_due FROM session JOIN member ON member.id = member_id WHERE digest = $1 AND expires_at > now() AND \
         last_used_at > now() - make_interval(days => $2)",
    )
    .bind(uuid(digest))
    .bind(IDLE_DAYS)
    .fetch_optional(&database.pool)
    .await?;
    match found {
        Some(found) => found
            .noted(database, "UPDATE session SET last_used_at = now() WHERE id = $1")
            .await
            .map(Some),
        None => Ok(None),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::people::{AccessError, Tokens, add_member, set_password};
    use crate::testing::{database, number};

    fn secret(text: &str) -> Digest {
        Digest::of(["secret", text])
    }

    #[tokio::test]
    async fn a_session_ends_by_sign_out_by_time_by_disuse_and_by_a_new_password_elsewhere() {
        let database = database().await;
        add_member(&database, "purser@skerry.example", "engineer", "hash")
            .await
            .unwrap();
        assert!(matches!(
            add_member(&database, "Purser@Skerry.example", "viewer", "other").await,
            Err(AccessError::Exists(_))
        ));
        let id = i32::try_from(number(&database, "SELECT id::bigint FROM member").await).unwrap();
        let who = async |session: &str| {
            member(&database, secret(session))
                .await
                .unwrap()
                .map(|member| member.role)
        };
        for session in ["on the bridge", "in the office", "at home", "on the quay"] {
            begin(&database, id, secret(session), "Browser 7").await.unwrap();
            assert_eq!(who(session).await.as_deref(), Some("engineer"));
        }
        let listed = list(&database, Some("purser@skerry.example"), Some(secret("at home")))
            .await
            .unwrap();
        assert_eq!(
            (listed.len(), listed.iter().filter(|session| session.is_own).count()),
            (4, 1)
        );
        end(&database, secret("at home")).await.unwrap();
        assert_eq!(who("at home").await, None);
        let quay = sqlx::query_scalar("UPDATE session SET agent = 'quay' WHERE digest = $1 RETURNING id")
            .bind(uuid(secret("on the quay")));
        let quay: i32 = quay.fetch_one(&database.pool).await.unwrap();
        assert_eq!(
            end_of(&database, "bosun@skerry.example", Some(quay)).await.unwrap(),
            0,
            "not theirs"
        );
        assert_eq!(end_of(&database, "purser@skerry.example", Some(quay)).await.unwrap(), 1);
        assert_eq!(who("on the quay").await, None);
        set_password(
            &database,
            "purser@skerry.example",
            "new hash",
            Some(secret("on the bridge")),
            Tokens::Stay,
        )
        .await
        .unwrap();
        assert_eq!(
            (who("in the office").await, who("on the bridge").await.as_deref()),
            (None, Some("engineer"))
        );
        sqlx::query("UPDATE session SET last_used_at = now() - interval '73 hours'")
            .execute(&database.pool)
            .await
            .unwrap();
        assert_eq!(who("on the bridge").await, None, "nobody used it");
        sqlx::query("UPDATE session SET last_used_at = now(), expires_at = now() - interval '1 second'")
            .execute(&database.pool)
            .await
            .unwrap();
        assert_eq!(who("on the bridge").await, None);
        // The next sign-in clears away what has expired.
        begin(&database, id, secret("again"), "").await.unwrap();
        assert_eq!(number(&database, "SELECT count(*) FROM session").await, 1);
    }
}
