//! On the database directly, so that the first member can be made before anybody can sign in.

pub mod audit;
pub(super) mod database;
pub mod key;
pub mod member;
pub mod migrate;
pub mod session;
pub mod token;
pub mod weight;

use clap::Subcommand;
use database::{away, note, open, refused};

use crate::commands::admin::audit::AuditList;
use crate::commands::admin::member::MemberCommand;
use crate::commands::admin::session::SessionCommand;
use crate::commands::admin::token::TokenCommand;
use crate::commands::admin::weight::Weight;
use crate::commands::key::KeyCommand;

#[derive(Subcommand)]
pub enum Admin {
    /// People who may sign in.
    Member {
        #[command(subcommand)]
        command: MemberCommand,
    },
    /// Secrets of people for the API.
    Token {
        #[command(subcommand)]
        command: TokenCommand,
    },
    /// Secrets that senders of telemetry authenticate with.
    Key {
        #[command(subcommand)]
        command: KeyCommand,
        /// Print JSON instead of a table.
        #[arg(long, global = true)]
        json: bool,
    },
    /// Sessions of people who signed in.
    Session {
        #[command(subcommand)]
        command: SessionCommand,
    },
    /// Who changed what in the set-up: members, tokens, keys, discarding, scrubbing, settings.
    #[command(after_help = "Example:\n  outcrop admin audit --limit 200")]
    Audit(AuditList),
    /// Bring the database's schema up to this release; `outcrop serve` does it by itself.
    #[command(after_help = "Example:\n  outcrop admin migrate --database-url postgres://outcrop@127.0.0.1/outcrop")]
    Migrate,
    /// How much errors of a service or endpoint weigh in the ranking.
    #[command(
        after_help = "Examples:\n  outcrop admin weight fares 1.5\n  outcrop admin weight gangway --endpoint 'GET \
            /internal/health' 0.2\n  outcrop admin weight fares 1     takes it away\n  outcrop admin \
            weight             lists what is set"
    )]
    Weight(Weight),
}
