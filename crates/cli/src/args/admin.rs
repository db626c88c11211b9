//! What is done on the database directly, so that the first member can be made before anybody can
//! sign in; and sender keys.

use clap::{Args, Subcommand, ValueEnum};

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

#[derive(Args)]
pub struct Weight {
    /// The service; nothing lists what is set.
    pub service: Option<String>,
    /// What attention is multiplied with, 0.1 to 4; 1 takes the weight away.
    #[arg(requires = "service")]
    pub factor: Option<f32>,
    /// Only this endpoint of the service.
    #[arg(long, value_name = "E", requires = "service")]
    pub endpoint: Option<String>,
}

#[derive(Subcommand)]
pub enum MemberCommand {
    /// Add a member; the password is read from standard input.
    #[command(
        after_help = "Example:\n  outcrop admin member add purser@skerry.example --role engineer --password-stdin < \
            password.txt"
    )]
    Add(MemberAdd),
    /// List members, with what they use.
    List {
        /// Print JSON.
        #[arg(long)]
        json: bool,
    },
    /// Give a member another role.
    #[command(after_help = "Example:\n  outcrop admin member role purser@skerry.example admin")]
    Role {
        /// The member's address.
        email: String,
        /// What they may do from now on.
        #[arg(value_enum)]
        role: Role,
    },
    /// Remove a member with their tokens and sessions; what they did stays under their address.
    #[command(after_help = "Example:\n  outcrop admin member remove purser@skerry.example")]
    Remove {
        /// The member's address.
        email: String,
    },
    /// Set a member's password, read from standard input; their sessions end.
    #[command(
        after_help = "Example:\n  outcrop admin member password purser@skerry.example --password-stdin \
            --revoke-tokens < password.txt"
    )]
    Password {
        /// The member's address.
        email: String,
        /// Read the password from standard input.
        #[arg(long, required = true)]
        password_stdin: bool,
        /// Revoke their tokens too.
        #[arg(long)]
        revoke_tokens: bool,
    },
}

#[derive(Args)]
pub struct MemberAdd {
    /// The address they sign in with.
    pub email: String,
    /// What they may do.
    #[arg(long, value_enum)]
    pub role: Role,
    /// Read the password from standard input.
    #[arg(long, required = true)]
    pub password_stdin: bool,
}

#[derive(Clone, Copy, ValueEnum)]
pub enum Role {
    /// Reads.
    Viewer,
    /// Reads and acts on errors.
    Engineer,
    /// Also manages members and keys.
    Admin,
}

#[derive(Subcommand)]
pub enum TokenCommand {
    /// Make a token for a member; prints only the token.
    #[command(
        after_help = "Examples:\n  export OUTCROP_TOKEN=$(outcrop admin token create purser@skerry.example)\n  \
            outcrop admin token create purser@skerry.example --pipeline"
    )]
    Create {
        /// The member's address.
        email: String,
        /// For a pipeline: it records and checks deploys and marks changes, and does nothing else.
        #[arg(long)]
        pipeline: bool,
        /// What the token is for.
        #[arg(long, value_name = "TEXT", default_value = "")]
        name: String,
        /// After how many days it ends; never where not given.
        #[arg(long, value_name = "N", value_parser = clap::value_parser!(u32).range(1..=3_650))]
        days: Option<u32>,
    },
    /// List tokens, without their secrets.
    List {
        /// Only this member's.
        email: Option<String>,
        /// Print JSON.
        #[arg(long)]
        json: bool,
    },
    /// Revoke a token: its next request is refused, on all instances.
    #[command(after_help = "Example:\n  outcrop admin token revoke 12")]
    Revoke {
        /// The token's number, as listed.
        id: i32,
    },
}

#[derive(Subcommand)]
pub enum SessionCommand {
    /// List open sessions.
    List {
        /// Only this member's.
        email: Option<String>,
        /// Print JSON.
        #[arg(long)]
        json: bool,
    },
    /// End a member's sessions: they have to sign in again.
    #[command(
        after_help = "Examples:\n  outcrop admin session end purser@skerry.example\n  outcrop admin session end \
            purser@skerry.example --id 7"
    )]
    End {
        /// The member's address.
        email: String,
        /// Only the session of this number.
        #[arg(long, value_name = "N")]
        id: Option<i32>,
    },
}

#[derive(Args)]
pub struct AuditList {
    /// Changes at most, the newest first, 1 to 1000.
    #[arg(long, value_name = "N", default_value_t = 50, value_parser = clap::value_parser!(i64).range(1..=1_000))]
    pub limit: i64,
    /// Print JSON.
    #[arg(long)]
    pub json: bool,
}

#[derive(Subcommand)]
pub enum KeyCommand {
    /// Make a sender key; prints only the key.
    #[command(
        after_help = "Examples:\n  outcrop key create pier-3\n  outcrop key create fares --service fares --service \
            ledger\n  outcrop key create trials --environment staging --per-minute 20MiB"
    )]
    Create {
        /// What the key is called.
        name: String,
        /// Let it write only for this service; may be given several times.
        #[arg(long = "service", value_name = "S")]
        services: Vec<String>,
        /// Let it write only for this environment; may be given several times.
        #[arg(long = "environment", value_name = "E")]
        environments: Vec<String>,
        /// Let it send so much a minute, inflated, to each instance of Outcrop; past it senders are told to wait.
        #[arg(long, value_name = "SIZE")]
        per_minute: Option<String>,
    },
    /// Give a key another secret; prints only the secret. The one before is taken for a while yet.
    #[command(after_help = "Example:\n  outcrop key rotate fares --overlap-hours 48")]
    Rotate {
        /// The key's name.
        name: String,
        /// How long the secret before is taken too; 0 ends it at once.
        #[arg(long, value_name = "N", default_value_t = 24, value_parser = clap::value_parser!(u32).range(0..=720))]
        overlap_hours: u32,
    },
    /// List the keys.
    List,
    /// Revoke a key: it is refused everywhere within two seconds.
    Revoke {
        /// The key's name.
        name: String,
    },
}
