//! Arguments of what people do about errors.

use clap::Args;

use super::Client;

#[derive(Args)]
#[command(
    after_help = "Examples:\n  outcrop take kobal-tirun\n  outcrop take kobal-tirun 'deck team'\n  outcrop take \
        kobal-tirun --back"
)]
pub struct Take {
    /// The error's reference.
    #[arg(value_name = "REF")]
    pub reference: String,
    /// A person or team; yourself where not given.
    #[arg(value_name = "WHO")]
    pub who: Option<String>,
    /// Hand it back: nobody has it any more.
    #[arg(long, conflicts_with = "who")]
    pub back: bool,
    #[command(flatten)]
    pub client: Client,
}

#[derive(Args)]
#[command(
    after_help = "Example:\n  outcrop settle kobal-tirun 2.4.1      it must not occur in 2.4.1 or later; where it \
        does, it is said to have returned"
)]
pub struct Settle {
    /// The error's reference.
    #[arg(value_name = "REF")]
    pub reference: String,
    /// The version from which on it must not occur; it need not be deployed yet.
    #[arg(value_name = "VERSION")]
    pub version: String,
    #[command(flatten)]
    pub client: Client,
}

#[derive(Args)]
#[command(
    after_help = "Examples:\n  outcrop quiet kobal-tirun --for 2d\n  outcrop quiet kobal-tirun --until-where 'users > \
        50'"
)]
pub struct Quiet {
    /// The error's reference.
    #[arg(value_name = "REF")]
    pub reference: String,
    /// For how long.
    #[arg(long = "for", value_name = "TIME", required_unless_present = "predicate")]
    pub time: Option<String>,
    /// Until this predicate holds for what occurs from now on.
    #[arg(long = "until-where", value_name = "PREDICATE", conflicts_with = "time")]
    pub predicate: Option<String>,
    #[command(flatten)]
    pub client: Client,
}

#[derive(Args)]
#[command(after_help = "Example:\n  outcrop reopen kobal-tirun")]
pub struct Reopen {
    /// The error's reference.
    #[arg(value_name = "REF")]
    pub reference: String,
    #[command(flatten)]
    pub client: Client,
}

#[derive(Args)]
#[command(after_help = "Example:\n  outcrop note kobal-tirun 'winter tariffs have no rate: asked the tariff desk'")]
pub struct Note {
    /// The error's reference.
    #[arg(value_name = "REF")]
    pub reference: String,
    /// What is worth knowing.
    #[arg(value_name = "TEXT")]
    pub text: String,
    #[command(flatten)]
    pub client: Client,
}
