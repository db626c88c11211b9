//! On the database directly, so that the first member can be made before anybody can sign in.

pub mod key;
pub mod member;
pub mod token;
pub mod weight;

use outcrop_store::access::AccessError;
use outcrop_store::{Database, StoreError};

use crate::args::DatabaseArgs;
use crate::fault::Fault;
use crate::settings::database_url;

async fn open(arguments: DatabaseArgs) -> Result<Database, Fault> {
    let url = database_url(&arguments)?;
    Database::open(&url).await.map_err(|error| Fault::Refused(error.to_string()))
}

fn refused(error: &AccessError) -> Fault {
    match error {
        AccessError::Exists(_) | AccessError::Missing(_) => Fault::Usage(error.to_string()),
        AccessError::Store(store) => away(store),
    }
}

fn away(error: &StoreError) -> Fault {
    Fault::Refused(error.to_string())
}
