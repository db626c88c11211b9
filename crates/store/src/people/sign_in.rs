//! Signing in by password: how often it may be tried. Three counts of failures slow guessing down:
//! of one account from one address, of one address over all accounts, and of one account from all
//! addresses. The last two hold up nobody at an address that they signed in from before, so that
//! neither a stranger's guesses nor a neighbour behind the same proxy lock a member out.

use outcrop_core::Digest;
use sqlx::FromRow;

use crate::boxed;
use crate::ids::uuid;
use crate::{Database, StoreError};

/// Failures in a row that cost no wait: of one account from one address, of one address, of one account.
const FREE: [i32; 3] = [3, 100, 20];
/// Days for which it is remembered where a member signed in from.
pub const ADDRESS_DAYS: i32 = 90;
/// Minutes of quiet after which failures are forgotten.
pub const FORGOTTEN_MINUTES: i32 = 60;

/// Who tries, and from where.
#[derive(Clone, Debug)]
pub struct Attempt {
    email: String,
    address: Digest,
}

impl Attempt {
    /// An attempt with an e-mail address, from a network address as text.
    #[must_use]
    pub fn new(email: &str, address: &str) -> Self {
        Self {
            email: email.trim().to_lowercase(),
            address: Digest::of(["sign in from", address]),
        }
    }

    /// The counts it falls under, as [`FREE`] has them.
    fn keys(&self) -> [Digest; 3] {
        let address = self.address.to_string();
        [
            Digest::of(["account from address", &self.email, &address]),
            Digest::of(["address", &address]),
            Digest::of(["account", &self.email]),
        ]
    }
}

/// What signing in needs to know of a member.
#[derive(Clone, Debug, FromRow)]
pub struct Credentials {
    /// The member's number.
    pub id: i32,
    /// What the password is checked against.
    pub password_hash: String,
    /// Whether they signed in from this address before.
    is_known_here: bool,
}

/// What is to be done with an attempt.
#[derive(Clone, Debug)]
pub enum Turn {
    /// The password is looked at; it counts as a failure until [`succeeded`] says otherwise, so
    /// that guesses sent at once count each.
    Now(Option<Credentials>),
    /// It is not looked at before so many seconds have passed.
    In(i64),
}

/// Begins an attempt.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn begin(database: &Database, attempt: &Attempt) -> Result<Turn, StoreError> {
    let known: Option<Credentials> = sqlx::query_as(
        "SELECT id, password_hash, EXISTS (SELECT FROM known_address WHERE member_id = member.id AND address = $2 AND \
         last_at > now() - make_interval(days => $3)) \
             AS is_known_here FROM member WHERE lower(email) = $1",
    )
    .bind(&attempt.email)
    .bind(uuid(attempt.address))
    .bind(ADDRESS_DAYS)
    .fetch_optional(&database.pool)
    .await?;
    let counts = if known.as_ref().is_some_and(|known| known.is_known_here) {
        1
    } else {
        FREE.len()
    };
    for (key, free) in attempt.keys().into_iter().zip(FREE).take(counts) {
        let wait = count(database, key, free).await?;
        if wait > 0 {
            return Ok(Turn::In(wait));
        }
    }
    Ok(Turn::Now(known))
}

/// Counts a failure under a key and returns 0; or counts nothing and returns the seconds to wait:
/// 2, 4, 8 … 60 for each failure past the free ones.
async fn count(database: &Database, key: Digest, free: i32) -> Result<i64, StoreError> {
    const WAIT: &str =
        "make_interval(secs => CASE WHEN f.n < $2 THEN 0 ELSE LEAST(60, 2 ^ LEAST(f.n - $2 + 1, 6)) END)";
    let statement = format!(
        "WITH counted AS (INSERT INTO sign_in_failure AS f (key, n, last_at) VALUES ($1, 1, now()) \
             ON CONFLICT (key) DO UPDATE SET last_at = now(), n = CASE WHEN f.last_at < now() - make_interval(mins => \
             $3) THEN 1 ELSE LEAST(f.n + 1, 1000000) END \
             WHERE f.last_at < now() - make_interval(mins => $3) OR f.last_at + {WAIT} <= now() RETURNING 1) \
         SELECT CASE WHEN EXISTS (SELECT FROM counted) THEN 0 \
             ELSE coalesce((SELECT GREATEST(1, ceil(extract(epoch FROM f.last_at + {WAIT} - now()))) FROM \
             sign_in_failure f WHERE key = $1), 1) END::bigint"
    );
    let (wait,): (i64,) = sqlx::query_as(sqlx::AssertSqlSafe(statement))
        .bind(uuid(key))
        .bind(free)
        .bind(FORGOTTEN_MINUTES)
        .fetch_one(&database.pool)
        .await?;
    Ok(wait)
}

/// Takes back what an attempt counted: the password was right. The member is known at the address from now on.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn succeeded(database: &Database, attempt: &Attempt, member: i32) -> Result<(), StoreError> {
    let [here, address, account] = attempt.keys().map(uuid);
    sqlx::query(
        "WITH forgotten AS (DELETE FROM sign_in_failure WHERE key = $1), \
             less AS (UPDATE sign_in_failure SET n = n - 1 WHERE key IN ($2, $3) AND n > 0) \
         INSERT INTO known_address (member_id, address) VALUES ($4, $5) ON CONFLICT (member_id, address) DO UPDATE \
         SET last_at = now()",
    )
    .bind(here)
    .bind(address)
    .bind(account)
    .bind(member)
    .bind(uuid(attempt.address))
    .execute(&database.pool)
    .await?;
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::people::add_member;
    use crate::testing::{database, number};

    async fn member(database: &Database) -> i32 {
        add_member(database, "purser@skerry.example", "engineer", "hash")
            .await
            .unwrap();
        i32::try_from(number(database, "SELECT max(id)::bigint FROM member").await).unwrap()
    }

    async fn wait(database: &Database, email: &str, address: &str) -> i64 {
        match begin(database, &Attempt::new(email, address)).await.unwrap() {
            Turn::Now(_) => 0,
            Turn::In(seconds) => seconds,
        }
    }

    #[tokio::test]
    async fn guesses_wait_ever_longer_and_are_forgotten_by_success_or_an_hour_of_quiet() {
        let database = database().await;
        let id = member(&database).await;
        let mut waits = vec![];
        for _ in 0..8 {
            while wait(&database, "purser@skerry.example", "10.0.0.7").await > 0 {
                waits.push(wait(&database, "purser@skerry.example", "10.0.0.7").await);
                sqlx::query("UPDATE sign_in_failure SET last_at = last_at - interval '61 seconds'")
                    .execute(&database.pool)
                    .await
                    .unwrap();
            }
        }
        assert_eq!(waits, [2, 4, 8, 16, 32], "a minute later it may be tried again");
        assert_eq!(
            wait(&database, "bosun@skerry.example", "10.0.0.8").await,
            0,
            "others are not held up"
        );
        sqlx::query("UPDATE sign_in_failure SET last_at = now() - interval '61 minutes'")
            .execute(&database.pool)
            .await
            .unwrap();
        let attempt = Attempt::new(" Purser@Skerry.example ", "10.0.0.7");
        assert!(
            matches!(begin(&database, &attempt).await.unwrap(), Turn::Now(Some(_))),
            "it counts as the first"
        );
        succeeded(&database, &attempt, id).await.unwrap();
        assert_eq!(wait(&database, "purser@skerry.example", "10.0.0.7").await, 0);
    }

    #[tokio::test]
    async fn guesses_sent_at_once_are_counted_each() {
        let database = database().await;
        member(&database).await;
        let guesses = (0..30).map(|_| wait(&database, "purser@skerry.example", "10.0.0.7"));
        let looked_at = futures_util::future::join_all(guesses)
            .await
            .into_iter()
            .filter(|wait| *wait == 0)
            .count();
        assert!((1..=3).contains(&looked_at), "{looked_at} were looked at");
    }

    #[tokio::test]
    async fn nobody_is_locked_out_where_they_signed_in_before() {
        let database = database().await;
        let id = member(&database).await;
        let own = Attempt::new("purser@skerry.example", "10.0.0.7");
        begin(&database, &own).await.unwrap();
        succeeded(&database, &own, id).await.unwrap();
        // A stranger guesses at the account from many addresses, and at many accounts from the member's own: a proxy's.
        for number in 0..40 {
            wait(&database, "purser@skerry.example", &format!("192.0.2.{number}")).await;
        }
        for number in 0..150 {
            wait(&database, &format!("guess-{number}@skerry.example"), "10.0.0.7").await;
        }
        assert!(
            wait(&database, "purser@skerry.example", "192.0.2.200").await > 0,
            "the account is guessed at"
        );
        assert!(
            wait(&database, "guess-200@skerry.example", "10.0.0.7").await > 0,
            "the address guesses"
        );
        assert_eq!(
            wait(&database, "purser@skerry.example", "10.0.0.7").await,
            0,
            "but the member comes in"
        );
    }
}
