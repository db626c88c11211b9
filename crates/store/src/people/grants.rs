//! What members allowed programs to do in their name: the clients, the grants and the secrets of OAuth 2.1.

use chrono::{DateTime, TimeDelta, Utc};
use outcrop_core::Digest;
use sqlx::FromRow;

use super::{AccessError, Member, Presented};
use crate::boxed;
use crate::ids::uuid;
use crate::{Database, StoreError};

/// Clients that nobody has let in: whoever comes later takes the place of the one that came first, so that strangers who
/// make up clients neither fill the disk nor shut others out.
const WAITING_CLIENTS: i64 = 500;
/// Grants of one member.
const MOST: i64 = 100;
/// How long an access token is good.
pub const ACCESS: TimeDelta = TimeDelta::hours(1);
/// How long a code waits to be exchanged.
pub const CODE: TimeDelta = TimeDelta::minutes(1);
/// How long a refresh token waits to be used: each use makes another.
pub const REFRESH: TimeDelta = TimeDelta::days(30);

/// A program that asks members to be let in.
#[derive(Clone, Debug, PartialEq, Eq, FromRow)]
pub struct Client {
    id: i32,
    /// What it presents itself with.
    pub client_id: String,
    /// What it calls itself; may be empty.
    pub name: String,
    /// Where it is sent back to: one of these.
    pub redirects: Vec<String>,
}

/// Takes a client up.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn register(
    database: &Database,
    (client_id, name): (&str, &str),
    redirects: &[String],
    now: DateTime<Utc>,
) -> Result<(), StoreError> {
    sqlx::query(
        "WITH gone AS (DELETE FROM oauth_client WHERE id IN (SELECT c.id FROM oauth_client c WHERE NOT EXISTS (SELECT \
         FROM oauth_grant g WHERE g.client = c.id) ORDER BY c.id DESC OFFSET $5)) INSERT INTO oauth_client (client_id, \
         name, redirects, made_at) VALUES ($1, $2, $3, $4)",
    )
    .bind(client_id)
    .bind(name)
    .bind(redirects)
    .bind(now)
    .bind(WAITING_CLIENTS - 1)
    .execute(&database.all)
    .await?;
    Ok(())
}

/// The client that presents itself so.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn client(database: &Database, client_id: &str) -> Result<Option<Client>, StoreError> {
    Ok(
        sqlx::query_as("SELECT id, client_id, name, redirects FROM oauth_client WHERE client_id = $1")
            .bind(client_id)
            .fetch_optional(&database.pool)
            .await?,
    )
}

/// What a member allows a client.
#[derive(Clone, Debug)]
pub struct Allowed<'a> {
    /// The member's address.
    pub email: &'a str,
    /// The code that the client is sent back with.
    pub code: Digest,
    /// The proof key that only the client can answer (RFC 7636, S256).
    pub challenge: &'a str,
    /// Where it is sent back to.
    pub redirect: &'a str,
}

/// Notes what a member allows a client.
///
/// # Errors
/// [`AccessError::Missing`] when there is no such member; [`AccessError::Store`].
#[boxed]
pub async fn allow(
    database: &Database,
    client: &Client,
    allowed: &Allowed<'_>,
    now: DateTime<Utc>,
) -> Result<(), AccessError> {
    let mut transaction = database.pool.begin().await?;
    let made: Option<i32> = sqlx::query_scalar(
        "INSERT INTO oauth_grant (client, member_id, given_at, expires_at) SELECT $1, id, $3, $4 FROM member WHERE \
         lower(email) = lower($2) RETURNING id",
    )
    .bind(client.id)
    .bind(allowed.email)
    .bind(now)
    .bind(now + CODE)
    .fetch_optional(&mut *transaction)
    .await?;
    let grant = made.ok_or_else(|| AccessError::Missing(allowed.email.to_owned()))?;
    sqlx::query(
        "DELETE FROM oauth_grant WHERE id IN (SELECT g.id FROM oauth_grant g JOIN oauth_grant o ON o.member_id = \
         g.member_id WHERE o.id = $1 ORDER BY g.id DESC OFFSET $2)",
    )
    .bind(grant)
    .bind(MOST)
    .execute(&mut *transaction)
    .await?;
    sqlx::query(
        "INSERT INTO oauth_secret (digest, grant_id, kind, expires_at, challenge, redirect) VALUES ($1, $2, 'code', $3, \
         $4, $5)",
    )
    .bind(uuid(allowed.code))
    .bind(grant)
    .bind(now + CODE)
    .bind(allowed.challenge)
    .bind(allowed.redirect)
    .execute(&mut *transaction)
    .await?;
    transaction.commit().await?;
    Ok(())
}

/// What a client presents for tokens: good once.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Kind {
    /// What it was sent back with.
    Code,
    /// What it was given with the last access token.
    Refresh,
}

/// Something that was good once, and is used up now.
#[derive(Clone, Debug, PartialEq, Eq, FromRow)]
pub struct Spent {
    #[sqlx(rename = "grant_id")]
    grant: i32,
    /// The client that it was made for.
    pub client_id: String,
    /// Of a code: its proof key.
    pub challenge: Option<String>,
    /// Of a code: where it was sent.
    pub redirect: Option<String>,
}

/// Uses a code or a refresh token up. `None` where it is not known or too old. One that was used up before has been
/// stolen, by whoever comes now or by whoever came first: all that came of it ends (RFC 9700, 4.14.2).
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn spend(
    database: &Database,
    digest: Digest,
    kind: Kind,
    now: DateTime<Utc>,
) -> Result<Option<Spent>, StoreError> {
    let word = match kind {
        Kind::Code => "code",
        Kind::Refresh => "refresh",
    };
    let spent: Option<Spent> = sqlx::query_as(
        "UPDATE oauth_secret s SET spent_at = $3 FROM oauth_grant g JOIN oauth_client c ON c.id = g.client WHERE \
         s.digest = $1 AND s.kind = $2 AND s.spent_at IS NULL AND s.expires_at > $3 AND g.id = s.grant_id RETURNING \
         s.grant_id, c.client_id, s.challenge, s.redirect",
    )
    .bind(uuid(digest))
    .bind(word)
    .bind(now)
    .fetch_optional(&database.all)
    .await?;
    if spent.is_none() {
        sqlx::query(
            "DELETE FROM oauth_grant WHERE id = (SELECT grant_id FROM oauth_secret WHERE digest = $1 AND kind = $2 AND \
             spent_at IS NOT NULL)",
        )
        .bind(uuid(digest))
        .bind(word)
        .execute(&database.all)
        .await?;
    }
    Ok(spent)
}

/// Gives a client its next access token and refresh token, in place of those before. `false` where the grant has ended
/// meanwhile.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn issue(
    database: &Database,
    spent: &Spent,
    (access, refresh): (Digest, Digest),
    now: DateTime<Utc>,
) -> Result<bool, StoreError> {
    let done = sqlx::query(
        "WITH going AS (UPDATE oauth_grant SET expires_at = $5 WHERE id = $1 RETURNING id), before AS (DELETE FROM \
         oauth_secret WHERE grant_id = $1 AND kind = 'access') INSERT INTO oauth_secret (digest, grant_id, kind, \
         expires_at) SELECT new.digest, going.id, new.kind, new.until FROM going, (VALUES ($2::uuid, 'access', \
         $4::timestamptz), ($3, 'refresh', $5)) new (digest, kind, until)",
    )
    .bind(spent.grant)
    .bind(uuid(access))
    .bind(uuid(refresh))
    .bind(now + ACCESS)
    .bind(now + REFRESH)
    .execute(&database.all)
    .await?;
    Ok(done.rows_affected() > 0)
}

/// Finds in whose name an access token acts, and notes its use once a minute.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn member(database: &Database, digest: Digest) -> Result<Option<Member>, StoreError> {
    let found: Option<Presented> = sqlx::query_as(
        "SELECT g.id, email, role, closed_to(member.id) AS closed, false AS is_pipeline, coalesce(g.last_used_at < now() - \
         interval '1 minute', true) AS is_due FROM oauth_secret s JOIN oauth_grant g ON g.id = s.grant_id JOIN member ON \
         member.id = g.member_id WHERE s.digest = $1 AND s.kind = 'access' AND s.expires_at > now()",
    )
    .bind(uuid(digest))
    .fetch_optional(&database.pool)
    .await?;
    match found {
        Some(found) => found
            .noted(database, "UPDATE oauth_grant SET last_used_at = now() WHERE id = $1")
            .await
            .map(Some),
        None => Ok(None),
    }
}

/// A grant as listed.
#[derive(Clone, Debug, PartialEq, Eq, FromRow)]
pub struct Grant {
    /// Its number.
    pub id: i32,
    /// What the client calls itself.
    pub client: String,
    /// When it was given.
    pub given_at: DateTime<Utc>,
    /// When it was last used, to the minute.
    pub last_used_at: Option<DateTime<Utc>>,
    /// When it ends unless it is used before.
    pub expires_at: DateTime<Utc>,
}

/// What a member allows, the newest first.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn list(database: &Database, email: &str, now: DateTime<Utc>) -> Result<Vec<Grant>, StoreError> {
    Ok(sqlx::query_as(
        "SELECT g.id, c.name AS client, g.given_at, g.last_used_at, g.expires_at FROM oauth_grant g JOIN oauth_client c \
         ON c.id = g.client JOIN member m ON m.id = g.member_id WHERE lower(m.email) = lower($1) AND g.expires_at > $2 \
         ORDER BY g.id DESC",
    )
    .bind(email)
    .bind(now)
    .fetch_all(&database.pool)
    .await?)
}

/// Ends a grant of a member. Returns what the client calls itself; `None` where the member has no such grant.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn end(database: &Database, id: i32, email: &str) -> Result<Option<String>, StoreError> {
    Ok(sqlx::query_scalar(
        "DELETE FROM oauth_grant g USING member m, oauth_client c WHERE g.id = $1 AND m.id = g.member_id AND c.id = \
         g.client AND lower(m.email) = lower($2) RETURNING c.name",
    )
    .bind(id)
    .bind(email)
    .fetch_optional(&database.pool)
    .await?)
}

/// Ends the grant of an access or refresh token, by whoever has that (RFC 7009). Unknown ones are ended already.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn revoke(database: &Database, digest: Digest) -> Result<(), StoreError> {
    sqlx::query(
        "DELETE FROM oauth_grant WHERE id = (SELECT grant_id FROM oauth_secret WHERE digest = $1 AND kind <> 'code')",
    )
    .bind(uuid(digest))
    .execute(&database.all)
    .await?;
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::people::{add_member, end_all_of, remove};
    use crate::testing::{database, number};

    const PURSER: &str = "purser@skerry.example";

    fn secret(text: &str) -> Digest {
        Digest::of(["secret", text])
    }

    /// A client called `an editor` whom the purser let in with a code.
    async fn let_in(code: &str) -> Database {
        let database = database().await;
        add_member(&database, PURSER, "engineer", "hash").await.unwrap();
        allowed(&database, code).await;
        database
    }

    async fn allowed(database: &Database, code: &str) {
        let now = Utc::now();
        if client(database, "editor-1").await.unwrap().is_none() {
            let back = ["http://127.0.0.1/back".to_owned()];
            register(database, ("editor-1", "an editor"), &back, now).await.unwrap();
        }
        let of = client(database, "editor-1").await.unwrap().unwrap();
        let allowed = Allowed {
            email: PURSER,
            code: secret(code),
            challenge: "proof",
            redirect: "http://127.0.0.1/back",
        };
        allow(database, &of, &allowed, now).await.unwrap();
    }

    async fn is_good(database: &Database, access: &str) -> bool {
        member(database, secret(access)).await.unwrap().is_some()
    }

    async fn exchanged(database: &Database, (kind, spent): (Kind, &str), new: (&str, &str)) -> bool {
        let now = Utc::now();
        match spend(database, secret(spent), kind, now).await.unwrap() {
            Some(spent) => issue(database, &spent, (secret(new.0), secret(new.1)), now)
                .await
                .unwrap(),
            None => false,
        }
    }

    #[tokio::test]
    async fn a_code_becomes_tokens_once_and_each_refresh_replaces_them() {
        let database = let_in("code").await;
        assert!(exchanged(&database, (Kind::Code, "code"), ("a1", "r1")).await);
        let of = member(&database, secret("a1")).await.unwrap().unwrap();
        assert_eq!((of.email.as_str(), of.role.as_str()), (PURSER, "engineer"));
        assert!(!is_good(&database, "r1").await && !is_good(&database, "code").await);
        assert!(!exchanged(&database, (Kind::Code, "r1"), ("x", "y")).await, "no code");
        assert!(exchanged(&database, (Kind::Refresh, "r1"), ("a2", "r2")).await);
        assert!(!is_good(&database, "a1").await && is_good(&database, "a2").await);
        let listed = list(&database, PURSER, Utc::now()).await.unwrap();
        assert_eq!(listed.len(), 1);
        assert!(listed[0].client == "an editor" && listed[0].last_used_at.is_some());
        assert!(listed[0].expires_at > Utc::now() + TimeDelta::days(29));
    }

    #[tokio::test]
    async fn what_is_presented_twice_was_stolen_and_ends_all_that_came_of_it() {
        for kind in [Kind::Code, Kind::Refresh] {
            let database = let_in("code").await;
            assert!(exchanged(&database, (Kind::Code, "code"), ("a1", "r1")).await);
            let stolen = match kind {
                Kind::Code => "code",
                Kind::Refresh => {
                    assert!(exchanged(&database, (kind, "r1"), ("a2", "r2")).await);
                    "r1"
                }
            };
            assert!(!exchanged(&database, (kind, stolen), ("x", "y")).await);
            assert_eq!(
                number(&database, "SELECT count(*) FROM oauth_secret").await,
                0,
                "{kind:?}"
            );
            assert!(!exchanged(&database, (Kind::Refresh, "r2"), ("x", "y")).await);
        }
    }

    #[tokio::test]
    async fn secrets_end_by_their_time_by_hand_by_revocation_and_with_their_member() {
        let database = let_in("late").await;
        let later = Utc::now() + CODE + TimeDelta::seconds(1);
        assert_eq!(spend(&database, secret("late"), Kind::Code, later).await.unwrap(), None);
        assert!(list(&database, PURSER, later).await.unwrap().is_empty());
        let begin = async |name: &str| {
            allowed(&database, name).await;
            assert!(
                exchanged(
                    &database,
                    (Kind::Code, name),
                    (&format!("a-{name}"), &format!("r-{name}"))
                )
                .await
            );
        };
        begin("one").await;
        let old = "UPDATE oauth_secret SET expires_at = now() - interval '1 second' WHERE kind = 'access'";
        sqlx::query(old).execute(&database.pool).await.unwrap();
        assert!(!is_good(&database, "a-one").await);
        begin("two").await;
        let id = list(&database, PURSER, Utc::now()).await.unwrap()[0].id;
        assert_eq!(end(&database, id, "bosun@skerry.example").await.unwrap(), None);
        assert!(is_good(&database, "a-two").await);
        assert_eq!(end(&database, id, PURSER).await.unwrap().as_deref(), Some("an editor"));
        assert!(!is_good(&database, "a-two").await);
        begin("three").await;
        revoke(&database, secret("r-three")).await.unwrap();
        assert!(!is_good(&database, "a-three").await);
        begin("four").await;
        end_all_of(&database, PURSER).await.unwrap();
        assert!(!is_good(&database, "a-four").await);
        begin("five").await;
        remove(&database, PURSER).await.unwrap();
        assert!(!is_good(&database, "a-five").await);
    }

    #[tokio::test]
    async fn clients_that_nobody_lets_in_make_room_and_those_of_members_stay() {
        let database = let_in("code").await;
        sqlx::query(
            "INSERT INTO oauth_client (client_id, name, redirects, made_at) SELECT 'made-up-' || n, '', '{}', now() FROM \
             generate_series(1, 600) n",
        )
        .execute(&database.pool)
        .await
        .unwrap();
        register(&database, ("editor-2", "another"), &[], Utc::now())
            .await
            .unwrap();
        assert_eq!(
            number(&database, "SELECT count(*) FROM oauth_client").await,
            WAITING_CLIENTS + 1
        );
        for kept in ["editor-1", "editor-2", "made-up-600"] {
            assert!(client(&database, kept).await.unwrap().is_some(), "{kept}");
        }
        for number in 0..MOST + 5 {
            allowed(&database, &format!("again-{number}")).await;
        }
        assert_eq!(number(&database, "SELECT count(*) FROM oauth_grant").await, MOST);
    }
}
