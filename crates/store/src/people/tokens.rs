//! Tokens of members for the API.

use chrono::{DateTime, Utc};
use outcrop_core::Digest;
use sqlx::FromRow;

use super::{AccessError, Member, Presented};
use crate::boxed;
use crate::ids::uuid;
use crate::{Database, StoreError};

/// A token to make.
#[derive(Clone, Debug, Default)]
pub struct NewToken {
    /// What it is for; may be empty.
    pub name: String,
    /// Whether it is a pipeline's: it records and checks deploys, marks changes and does nothing else.
    pub is_pipeline: bool,
    /// When it ends; `None` for when it is revoked.
    pub expires_at: Option<DateTime<Utc>>,
}

/// A token as listed; its secret is known to its owner alone.
#[derive(Clone, Debug, FromRow)]
pub struct Token {
    /// Its number.
    pub id: i32,
    /// Its member's address.
    pub email: String,
    /// What it is for; may be empty.
    pub name: String,
    /// Whether it is a pipeline's.
    pub is_pipeline: bool,
    /// When it was made.
    pub created_at: DateTime<Utc>,
    /// When it ends by itself.
    pub expires_at: Option<DateTime<Utc>>,
    /// When it was last used, to the minute.
    pub last_used_at: Option<DateTime<Utc>>,
    /// When it was revoked.
    pub revoked_at: Option<DateTime<Utc>>,
}

/// Gives a member one more token. Returns its number.
///
/// # Errors
/// [`AccessError::Missing`] when there is no such member.
#[boxed]
pub async fn add(database: &Database, email: &str, digest: Digest, token: &NewToken) -> Result<i32, AccessError> {
    let made: Option<(i32,)> = sqlx::query_as(
        "INSERT INTO token (member_id, digest, scope, name, expires_at) SELECT id, $2, $3, $4, $5 FROM member WHERE \
         lower(email) = lower($1) RETURNING id",
    )
    .bind(email)
    .bind(uuid(digest))
    .bind(if token.is_pipeline { "deploys" } else { "member" })
    .bind(&token.name)
    .bind(token.expires_at)
    .fetch_optional(&database.pool)
    .await
    .map_err(StoreError::from)?;
    made.map(|(id,)| id)
        .ok_or_else(|| AccessError::Missing(email.to_owned()))
}

/// Finds whose token it is, and notes its use once a minute. Revoked, expired and unknown ones are
/// nobody's, from this moment on and on all instances.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn member(database: &Database, digest: Digest) -> Result<Option<Member>, StoreError> {
    let found: Option<Presented> = sqlx::query_as(
        "SELECT token.id, email, role, closed_to(member.id) AS closed, scope = 'deploys' AS is_pipeline, coalesce(last_used_at < \
         now() - interval '1 minute', true) AS is_due FROM token JOIN member ON member.id = member_id WHERE token.digest = $1 AND \
         revoked_at IS NULL AND (expires_at IS NULL OR expires_at > now())",
    )
    .bind(uuid(digest))
    .fetch_optional(&database.pool)
    .await?;
    match found {
        Some(found) => found
            .noted(database, "UPDATE token SET last_used_at = now() WHERE id = $1")
            .await
            .map(Some),
        None => Ok(None),
    }
}

/// Tokens of one member, or of all, those in use first, then the newest.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn list(database: &Database, email: Option<&str>) -> Result<Vec<Token>, StoreError> {
    Ok(sqlx::query_as(
        "SELECT token.id, member.email, token.name, token.scope = 'deploys' AS is_pipeline, token.created_at, \
         token.expires_at, token.last_used_at, token.revoked_at \
         FROM token JOIN member ON member.id = token.member_id WHERE $1::text IS NULL OR lower(member.email) = \
         lower($1) \
         ORDER BY token.revoked_at IS NOT NULL, token.created_at DESC, token.id DESC LIMIT 1000",
    )
    .bind(email)
    .fetch_all(&database.pool)
    .await?)
}

/// Revokes a token, of one member where one is given. Returns whose it was and what it was for;
/// `None` where there is no such token in use.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn revoke(database: &Database, id: i32, email: Option<&str>) -> Result<Option<(String, String)>, StoreError> {
    Ok(sqlx::query_as(
        "UPDATE token SET revoked_at = now() FROM member WHERE token.id = $1 AND member.id = token.member_id AND \
         revoked_at IS NULL \
         AND ($2::text IS NULL OR lower(member.email) = lower($2)) RETURNING member.email, token.name",
    )
    .bind(id)
    .bind(email)
    .fetch_optional(&database.pool)
    .await?)
}

#[cfg(test)]
mod tests {
    use chrono::TimeDelta;

    use super::*;
    use crate::people::{Tokens, add_member, remove, set_password};
    use crate::testing::database;

    fn secret(text: &str) -> Digest {
        Digest::of(["secret", text])
    }

    #[tokio::test]
    async fn a_token_is_its_members_and_a_pipelines_is_good_for_deploys_alone() {
        let database = database().await;
        add_member(&database, "purser@skerry.example", "viewer", "hash")
            .await
            .unwrap();
        add(&database, "Purser@skerry.example", secret("own"), &NewToken::default())
            .await
            .unwrap();
        let pipeline = NewToken {
            is_pipeline: true,
            ..NewToken::default()
        };
        add(&database, "purser@skerry.example", secret("pipeline"), &pipeline)
            .await
            .unwrap();
        assert!(matches!(
            add(&database, "nobody@skerry.example", secret("none"), &pipeline).await,
            Err(AccessError::Missing(_))
        ));
        let of = async |token: &str| {
            member(&database, secret(token))
                .await
                .unwrap()
                .map(|member| (member.role, member.is_pipeline))
        };
        assert_eq!(of("own").await, Some(("viewer".to_owned(), false)));
        assert_eq!(of("pipeline").await, Some(("viewer".to_owned(), true)));
        assert_eq!(of("guess").await, None);
    }

    #[tokio::test]
    async fn a_token_ends_when_it_is_revoked_expires_or_its_member_goes() {
        let database = database().await;
        for email in ["purser@skerry.example", "bosun@skerry.example"] {
            add_member(&database, email, "engineer", "hash").await.unwrap();
        }
        let make = async |email: &str, name: &str, expires_at| {
            let token = NewToken {
                name: name.to_owned(),
                expires_at,
                ..NewToken::default()
            };
            add(&database, email, secret(name), &token).await.unwrap()
        };
        let is_good = async |name: &str| member(&database, secret(name)).await.unwrap().is_some();
        let laptop = make("purser@skerry.example", "laptop", None).await;
        make("purser@skerry.example", "short", Some(Utc::now() + TimeDelta::days(1))).await;
        make("bosun@skerry.example", "bosun", None).await;
        assert!(is_good("laptop").await && is_good("short").await && is_good("bosun").await);
        let used: Vec<bool> = list(&database, None)
            .await
            .unwrap()
            .iter()
            .map(|token| token.last_used_at.is_some())
            .collect();
        assert_eq!(used, [true, true, true]);
        assert_eq!(
            revoke(&database, laptop, Some("bosun@skerry.example")).await.unwrap(),
            None,
            "not theirs"
        );
        assert!(is_good("laptop").await);
        let revoked = revoke(&database, laptop, Some("purser@skerry.example")).await.unwrap();
        assert_eq!(revoked, Some(("purser@skerry.example".to_owned(), "laptop".to_owned())));
        assert_eq!(revoke(&database, laptop, None).await.unwrap(), None, "revoked before");
        assert!(!is_good("laptop").await);
        sqlx::query("UPDATE token SET expires_at = now() - interval '1 second' WHERE name = 'short'")
            .execute(&database.pool)
            .await
            .unwrap();
        assert!(!is_good("short").await);
        make("purser@skerry.example", "kept", None).await;
        set_password(&database, "purser@skerry.example", "new", None, Tokens::Stay)
            .await
            .unwrap();
        assert!(is_good("kept").await);
        set_password(&database, "purser@skerry.example", "newer", None, Tokens::End)
            .await
            .unwrap();
        assert!(!is_good("kept").await && is_good("bosun").await);
        remove(&database, "bosun@skerry.example").await.unwrap();
        assert!(!is_good("bosun").await);
        let names: Vec<String> = list(&database, Some("purser@skerry.example"))
            .await
            .unwrap()
            .into_iter()
            .map(|token| token.name)
            .collect();
        assert_eq!(names.len(), 3, "{names:?}");
    }
}
