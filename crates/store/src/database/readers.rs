//! Who answers what only reads: the primary, or a standby that follows it.

use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use super::{Database, OpenError};
use crate::{StoreError, boxed};

/// How long a question waits until the standby has what was committed before it was asked, and how often it looks.
const CATCH_UP: Duration = Duration::from_millis(300);
const LOOK_EVERY: Duration = Duration::from_millis(10);
/// A standby further behind than this does not answer in the primary's place.
const MOST_BEHIND: Duration = Duration::from_mins(1);
/// How long a server that did not answer is not asked again.
const REST: Duration = Duration::from_secs(5);

/// Connections for what only reads. Without a standby they go to the primary.
#[derive(Clone, Debug)]
pub struct Readers {
    primary: Server,
    standby: Option<Server>,
}

/// The database as one server has it, and whether that answers.
#[derive(Clone, Debug)]
struct Server {
    database: Database,
    /// When it last did not answer.
    away: Arc<Mutex<Option<Instant>>>,
}

/// The database of one question.
#[derive(Clone, Debug)]
pub struct Reader {
    /// It can only be read.
    pub database: Database,
    /// Whether a standby answers.
    pub is_standby: bool,
    /// What may be missing in the answer; `None` where it has all that was committed before the question.
    pub behind: Option<Behind>,
}

/// How far a standby is behind.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Behind {
    /// The newest that it has was committed so long ago. That may be all there is.
    By(Duration),
    /// It has got nothing since it started.
    Unknown,
}

impl Server {
    fn new(database: Database) -> Self {
        Self {
            database,
            away: Arc::new(Mutex::new(None)),
        }
    }

    fn rests(&self) -> bool {
        let away = self.away.lock().unwrap_or_else(PoisonError::into_inner);
        away.is_some_and(|since| since.elapsed() < REST)
    }

    /// Keeps in mind whether it answered.
    fn note<T>(&self, answer: Result<T, StoreError>) -> Result<T, StoreError> {
        let mut away = self.away.lock().unwrap_or_else(PoisonError::into_inner);
        *away = answer.is_err().then(Instant::now);
        drop(away);
        answer
    }
}

impl Readers {
    /// Readers of a database, and of the standby at a URL. Connects to neither.
    ///
    /// # Errors
    /// [`OpenError::Url`] where the URL is none.
    pub fn new(database: &Database, standby: Option<&str>) -> Result<Self, OpenError> {
        let standby = standby.map(|url| database.only_read(Some(url))).transpose()?;
        Ok(Self {
            primary: Server::new(database.only_read(None)?),
            standby: standby.map(Server::new),
        })
    }

    /// Whether there is a standby.
    #[must_use]
    pub const fn has_standby(&self) -> bool {
        self.standby.is_some()
    }

    /// The database for a question that only reads.
    ///
    /// A standby answers where it has all that was committed before the question, for which it is waited 0.3 s. One that is
    /// up to a minute behind answers too, unless the newest is wanted. Where the primary does not answer, the standby does,
    /// however far behind.
    ///
    /// Must be called on the runtime that reads.
    #[boxed]
    pub async fn choose(&self, wants_newest: bool) -> Reader {
        let primary = Reader {
            database: self.primary.database.clone(),
            is_standby: false,
            behind: None,
        };
        let Some(standby) = self.standby.as_ref().filter(|standby| !standby.rests()) else {
            return primary;
        };
        let committed = self.committed().await;
        let Ok(behind) = standby.note(behind(&standby.database, committed.as_deref()).await) else {
            return primary;
        };
        let takes = match behind {
            None => true,
            Some(_) if committed.is_none() => true,
            Some(Behind::By(time)) => !wants_newest && time <= MOST_BEHIND,
            Some(Behind::Unknown) => false,
        };
        if !takes {
            return primary;
        }
        Reader {
            database: standby.database.clone(),
            is_standby: true,
            behind,
        }
    }

    /// Says whether the standby follows. Nothing is said where there is none.
    ///
    /// # Errors
    /// [`StoreError::Standby`] with a sentence where it does not answer, is none, or is further behind than one that answers
    /// may be; others where the primary does not answer.
    #[boxed]
    pub async fn check(&self) -> Result<(), StoreError> {
        let Some(standby) = &self.standby else { return Ok(()) };
        let committed = self.primary.note(position(&self.primary.database).await)?;
        match standby.note(behind(&standby.database, Some(&committed)).await) {
            Ok(Some(Behind::By(time))) if time > MOST_BEHIND => Err(StoreError::Standby(format!(
                "the standby is {} s behind: the primary answers what only reads",
                time.as_secs()
            ))),
            Ok(_) => Ok(()),
            Err(StoreError::Standby(why)) => Err(StoreError::Standby(why)),
            Err(error) => {
                tracing::debug!(%error, "the standby did not say how far it is");
                Err(StoreError::Standby(
                    "the standby does not answer: the primary answers what only reads".to_owned(),
                ))
            }
        }
    }

    /// Closes all connections, once those in use are done.
    #[boxed]
    pub async fn close(&self) {
        for server in std::iter::once(&self.primary).chain(&self.standby) {
            server.database.close().await;
        }
    }

    /// How far the primary has written its log; `None` where it does not answer.
    async fn committed(&self) -> Option<String> {
        if self.primary.rests() {
            return None;
        }
        self.primary.note(position(&self.primary.database).await).ok()
    }
}

async fn position(primary: &Database) -> Result<String, StoreError> {
    let statement = "SELECT pg_current_wal_lsn()::text";
    Ok(sqlx::query_scalar(statement).fetch_one(&primary.checking).await?)
}

/// How far a standby is behind a position of the log, after a while in which it may catch up; `None` where it has come so far.
async fn behind(standby: &Database, position: Option<&str>) -> Result<Option<Behind>, StoreError> {
    let began = Instant::now();
    loop {
        let (follows, is_there, age): (bool, bool, Option<f64>) = sqlx::query_as(
            "SELECT pg_is_in_recovery(), coalesce(pg_last_wal_replay_lsn() >= $1::pg_lsn, false), \
             extract(epoch FROM clock_timestamp() - pg_last_xact_replay_timestamp())::float8",
        )
        .bind(position)
        .fetch_one(&standby.pool)
        .await?;
        if !follows {
            return Err(StoreError::Standby(
                "the database at the read URL is no standby: the primary answers what only reads".to_owned(),
            ));
        }
        if is_there {
            return Ok(None);
        }
        if position.is_none() || began.elapsed() >= CATCH_UP {
            let age = age.map(|seconds| Duration::try_from_secs_f64(seconds.max(0.0)).unwrap_or(Duration::MAX));
            return Ok(Some(age.map_or(Behind::Unknown, Behind::By)));
        }
        tokio::time::sleep(LOOK_EVERY).await;
    }
}

#[cfg(test)]
mod tests {
    use outcrop_testkit::{Durability, Postgres};

    use super::*;
    use crate::people::add_member;
    use crate::testing::number;

    const MEMBERS: &str = "SELECT count(*) FROM member";

    async fn member(database: &Database, name: &str) {
        add_member(database, &format!("{name}@skerry.example"), "viewer", "hash")
            .await
            .unwrap();
    }

    #[tokio::test]
    async fn without_a_standby_the_primary_answers_and_lets_nothing_be_changed() {
        let database = crate::testing::database().await;
        let readers = Readers::new(&database, None).unwrap();
        let reader = readers.choose(false).await;
        assert!(!reader.is_standby && reader.behind.is_none());
        member(&database, "mate").await;
        assert_eq!(number(&reader.database, MEMBERS).await, 1);
        for seen in [reader.database.clone(), reader.database.seen_by(&[1])] {
            let refused = sqlx::query("UPDATE member SET role = 'admin'")
                .execute(&seen.pool)
                .await;
            assert!(refused.unwrap_err().to_string().contains("read-only transaction"));
        }
        readers.check().await.unwrap();
    }

    #[tokio::test]
    async fn a_standby_answers_with_what_was_committed_until_it_falls_behind_or_ends() {
        let primary = Postgres::start(Durability::Volatile);
        let url = primary.database();
        let database = Database::open(&url).await.unwrap();
        let mut standby = primary.standby();
        let readers = Readers::new(&database, Some(&standby.url_of(&url))).unwrap();
        for (at, name) in ["mate", "purser", "bosun"].into_iter().enumerate() {
            member(&database, name).await;
            let reader = readers.choose(false).await;
            assert!(reader.is_standby && reader.behind.is_none(), "{reader:?}");
            assert_eq!(number(&reader.database, MEMBERS).await, i64::try_from(at).unwrap() + 1);
        }
        readers.check().await.unwrap();

        // It gets what is committed and does not look at it.
        let at_standby = readers.standby.as_ref().unwrap().database.clone();
        sqlx::query("SELECT pg_wal_replay_pause()")
            .execute(&at_standby.pool)
            .await
            .unwrap();
        member(&database, "cook").await;
        let reader = readers.choose(false).await;
        assert!(
            matches!(reader.behind, Some(Behind::By(time)) if time < MOST_BEHIND),
            "{reader:?}"
        );
        assert_eq!(number(&reader.database, MEMBERS).await, 3);
        let newest = readers.choose(true).await;
        assert!(!newest.is_standby && newest.behind.is_none());
        assert_eq!(number(&newest.database, MEMBERS).await, 4);
        sqlx::query("SELECT pg_wal_replay_resume()")
            .execute(&at_standby.pool)
            .await
            .unwrap();

        standby.stop();
        let reader = readers.choose(false).await;
        assert!(!reader.is_standby);
        let why = readers.check().await.unwrap_err();
        assert!(why.to_string().starts_with("the standby does not answer"), "{why}");
        standby.resume();
        readers.check().await.unwrap();
        assert!(readers.choose(false).await.is_standby);
    }

    #[tokio::test]
    async fn without_the_primary_the_standby_answers_and_one_that_was_promoted_is_none_any_more() {
        let mut primary = Postgres::start(Durability::Volatile);
        let url = primary.database();
        let database = Database::open(&url).await.unwrap();
        let standby = primary.standby();
        let of_standby = standby.url_of(&url);
        let readers = Readers::new(&database, Some(&of_standby)).unwrap();
        member(&database, "mate").await;
        assert!(readers.choose(false).await.behind.is_none());
        primary.stop();
        let reader = readers.choose(true).await;
        assert!(reader.is_standby && reader.behind.is_some());
        assert_eq!(number(&reader.database, MEMBERS).await, 1);

        standby.promote();
        let promoted = Database::open(&of_standby).await.unwrap();
        member(&promoted, "purser").await;
        let readers = Readers::new(&promoted, Some(&of_standby)).unwrap();
        assert!(!readers.choose(false).await.is_standby);
        let why = readers.check().await.unwrap_err();
        assert!(why.to_string().contains("is no standby"), "{why}");
        assert_eq!(number(&readers.choose(false).await.database, MEMBERS).await, 2);
    }

    #[test]
    fn a_url_that_is_none_is_refused() {
        let runtime = tokio::runtime::Builder::new_current_thread()
            .enable_all()
            .build()
            .unwrap();
        runtime.block_on(async {
            let database = crate::testing::database().await;
            assert!(matches!(
                Readers::new(&database, Some("no url")),
                Err(OpenError::Url(_))
            ));
        });
    }
}
