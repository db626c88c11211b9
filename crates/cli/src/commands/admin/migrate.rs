//! `outcrop admin migrate`: brings the database to this version.

use outcrop_store::Database;

use crate::fault::Fault;
use crate::output::{counted, line};
use crate::settings::{DatabaseArgs, database_url};

pub async fn run(database: DatabaseArgs) -> Result<(), Fault> {
    let url = database_url(&database)?;
    let applied = Database::migrate(&url)
        .await
        .map_err(|error| Fault::Refused(error.to_string()))?;
    match applied {
        0 => line("The schema is that of this release already."),
        n => line(format!(
            "{} applied: the schema is that of this release now.",
            counted(n, "migration was", "migrations were")
        )),
    }
}
