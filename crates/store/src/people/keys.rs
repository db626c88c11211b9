//! The keys that senders authenticate with, what came by them, and what was refused.

use chrono::{DateTime, Utc};
use outcrop_core::{Digest, Hasher};
use sqlx::{AssertSqlSafe, FromRow};

use crate::boxed;
use crate::ids::uuid;
use crate::people::AccessError;
use crate::{Database, StoreError};

/// A sender key, without its secret.
#[derive(Clone, Debug, FromRow)]
pub struct SenderKey {
    /// Its number.
    pub id: i32,
    /// Its name.
    pub name: String,
    /// What it may do.
    #[sqlx(flatten)]
    pub bounds: Bounds,
    /// When it was made.
    pub created_at: DateTime<Utc>,
    /// When it was last used, to the minute.
    pub last_used_at: Option<DateTime<Utc>>,
    /// Until when the secret before the last rotation is taken too.
    pub previous_until: Option<DateTime<Utc>>,
    /// When it was revoked.
    pub revoked_at: Option<DateTime<Utc>>,
}

/// What a key may do.
#[derive(Clone, Debug, Default, FromRow)]
pub struct Bounds {
    /// The services it may write for; empty for all.
    pub services: Vec<String>,
    /// The environments it may write for; empty for all.
    pub environments: Vec<String>,
    /// How many bytes of bodies it may send a minute, inflated; none for no limit of its own.
    pub bytes_per_minute: Option<i64>,
}

/// A key with what came by it in the last 24 hours.
#[derive(Clone, Debug, FromRow)]
pub struct KeyInUse {
    /// The key.
    #[sqlx(flatten)]
    pub key: SenderKey,
    /// Requests taken.
    pub requests: i64,
    /// Bytes of their bodies, as sent.
    pub bytes: i64,
    /// Requests refused.
    pub refused: i64,
}

/// Adds a sender key.
///
/// # Errors
/// [`AccessError::Exists`] when the name is taken, also by a revoked key: its history stays readable.
#[boxed]
pub async fn add(database: &Database, name: &str, bounds: &Bounds, digest: Digest) -> Result<(), AccessError> {
    let done = sqlx::query(
        "INSERT INTO sender_key (name, services, environments, bytes_per_minute, digest) VALUES ($1, $2, $3, $4, $5) \
         ON CONFLICT (name) DO NOTHING",
    )
    .bind(name)
    .bind(&bounds.services)
    .bind(&bounds.environments)
    .bind(bounds.bytes_per_minute)
    .bind(uuid(digest))
    .execute(&database.pool)
    .await
    .map_err(StoreError::from)?;
    if done.rows_affected() == 0 {
        Err(AccessError::Exists(name.to_owned()))
    } else {
        Ok(())
    }
}

/// Gives a key another secret; the one before holds for `overlap_secs` more. Of an earlier rotation, the oldest secret
/// ends at once.
///
/// # Errors
/// [`AccessError::Missing`] when there is no such key, or it was revoked.
#[boxed]
pub async fn rotate(database: &Database, name: &str, digest: Digest, overlap_secs: i64) -> Result<(), AccessError> {
    let statement = "UPDATE sender_key SET previous_digest = digest, previous_until = now() + make_interval(secs => \
        $3), digest = $2 \
                     WHERE name = $1 AND revoked_at IS NULL";
    #[expect(clippy::cast_precision_loss, reason = "seconds of an overlap are few")]
    let done = sqlx::query(statement)
        .bind(name)
        .bind(uuid(digest))
        .bind(overlap_secs as f64)
        .execute(&database.pool)
        .await
        .map_err(StoreError::from)?;
    if done.rows_affected() == 0 {
        Err(AccessError::Missing(name.to_owned()))
    } else {
        Ok(())
    }
}

/// Revokes a sender key with all its secrets; it stays in the list.
///
/// # Errors
/// [`AccessError::Missing`] when there is no such key, or it was revoked before.
#[boxed]
pub async fn revoke(database: &Database, name: &str) -> Result<(), AccessError> {
    let done = sqlx::query("UPDATE sender_key SET revoked_at = now() WHERE name = $1 AND revoked_at IS NULL")
        .bind(name)
        .execute(&database.pool)
        .await
        .map_err(StoreError::from)?;
    if done.rows_affected() == 0 {
        Err(AccessError::Missing(name.to_owned()))
    } else {
        Ok(())
    }
}

const COLUMNS: &str = "id, name, services, environments, bytes_per_minute, created_at, last_used_at, \
                       CASE WHEN previous_until > now() THEN previous_until END AS previous_until, revoked_at";

/// Lists all sender keys by name, with what came by them in the last 24 hours.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn list(database: &Database) -> Result<Vec<KeyInUse>, StoreError> {
    let statement = format!(
        "SELECT {COLUMNS}, coalesce(requests, 0)::bigint AS requests, coalesce(bytes, 0)::bigint AS bytes, \
         coalesce(refused, 0)::bigint AS refused \
         FROM sender_key LEFT JOIN (SELECT key_id, sum(requests) AS requests, sum(bytes) AS bytes, sum(refused) AS \
         refused \
             FROM key_use WHERE hour > now() - interval '24 hours' GROUP BY key_id) used ON key_id = id ORDER BY name"
    );
    Ok(sqlx::query_as(AssertSqlSafe(statement))
        .fetch_all(&database.pool)
        .await?)
}

/// Finds a key that is not revoked by the digest of one of its secrets.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn of_secret(database: &Database, digest: Digest) -> Result<Option<SenderKey>, StoreError> {
    let statement = format!(
        "SELECT {COLUMNS} FROM sender_key WHERE revoked_at IS NULL AND (digest = $1 OR previous_digest = $1 AND \
         previous_until > now())"
    );
    Ok(sqlx::query_as(AssertSqlSafe(statement))
        .bind(uuid(digest))
        .fetch_optional(&database.checking)
        .await?)
}

/// What came by a key since it was last written down.
#[derive(Clone, Copy, Debug, Default)]
pub struct KeyUse {
    /// The key's number.
    pub key: i32,
    /// Requests taken.
    pub requests: i64,
    /// Bytes of their bodies, as sent.
    pub bytes: i64,
    /// Requests refused.
    pub refused: i64,
}

/// Requests refused in one minute for one reason.
#[derive(Clone, Debug, PartialEq, Eq, Hash, FromRow)]
pub struct RefusedRequest {
    /// The minute.
    pub minute: DateTime<Utc>,
    /// The name of the key; empty where none was known.
    pub key: String,
    /// Where it was sent to.
    pub path: String,
    /// Who sent it: what it says it is, and its address.
    pub sender: String,
    /// Why it was refused, as it was told.
    pub reason: String,
}

/// Refused requests as they are read.
#[derive(Clone, Debug, FromRow)]
pub struct RefusedCount {
    /// What they have in common.
    #[sqlx(flatten)]
    pub request: RefusedRequest,
    /// How many.
    pub n: i64,
    /// The latest.
    pub last_at: DateTime<Utc>,
}

/// Writes down what came by keys, and what was refused.
///
/// # Errors
/// [`StoreError`] when the database does not answer; nothing is written then.
#[boxed]
pub async fn note(
    database: &Database,
    at: DateTime<Utc>,
    uses: &[KeyUse],
    refused: &[(RefusedRequest, i64)],
) -> Result<(), StoreError> {
    let column = |of: fn(&KeyUse) -> i64| uses.iter().map(of).collect::<Vec<_>>();
    let keys: Vec<i32> = uses.iter().map(|used| used.key).collect();
    let mut transaction = database.pool.begin().await?;
    sqlx::query(
        "INSERT INTO key_use AS u (key_id, hour, requests, bytes, refused) \
         SELECT key, date_trunc('hour', $1::timestamptz), requests, bytes, refused \
         FROM UNNEST($2::int[], $3::bigint[], $4::bigint[], $5::bigint[]) AS new (key, requests, bytes, refused) \
         ORDER BY key \
         ON CONFLICT (key_id, hour) DO UPDATE SET requests = u.requests + excluded.requests, bytes = u.bytes + \
         excluded.bytes, \
             refused = u.refused + excluded.refused",
    )
    .bind(at)
    .bind(&keys)
    .bind(column(|used| used.requests))
    .bind(column(|used| used.bytes))
    .bind(column(|used| used.refused))
    .execute(&mut *transaction)
    .await?;
    sqlx::query("UPDATE sender_key SET last_used_at = date_trunc('minute', $1::timestamptz) WHERE id = ANY($2)")
        .bind(at)
        .bind(
            uses.iter()
                .filter(|used| used.requests > 0)
                .map(|used| used.key)
                .collect::<Vec<_>>(),
        )
        .execute(&mut *transaction)
        .await?;
    let summed;
    let refused = if has_room(&mut transaction, refused).await? {
        refused
    } else {
        summed = together(refused, at);
        summed.as_slice()
    };
    let text = |of: fn(&RefusedRequest) -> &str| {
        refused
            .iter()
            .map(|(request, _)| of(request).to_owned())
            .collect::<Vec<_>>()
    };
    sqlx::query(
        "INSERT INTO refused_request AS r (hash, minute, key, path, sender, reason, n, last_at) \
         SELECT new.*, $8 FROM UNNEST($1::uuid[], $2::timestamptz[], $3::text[], $4::text[], $5::text[], $6::text[], \
         $7::bigint[]) AS new ORDER BY 1 \
         ON CONFLICT (hash) DO UPDATE SET n = r.n + excluded.n, last_at = excluded.last_at",
    )
    .bind(
        refused
            .iter()
            .map(|(request, _)| uuid(hash(request)))
            .collect::<Vec<_>>(),
    )
    .bind(refused.iter().map(|(request, _)| request.minute).collect::<Vec<_>>())
    .bind(text(|request| &request.key))
    .bind(text(|request| &request.path))
    .bind(text(|request| &request.sender))
    .bind(text(|request| &request.reason))
    .bind(refused.iter().map(|(_, n)| *n).collect::<Vec<_>>())
    .bind(at)
    .execute(&mut *transaction)
    .await?;
    Ok(transaction.commit().await?)
}

/// Refusals listed one by one a day: anybody may send anything, known or not, and each takes half a kilobyte.
pub const MAX_REFUSED: i64 = 20_000;

/// Whether more refusals may be listed one by one; they are kept for a day.
async fn has_room(connection: &mut sqlx::PgConnection, refused: &[(RefusedRequest, i64)]) -> Result<bool, StoreError> {
    if refused.is_empty() {
        return Ok(true);
    }
    let (listed,): (i64,) = sqlx::query_as("SELECT count(*) FROM refused_request")
        .fetch_one(connection)
        .await?;
    Ok(listed < MAX_REFUSED)
}

/// Refusals as one of the minute.
fn together(refused: &[(RefusedRequest, i64)], at: DateTime<Utc>) -> Vec<(RefusedRequest, i64)> {
    let minute = refused.iter().map(|(request, _)| request.minute).max().unwrap_or(at);
    let request = RefusedRequest {
        minute,
        key: String::new(),
        path: String::new(),
        sender: "many senders".to_owned(),
        reason: "more different refusals than are listed one by one".to_owned(),
    };
    vec![(request, refused.iter().map(|(_, n)| n).sum())]
}

fn hash(request: &RefusedRequest) -> Digest {
    let mut hasher = Hasher::default();
    hasher.number(request.minute.timestamp().unsigned_abs());
    for text in [&request.key, &request.path, &request.sender, &request.reason] {
        hasher.part(text.as_bytes());
    }
    hasher.finish()
}

/// Refused requests since a time, the latest first.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn refused_since(
    database: &Database,
    since: DateTime<Utc>,
    limit: i64,
) -> Result<Vec<RefusedCount>, StoreError> {
    let statement = "SELECT minute, key, path, sender, reason, n, last_at FROM refused_request WHERE minute >= $1 \
                     ORDER BY last_at DESC, n DESC, hash LIMIT $2";
    Ok(sqlx::query_as(statement)
        .bind(since)
        .bind(limit)
        .fetch_all(&database.pool)
        .await?)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::database;

    fn secret(text: &str) -> Digest {
        Digest::of(["secret", text])
    }

    async fn holds(database: &Database, text: &str) -> bool {
        of_secret(database, secret(text)).await.unwrap().is_some()
    }

    #[tokio::test]
    async fn a_rotated_key_takes_both_secrets_for_a_while_and_a_revoked_one_none() {
        let database = database().await;
        add(&database, "pier-3", &Bounds::default(), secret("first"))
            .await
            .unwrap();
        assert!(matches!(
            add(&database, "pier-3", &Bounds::default(), secret("other")).await,
            Err(AccessError::Exists(_))
        ));
        rotate(&database, "pier-3", secret("second"), 3_600).await.unwrap();
        assert!(holds(&database, "first").await && holds(&database, "second").await);
        // Of an earlier rotation the oldest secret ends at once.
        rotate(&database, "pier-3", secret("third"), 3_600).await.unwrap();
        assert!(
            !holds(&database, "first").await && holds(&database, "second").await && holds(&database, "third").await
        );
        rotate(&database, "pier-3", secret("fourth"), 0).await.unwrap();
        assert!(!holds(&database, "third").await && holds(&database, "fourth").await);
        revoke(&database, "pier-3").await.unwrap();
        assert!(!holds(&database, "fourth").await);
        assert!(matches!(
            revoke(&database, "pier-3").await,
            Err(AccessError::Missing(_))
        ));
        assert!(matches!(
            rotate(&database, "pier-3", secret("fifth"), 60).await,
            Err(AccessError::Missing(_))
        ));
        assert!(
            list(&database).await.unwrap()[0].key.revoked_at.is_some(),
            "it stays in the list"
        );
    }

    #[tokio::test]
    async fn strangers_fill_no_more_than_so_many_rows_a_day() {
        let database = database().await;
        let now = Utc::now();
        let guess = |number: usize| {
            let request = RefusedRequest {
                minute: now,
                key: String::new(),
                path: format!("/guess/{number}"),
                sender: String::new(),
                reason: "nothing is taken at this path".to_owned(),
            };
            (request, 1)
        };
        let fill = "INSERT INTO refused_request SELECT gen_random_uuid(), now() - interval '1 hour', '', '', '', '', \
            1, now() - interval '1 hour' FROM generate_series(1, $1)";
        sqlx::query(fill)
            .bind(MAX_REFUSED - 1)
            .execute(&database.pool)
            .await
            .unwrap();
        note(&database, now, &[], &[guess(1)]).await.unwrap();
        for _ in 0..3 {
            note(&database, now, &[], &(2..102).map(guess).collect::<Vec<_>>())
                .await
                .unwrap();
        }
        let listed = refused_since(&database, now - chrono::TimeDelta::minutes(5), 100)
            .await
            .unwrap();
        let told: Vec<(&str, i64)> = listed.iter().map(|row| (row.request.sender.as_str(), row.n)).collect();
        assert_eq!(told, [("many senders", 300), ("", 1)]);
    }

    #[tokio::test]
    async fn keys_are_looked_up_while_every_reader_is_busy() {
        let database = database().await;
        add(&database, "pier-3", &Bounds::default(), secret("first"))
            .await
            .unwrap();
        let mut readers = vec![];
        while let Some(reader) = database.pool.try_acquire() {
            readers.push(reader);
        }
        while let Ok(reader) =
            tokio::time::timeout(std::time::Duration::from_millis(300), database.pool.acquire()).await
        {
            readers.push(reader.unwrap());
        }
        assert!(
            holds(&database, "first").await,
            "{} readers hold all connections of theirs",
            readers.len()
        );
        database.ping().await.unwrap();
    }
}
