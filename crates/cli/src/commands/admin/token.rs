use outcrop_server::Secret;
use outcrop_store::access;

use super::{open, refused};
use crate::args::DatabaseArgs;
use crate::fault::Fault;
use crate::output::line;

pub async fn create(database: DatabaseArgs, email: &str, pipeline: bool) -> Result<(), Fault> {
    let database = open(database).await?;
    let secret = Secret::random("outcrop-token");
    access::add_token(&database, email, secret.digest(), pipeline).await.map_err(|error| match error {
        access::AccessError::Missing(_) => Fault::Usage(format!("there is no member `{email}`; `outcrop admin member add` makes one")),
        other => refused(&other),
    })?;
    line(secret.expose())
}
