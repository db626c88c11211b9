//! What can go wrong with the database, by what a caller can do about it.

/// What can go wrong between here and the database.
#[derive(Debug, thiserror::Error)]
pub enum StoreError {
    /// The database cannot be reached, is shutting down, or has no connection free: try again later.
    #[error("the database is not reachable: {0}")]
    Away(#[source] sqlx::Error),
    /// The database refused the data itself: trying again will not help.
    #[error("the database refused the data: {0}")]
    Data(#[source] sqlx::Error),
    /// It cannot be handled at all: a fault of ours, or data that no sender should send. Trying again will not help.
    #[error("the data cannot be handled: {0}")]
    Unusable(String),
    /// What was named is not one thing.
    #[error("{0}")]
    Ambiguous(String),
    /// There is no room for more: the message says how much there is and must be.
    #[error("{0}")]
    NoRoom(String),
    /// The standby does not follow the primary: the message says how.
    #[error("{0}")]
    Standby(String),
    /// It took longer than a batch may: with less at once it may not.
    #[error("the database took too long: {0}")]
    TooLong(#[source] sqlx::Error),
    /// Two transactions stood in each other's way: trying again helps.
    #[error("the transaction has to be repeated: {0}")]
    Repeat(#[source] sqlx::Error),
    /// Anything else.
    #[error("the database reported: {0}")]
    Other(#[source] sqlx::Error),
}

impl From<sqlx::Error> for StoreError {
    fn from(error: sqlx::Error) -> Self {
        use sqlx::Error;
        let code = match &error {
            Error::Database(database) => database.code().map(std::borrow::Cow::into_owned),
            Error::Io(_)
            | Error::PoolTimedOut
            | Error::PoolClosed
            | Error::WorkerCrashed
            | Error::Tls(_)
            | Error::Protocol(_) => {
                return Self::Away(error);
            }
            _ => None,
        };
        // SQLSTATE classes, PostgreSQL documentation, appendix A.
        match code.as_deref() {
            Some("40001" | "40P01" | "55P03") => Self::Repeat(error),
            // `query_canceled`: by `statement_timeout`.
            Some("57014") => Self::TooLong(error),
            Some(code) if ["22", "23", "54"].iter().any(|class| code.starts_with(class)) => Self::Data(error),
            Some(code)
                if ["08", "57", "53", "25", "58"]
                    .iter()
                    .any(|class| code.starts_with(class)) =>
            {
                Self::Away(error)
            }
            _ => Self::Other(error),
        }
    }
}

impl StoreError {
    /// Whether the same may succeed later without anybody doing anything.
    #[must_use]
    pub const fn is_temporary(&self) -> bool {
        matches!(
            self,
            Self::Away(_) | Self::NoRoom(_) | Self::Standby(_) | Self::Repeat(_) | Self::TooLong(_)
        )
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_does_not_come_from_the_data_may_succeed_later() {
        assert!(StoreError::from(sqlx::Error::PoolTimedOut).is_temporary());
        assert!(StoreError::from(sqlx::Error::Protocol("cut off".to_owned())).is_temporary());
        assert!(!StoreError::from(sqlx::Error::RowNotFound).is_temporary());
        assert!(!StoreError::Unusable("a day past tomorrow".to_owned()).is_temporary());
    }
}
