//! On the database directly, so that the first member can be made before anybody can sign in.

pub mod audit;
pub mod key;
pub mod member;
pub mod migrate;
pub mod session;
pub mod token;
pub mod weight;

use outcrop_store::people::AccessError;
use outcrop_store::{Database, StoreError};

use crate::args::DatabaseArgs;
use crate::fault::Fault;
use crate::settings::database_url;

async fn open(arguments: DatabaseArgs) -> Result<Database, Fault> {
    let url = database_url(&arguments)?;
    Database::connect(&url)
        .await
        .map_err(|error| Fault::Refused(error.to_string()))
}

/// Who works on the database, for the record: the system's user, since nobody has signed in.
fn who() -> String {
    format!(
        "{} on the database",
        std::env::var("USER")
            .ok()
            .filter(|user| !user.is_empty())
            .unwrap_or_else(|| "somebody".to_owned())
    )
}

/// Writes down a change of the set-up.
async fn note(database: &Database, did: &str, subject: &str) -> Result<(), Fault> {
    outcrop_store::people::audit::note(database, &who(), did, subject)
        .await
        .map_err(|error| away(&error))
}

fn refused(error: &AccessError) -> Fault {
    match error {
        AccessError::Exists(_) | AccessError::Missing(_) | AccessError::LastAdmin(_) => Fault::Usage(error.to_string()),
        AccessError::Store(store) => away(store),
    }
}

fn away(error: &StoreError) -> Fault {
    Fault::Refused(error.to_string())
}
