//! Invitations: a link with a secret that makes a member, once and until it expires.

use chrono::{DateTime, Utc};
use outcrop_core::Digest;
use sqlx::FromRow;

use super::AccessError;
use crate::boxed;
use crate::ids::uuid;
use crate::{Database, StoreError};

/// Somebody who was invited.
#[derive(Clone, Debug, PartialEq, Eq, FromRow)]
pub struct Invitation {
    /// Its number.
    pub id: i32,
    /// The address they will sign in with.
    pub email: String,
    /// The role they will have: `viewer`, `engineer` or `admin`.
    pub role: String,
    /// The teams they will be in, as far as they are still there.
    pub teams: Vec<String>,
    /// Who invited them.
    pub made_by: String,
    /// When.
    pub made_at: DateTime<Utc>,
    /// Until when the link is good.
    pub expires_at: DateTime<Utc>,
}

const SELECT: &str = "SELECT id, email, role, ARRAY(SELECT name FROM team WHERE team.id = ANY(team_ids) ORDER BY name) AS \
    teams, made_by, made_at, expires_at FROM invitation";

/// Whom to invite.
pub struct NewInvitation<'i> {
    /// The address they will sign in with.
    pub email: &'i str,
    /// `viewer`, `engineer` or `admin`.
    pub role: &'i str,
    /// Names of teams.
    pub teams: &'i [String],
    /// Who invites them.
    pub by: &'i str,
    /// Now.
    pub at: DateTime<Utc>,
    /// Until when the link is good.
    pub expires_at: DateTime<Utc>,
}

/// Invites somebody; an earlier invitation of theirs is good no more.
///
/// # Errors
/// [`AccessError::Exists`] where a member has that address; [`AccessError::Missing`] with a team that is none;
/// [`AccessError::Store`].
#[boxed]
pub async fn make(database: &Database, digest: Digest, asked: &NewInvitation<'_>) -> Result<(), AccessError> {
    let mut transaction = database.pool.begin().await?;
    let (is_member,): (bool,) = sqlx::query_as("SELECT EXISTS (SELECT FROM member WHERE lower(email) = lower($1))")
        .bind(asked.email)
        .fetch_one(&mut *transaction)
        .await?;
    if is_member {
        return Err(AccessError::Exists(asked.email.to_owned()));
    }
    let mut ids: Vec<i32> = vec![];
    for team in asked.teams {
        let id = sqlx::query_scalar("SELECT id FROM team WHERE lower(name) = lower($1)")
            .bind(team)
            .fetch_optional(&mut *transaction)
            .await?;
        ids.push(id.ok_or_else(|| AccessError::Missing(team.clone()))?);
    }
    sqlx::query("DELETE FROM invitation WHERE lower(email) = lower($1) OR expires_at <= $2")
        .bind(asked.email)
        .bind(asked.at)
        .execute(&mut *transaction)
        .await?;
    sqlx::query(
        "INSERT INTO invitation (digest, email, role, team_ids, made_by, made_at, expires_at) VALUES ($1, $2, $3, $4, \
         $5, $6, $7)",
    )
    .bind(uuid(digest))
    .bind(asked.email)
    .bind(asked.role)
    .bind(ids)
    .bind(asked.by)
    .bind(asked.at)
    .bind(asked.expires_at)
    .execute(&mut *transaction)
    .await?;
    transaction.commit().await?;
    Ok(())
}

/// Invitations that are still good, the newest first.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn list(database: &Database, at: DateTime<Utc>) -> Result<Vec<Invitation>, StoreError> {
    let statement = format!("{SELECT} WHERE expires_at > $1 ORDER BY id DESC");
    Ok(sqlx::query_as(sqlx::AssertSqlSafe(statement))
        .bind(at)
        .fetch_all(&database.pool)
        .await?)
}

/// Takes an invitation back. Returns whom it was for.
///
/// # Errors
/// [`AccessError::Missing`] where there is none; [`AccessError::Store`].
#[boxed]
pub async fn withdraw(database: &Database, id: i32) -> Result<String, AccessError> {
    let email = sqlx::query_scalar("DELETE FROM invitation WHERE id = $1 RETURNING email")
        .bind(id)
        .fetch_optional(&database.pool)
        .await?;
    email.ok_or_else(|| AccessError::Missing(format!("invitation {id}")))
}

/// The invitation of a link, while it is good.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn of_secret(
    database: &Database,
    digest: Digest,
    at: DateTime<Utc>,
) -> Result<Option<Invitation>, StoreError> {
    let statement = format!("{SELECT} WHERE digest = $1 AND expires_at > $2");
    Ok(sqlx::query_as(sqlx::AssertSqlSafe(statement))
        .bind(uuid(digest))
        .bind(at)
        .fetch_optional(&database.pool)
        .await?)
}

/// Makes the member who was invited, with a password's hash, and uses the invitation up.
///
/// # Errors
/// [`AccessError::Missing`] where the link is good no more; [`AccessError::Exists`] where a member has the address by now;
/// [`AccessError::Store`].
#[boxed]
pub async fn accept(
    database: &Database,
    digest: Digest,
    password_hash: &str,
    at: DateTime<Utc>,
) -> Result<Invitation, AccessError> {
    let mut transaction = database.pool.begin().await?;
    let statement = format!("{SELECT} WHERE digest = $1 AND expires_at > $2 FOR UPDATE");
    let invitation: Option<Invitation> = sqlx::query_as(sqlx::AssertSqlSafe(statement))
        .bind(uuid(digest))
        .bind(at)
        .fetch_optional(&mut *transaction)
        .await?;
    let invitation = invitation.ok_or_else(|| AccessError::Missing("invitation".to_owned()))?;
    let member: Option<i32> = sqlx::query_scalar(
        "INSERT INTO member (email, role, password_hash) SELECT $1, $2, $3 WHERE NOT EXISTS (SELECT FROM member WHERE \
         lower(email) = lower($1)) ON CONFLICT (email) DO NOTHING RETURNING id",
    )
    .bind(&invitation.email)
    .bind(&invitation.role)
    .bind(password_hash)
    .fetch_optional(&mut *transaction)
    .await?;
    let member = member.ok_or_else(|| AccessError::Exists(invitation.email.clone()))?;
    sqlx::query(
        "INSERT INTO team_member (team_id, member_id) SELECT team.id, $2 FROM team JOIN invitation ON team.id = \
         ANY(team_ids) WHERE invitation.id = $1",
    )
    .bind(invitation.id)
    .bind(member)
    .execute(&mut *transaction)
    .await?;
    sqlx::query("DELETE FROM invitation WHERE id = $1")
        .bind(invitation.id)
        .execute(&mut *transaction)
        .await?;
    transaction.commit().await?;
    Ok(invitation)
}

#[cfg(test)]
mod tests {
    use chrono::TimeDelta;

    use super::*;
    use crate::people::{add_member, members, teams};
    use crate::testing::database;

    #[tokio::test]
    async fn a_link_makes_one_member_with_role_and_teams_once_and_before_it_expires() {
        let database = database().await;
        let at = Utc::now();
        let of = |secret: &str| Digest::of(["test", secret]);
        let team = ["settlement".to_owned()];
        let invite = async |secret: &str, email: &str, teams: &[String], hours: i64| {
            let asked = NewInvitation {
                email,
                role: "engineer",
                teams,
                by: "master",
                at,
                expires_at: at + TimeDelta::hours(hours),
            };
            make(&database, of(secret), &asked).await
        };
        let unknown = invite("a", "mate@skerry.example", &team, 1).await;
        assert!(matches!(unknown, Err(AccessError::Missing(name)) if name == "settlement"));
        teams::make(&database, "settlement", "master", at).await.unwrap();
        invite("a", "mate@skerry.example", &team, 1).await.unwrap();
        invite("b", "Mate@skerry.example", &team, 48).await.unwrap();
        assert!(
            of_secret(&database, of("a"), at).await.unwrap().is_none(),
            "a later one replaces it"
        );
        let known = of_secret(&database, of("b"), at).await.unwrap().unwrap();
        assert_eq!(
            (known.role.as_str(), known.teams.as_slice()),
            ("engineer", team.as_slice())
        );
        assert!(
            of_secret(&database, of("b"), at + TimeDelta::hours(48))
                .await
                .unwrap()
                .is_none()
        );
        let late = accept(&database, of("b"), "hash", at + TimeDelta::hours(48)).await;
        assert!(matches!(late, Err(AccessError::Missing(_))));

        accept(&database, of("b"), "hash", at).await.unwrap();
        assert_eq!(members(&database).await.unwrap()[0].email, "Mate@skerry.example");
        assert_eq!(
            teams::list(&database).await.unwrap()[0].members,
            ["Mate@skerry.example"]
        );
        assert!(
            matches!(
                accept(&database, of("b"), "hash", at).await,
                Err(AccessError::Missing(_))
            ),
            "used up"
        );
        let again = invite("c", "mate@skerry.example", &[], 1).await;
        assert!(matches!(again, Err(AccessError::Exists(_))));

        invite("d", "cook@skerry.example", &[], 1).await.unwrap();
        add_member(&database, "cook@skerry.example", "viewer", "x")
            .await
            .unwrap();
        assert!(matches!(
            accept(&database, of("d"), "hash", at).await,
            Err(AccessError::Exists(_))
        ));
        let open = list(&database, at).await.unwrap();
        assert_eq!(withdraw(&database, open[0].id).await.unwrap(), "cook@skerry.example");
        assert!(list(&database, at).await.unwrap().is_empty());
    }
}
