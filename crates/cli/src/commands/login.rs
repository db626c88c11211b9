//! `outcrop login`: writes a profile.

use std::io::Read;

use clap::Args;
use outcrop_api::Member;

use crate::client::Api;
use crate::fault::Fault;
use crate::output::line;
use crate::profile;
use crate::profile::Profile;

#[derive(Args)]
#[command(
    after_help = "Example:\n  outcrop login https://outcrop.skerry.example --token-stdin < token.txt\n\n\
    The profile is written to $XDG_CONFIG_HOME/outcrop/profile.toml, readable by you alone.\n\
    OUTCROP_URL and OUTCROP_TOKEN win over it."
)]
pub struct Login {
    /// Where the service is.
    #[arg(value_name = "URL")]
    pub url: String,
    /// Read the token from standard input; `outcrop admin token create` makes one.
    #[arg(long, required = true)]
    pub token_stdin: bool,
}

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
