//! The database that a command of `outcrop admin` works on, and what it notes and refuses.

use outcrop_store::people::AccessError;
use outcrop_store::{Database, StoreError};

use crate::fault::Fault;
use crate::settings::{DatabaseArgs, database_url};

pub(super) fn away(error: &StoreError) -> Fault {
    Fault::Refused(error.to_string())
}

pub(super) async fn open(arguments: DatabaseArgs) -> Result<Database, Fault> {
    let url = database_url(&arguments)?;
    Database::connect(&url)
        .await
        .map_err(|error| Fault::Refused(error.to_string()))
}

/// Who works on the database, for the record: the system's user, since nobody has signed in.
pub(in crate::commands) fn who() -> String {
    format!(
        "{} on the database",
        std::env::var("USER")
            .ok()
            .filter(|user| !user.is_empty())
            .unwrap_or_else(|| "somebody".to_owned())
    )
}

/// Writes down a change of the set-up.
pub(in crate::commands) async fn note(database: &Database, did: &str, subject: &str) -> Result<(), Fault> {
    outcrop_store::people::audit::note(database, &who(), did, subject)
        .await
        .map_err(|error| away(&error))
}

pub(super) fn refused(error: &AccessError) -> Fault {
    match error {
        AccessError::Exists(_) | AccessError::Missing(_) | AccessError::LastAdmin(_) => Fault::Usage(error.to_string()),
        AccessError::Store(store) => away(store),
    }
}
