use std::io::Read;

use outcrop_server::MIN_PASSWORD;
use outcrop_store::access;

use super::{open, refused};
use crate::args::{DatabaseArgs, MemberAdd, Role};
use crate::fault::Fault;
use crate::output::line;

pub async fn add(database: DatabaseArgs, arguments: MemberAdd) -> Result<(), Fault> {
    let email = arguments.email.trim();
    if !email.split_once('@').is_some_and(|(name, host)| !name.is_empty() && !host.is_empty()) {
        return Err(Fault::Usage(format!("`{email}` is no e-mail address")));
    }
    let mut password = String::new();
    std::io::stdin().read_to_string(&mut password).map_err(|error| Fault::Usage(format!("the password cannot be read: {error}")))?;
    let password = password.trim_end_matches(['\n', '\r']);
    if password.chars().count() < MIN_PASSWORD {
        return Err(Fault::Usage(format!("the password is too short; take at least {MIN_PASSWORD} characters")));
    }
    let hash = outcrop_server::hash_password(password).map_err(|error| Fault::Usage(format!("the password cannot be used: {error}")))?;
    let role = match arguments.role {
        Role::Viewer => "viewer",
        Role::Engineer => "engineer",
        Role::Admin => "admin",
    };
    let database = open(database).await?;
    access::add_member(&database, email, role, &hash).await.map_err(|error| refused(&error))?;
    line(format!("{email} is a member now ({role})"))
}
