//! The advisory locks that instances on one database share: each guards one piece of work.

use crate::boxed;
use sqlx::PgConnection;

/// A piece of work that one instance at a time does. The name is the lock's key, which all releases share.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Lock {
    /// Making partitions.
    Partitions,
    /// Making tables for spans that have just come.
    HotTable,
    /// Moving spans that are kept out of those tables, and dropping them.
    HotDrain,
    /// Finding where failures of traces began.
    Origins,
    /// Making causes and moving them between errors.
    Causes,
    /// Folding parts of latency sketches.
    Latency,
    /// Folding counts of instance groups.
    Groups,
    /// Folding whom errors reach.
    Reach,
    /// Deciding flags.
    Flags,
    /// Learning which services stand behind called names.
    BehindNames,
    /// Removing rows past their time.
    Upkeep,
    /// Deleting what people had deleted.
    Cleaning,
    /// Emptying the oldest days of what takes too much room.
    Space,
    /// Planning what is sent of notices.
    Notices,
    /// Counting anew what lists of errors show.
    Board,
    /// Answering for deploys anew.
    Deploys,
}

impl Lock {
    /// All of them.
    #[cfg(test)]
    const ALL: [Self; 16] = [
        Self::Partitions,
        Self::HotTable,
        Self::HotDrain,
        Self::Origins,
        Self::Causes,
        Self::Latency,
        Self::Groups,
        Self::Reach,
        Self::Flags,
        Self::BehindNames,
        Self::Upkeep,
        Self::Cleaning,
        Self::Space,
        Self::Notices,
        Self::Board,
        Self::Deploys,
    ];

    const fn name(self) -> &'static str {
        match self {
            Self::Partitions => "outcrop partition",
            Self::HotTable => "outcrop hot table",
            Self::HotDrain => "outcrop hot drain",
            Self::Origins => "outcrop origins",
            Self::Causes => "outcrop causes",
            Self::Latency => "outcrop latency",
            Self::Groups => "outcrop groups",
            Self::Reach => "outcrop reach",
            Self::Flags => "outcrop flags",
            Self::BehindNames => "outcrop behind names",
            Self::Upkeep => "outcrop upkeep",
            Self::Cleaning => "outcrop cleaning",
            Self::Space => "outcrop space",
            Self::Notices => "outcrop notices",
            Self::Board => "outcrop board",
            Self::Deploys => "outcrop deploys",
        }
    }

    /// Waits for the lock, and holds it until the transaction ends.
    #[boxed]
    pub async fn take(self, transaction: &mut PgConnection) -> Result<(), sqlx::Error> {
        sqlx::query("SELECT pg_advisory_xact_lock(hashtext($1))")
            .bind(self.name())
            .execute(transaction)
            .await?;
        Ok(())
    }

    /// Takes the lock until the transaction ends, unless another instance holds it; returns whether it was taken.
    #[boxed]
    pub async fn try_take(self, transaction: &mut PgConnection) -> Result<bool, sqlx::Error> {
        let (is_taken,) = sqlx::query_as("SELECT pg_try_advisory_xact_lock(hashtext($1))")
            .bind(self.name())
            .fetch_one(transaction)
            .await?;
        Ok(is_taken)
    }

    /// Takes the lock for several transactions of one connection, until [`Lock::release`]; returns whether it was taken.
    #[boxed]
    pub async fn try_hold(self, connection: &mut PgConnection) -> Result<bool, sqlx::Error> {
        let (is_taken,) = sqlx::query_as("SELECT pg_try_advisory_lock(hashtext($1))")
            .bind(self.name())
            .fetch_one(connection)
            .await?;
        Ok(is_taken)
    }

    /// Lets go what [`Lock::try_hold`] took. Where this fails the connection must be closed: the lock goes with it.
    #[boxed]
    pub async fn release(self, connection: &mut PgConnection) -> Result<(), sqlx::Error> {
        sqlx::query("SELECT pg_advisory_unlock(hashtext($1))")
            .bind(self.name())
            .execute(connection)
            .await?;
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use sqlx::Connection as _;

    use super::*;
    use crate::testing;

    #[test]
    fn no_two_locks_share_a_name() {
        let mut names = Lock::ALL.map(Lock::name).to_vec();
        names.sort_unstable();
        names.dedup();
        assert_eq!(names.len(), Lock::ALL.len());
    }

    #[tokio::test]
    async fn one_transaction_at_a_time_has_a_lock_and_its_end_lets_it_go() {
        let database = testing::database().await;
        let mut first = database.pool.acquire().await.unwrap();
        let mut second = database.pool.acquire().await.unwrap();
        let mut one = first.begin().await.unwrap();
        Lock::Flags.take(&mut one).await.unwrap();
        let mut other = second.begin().await.unwrap();
        assert!(!Lock::Flags.try_take(&mut other).await.unwrap());
        assert!(
            Lock::Reach.try_take(&mut other).await.unwrap(),
            "another lock is another lock"
        );
        one.rollback().await.unwrap();
        assert!(Lock::Flags.try_take(&mut other).await.unwrap());
    }

    #[tokio::test]
    async fn a_held_lock_outlasts_transactions_until_it_is_released() {
        let database = testing::database().await;
        let mut first = database.pool.acquire().await.unwrap();
        let mut second = database.pool.acquire().await.unwrap();
        assert!(Lock::Space.try_hold(&mut first).await.unwrap());
        first.begin().await.unwrap().commit().await.unwrap();
        assert!(!Lock::Space.try_hold(&mut second).await.unwrap());
        Lock::Space.release(&mut first).await.unwrap();
        assert!(Lock::Space.try_hold(&mut second).await.unwrap());
    }
}
