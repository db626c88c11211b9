//! `outcrop login`: writes a profile.

use std::io::Read;

use outcrop_api::Member;

use crate::args::Login;
use crate::client::Api;
use crate::fault::Fault;
use crate::output::line;
use crate::profile;
use crate::profile::Profile;

/// Checks the token with the service, then keeps both.
pub async fn run(arguments: Login) -> Result<(), Fault> {
    let mut token = String::new();
    std::io::stdin()
        .read_to_string(&mut token)
        .map_err(|error| Fault::Usage(format!("the token cannot be read: {error}")))?;
    let token = token.trim().to_owned();
    if token.is_empty() {
        return Err(Fault::Usage("no token on standard input".to_owned()));
    }
    let url = arguments.url.trim_end_matches('/').to_owned();
    let member: Member = Api::with(&url, token.clone())?.get("/session", &[]).await?;
    let path = profile::write(&Profile { url, token })?;
    line(format!(
        "You are {} ({}). Kept in {}",
        member.email,
        member.role,
        path.display()
    ))
}
