//! `outcrop init`: an installation's first minute.

use std::fmt::Write as _;
use std::fs::{File, OpenOptions};
use std::io::{BufRead, IsTerminal, Write};
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};

use chrono::{TimeDelta, Utc};
use clap::Args;
use outcrop_server::Secret;
use outcrop_store::Database;
use outcrop_store::database::{MakeError, make_database, unmake_database};
use outcrop_store::people::AccessError;
use outcrop_store::people::invitations::{self, NewInvitation};
use outcrop_store::people::keys::{self, Bounds};
use serde::Serialize;

use super::admin::database::{note, who};
use super::config::sample;
use crate::fault::Fault;
use crate::output::{json, line};
use crate::settings::public_url;

#[derive(Args)]
#[command(after_help = "Examples:\n  \
    (umask 077; sudo -u postgres outcrop init --admin purser@skerry.example --to - > outcrop.toml)\n  \
    outcrop init --admin purser@skerry.example --server-url postgres://postgres@db-1/postgres\n  \
    outcrop init --admin purser@skerry.example --database-url postgres://outcrop@db-1/outcrop\n\n\
    It makes a role and a database, the tables, an invitation for the first admin, a sender key and\n\
    the file of the settings. The admin's address is asked for at a terminal. If a step fails, role\n\
    and database are taken away again; of a database that was there the tables stay.")]
pub struct Init {
    /// The address of the first admin.
    #[arg(long, value_name = "EMAIL")]
    pub admin: Option<String>,
    /// The address under which people will reach the installation.
    #[arg(long, value_name = "URL", default_value = "http://127.0.0.1:8471")]
    pub public_url: String,
    /// The file of the settings that is written; it must not be there yet. `-` prints them.
    #[arg(long, value_name = "FILE", default_value = "outcrop.toml")]
    pub to: PathBuf,
    /// The PostgreSQL server, as a role that may make roles and databases.
    #[arg(
        long,
        value_name = "URL",
        default_value = "postgres:///postgres?host=/var/run/postgresql"
    )]
    pub server_url: String,
    /// What role and database are called.
    #[arg(long, value_name = "NAME", default_value = "outcrop")]
    pub name: String,
    /// A database that is there, with a role that owns it: none is made then.
    #[arg(
        long,
        env = "OUTCROP_DATABASE_URL",
        value_name = "URL",
        hide_env_values = true,
        conflicts_with_all = ["server_url", "name"]
    )]
    pub database_url: Option<String>,
    /// Print one JSON document.
    #[arg(long)]
    pub json: bool,
}

/// What was made.
#[derive(Serialize)]
struct Made {
    /// The file of the settings.
    config: PathBuf,
    /// The link by which the first admin signs in.
    link: String,
    /// The sender key; shown once.
    key: String,
}

/// Days for which the link of the first admin is good.
const DAYS: i64 = 7;
/// What the first sender key is called.
const KEY: &str = "first";

pub async fn run(arguments: Init) -> Result<(), Fault> {
    let public = public_url(&arguments.public_url)?;
    let admin = match &arguments.admin {
        Some(admin) => admin.trim().to_owned(),
        None => asked("The address of the first admin")?,
    };
    if !admin.contains('@') || admin.chars().any(char::is_whitespace) {
        return Err(Fault::Usage(format!("--admin is `{admin}`; write an e-mail address")));
    }
    if arguments.json && arguments.to == Path::new("-") {
        return Err(Fault::Usage(
            "--json and --to - both write to standard output: give one of them".to_owned(),
        ));
    }
    let mut sink = Sink::of(&arguments.to)?;
    let made = make(&arguments, &public, &admin, &mut sink).await;
    let made = match made {
        Ok(made) => made,
        Err(fault) => {
            sink.undo();
            return Err(fault);
        }
    };
    match (arguments.json, sink) {
        (true, _) => json(&made),
        (false, Sink::File(..)) => line(told(&made, &admin, &public)),
        // The settings alone go to standard output.
        (false, Sink::Output) => Ok(writeln!(std::io::stderr(), "{}", told(&made, &admin, &public))?),
    }
}

/// Asks at the terminal.
fn asked(what: &str) -> Result<String, Fault> {
    let input = std::io::stdin();
    if !input.is_terminal() {
        return Err(Fault::Usage(format!("{what} is not known: give --admin EMAIL")));
    }
    let mut output = std::io::stderr();
    write!(output, "{what}: ")?;
    output.flush()?;
    let mut text = String::new();
    input.lock().read_line(&mut text)?;
    Ok(text.trim().to_owned())
}

/// Where the settings go.
enum Sink {
    /// A file that was not there.
    File(File, PathBuf),
    /// Standard output.
    Output,
}

impl Sink {
    /// The file is readable by whoever runs this alone: it holds the database's password.
    fn of(path: &Path) -> Result<Self, Fault> {
        if path == Path::new("-") {
            return Ok(Self::Output);
        }
        let mut options = OpenOptions::new();
        options.write(true).create_new(true).mode(0o600);
        let file = options.open(path).map_err(|error| {
            let hint = match error.kind() {
                std::io::ErrorKind::AlreadyExists => {
                    "; an installation is set up by it already, or choose another with --to"
                }
                _ => "; choose another with --to",
            };
            Fault::Usage(format!("{}: {error}{hint}", path.display()))
        })?;
        Ok(Self::File(file, path.to_owned()))
    }

    fn write(&mut self, text: &str) -> Result<(), Fault> {
        match self {
            Self::File(file, _) => {
                file.write_all(text.as_bytes())?;
                file.sync_all()?;
            }
            Self::Output => line(text.trim_end())?,
        }
        Ok(())
    }

    fn undo(&self) {
        if let Self::File(_, path) = self {
            let _gone = std::fs::remove_file(path);
        }
    }
}

/// The server's URL, with the role that whoever runs this has there by the name of their account: `sudo` and the like do
/// not always say it in a variable.
fn as_account(server: &str, account: Option<&str>) -> String {
    let (Ok(mut url), Some(account)) = (reqwest::Url::parse(server), account) else {
        return server.to_owned();
    };
    if url.username().is_empty() && !url.query_pairs().any(|(name, _)| name == "user") {
        url.query_pairs_mut().append_pair("user", account);
    }
    url.into()
}

async fn make(arguments: &Init, public: &str, admin: &str, sink: &mut Sink) -> Result<Made, Fault> {
    let account = nix::unistd::User::from_uid(nix::unistd::geteuid()).ok().flatten();
    let server = as_account(
        &arguments.server_url,
        account.as_ref().map(|account| account.name.as_str()),
    );
    let url = match &arguments.database_url {
        Some(url) => url.clone(),
        None => new_database(&server, &arguments.name).await?,
    };
    let filled = fill(&url, public, admin).await.and_then(|(link, key)| {
        sink.write(&settings(&url, public)?)?;
        let config = arguments.to.clone();
        Ok(Made { config, link, key })
    });
    if filled.is_err() && arguments.database_url.is_none() {
        let undone = unmake_database(&server, &arguments.name).await;
        undone.map_err(|error| Fault::Refused(format!("what was made could not be taken away: {error}")))?;
    }
    filled
}

async fn new_database(server: &str, name: &str) -> Result<String, Fault> {
    // The secret's own prefix has a character that a URL would have to escape.
    let password = Secret::random("x")
        .expose()
        .replace(|c: char| !c.is_ascii_alphanumeric(), "");
    make_database(server, name, &password).await.map_err(|error| match error {
        MakeError::Connect(_) => Fault::Refused(format!(
            "{error}\nIs it there, and are you a role of it? On Debian: apt-get install postgresql, then sudo -u postgres \
             outcrop init …; elsewhere name it with --server-url."
        )),
        MakeError::Exists { .. } => Fault::Refused(format!(
            "{error}: give it with --database-url to use it as it is, or choose another --name"
        )),
        MakeError::Url(_) | MakeError::Name(_) => Fault::Usage(error.to_string()),
        MakeError::Refused(_) => Fault::Refused(error.to_string()),
    })
}

/// Makes the tables, the invitation of the first admin and a sender key; returns the link and the key.
async fn fill(url: &str, public: &str, admin: &str) -> Result<(String, String), Fault> {
    let failed = |error: &dyn std::fmt::Display| Fault::Refused(error.to_string());
    Database::migrate(url).await.map_err(|error| failed(&error))?;
    let database = Database::connect(url).await.map_err(|error| failed(&error))?;
    let (invitation, key, now) = (
        Secret::random("outcrop-invitation"),
        Secret::random("outcrop-key"),
        Utc::now(),
    );
    let by = who();
    let asked = NewInvitation {
        email: admin,
        role: "admin",
        teams: &[],
        by: &by,
        at: now,
        expires_at: now + TimeDelta::days(DAYS),
    };
    // First what tells whether somebody was here before.
    let bounds = Bounds {
        services: vec![],
        environments: vec![],
        bytes_per_minute: None,
    };
    keys::add(&database, KEY, &bounds, key.digest())
        .await
        .map_err(|error| match error {
            AccessError::Exists(_) => Fault::Refused(format!(
                "this database has a sender key `{KEY}`: an installation is set up in it already"
            )),
            other => failed(&other),
        })?;
    note(&database, "made sender key", KEY).await?;
    invitations::make(&database, invitation.digest(), &asked)
        .await
        .map_err(|error| failed(&error))?;
    note(&database, "invited", &format!("{admin}: admin")).await?;
    let link = format!("{public}/join#{}", invitation.expose());
    Ok((link, key.expose().to_owned()))
}

/// The file: what was set up, and every other setting as a comment.
fn settings(url: &str, public: &str) -> Result<String, Fault> {
    let set = [("database_url", url), ("public_url", public)];
    let mut text = String::from("# The settings of outcrop serve. Check them: outcrop config check --config FILE\n\n");
    for (name, value) in set {
        writeln!(text, "{name} = {}", toml::Value::from(value)).map_err(std::io::Error::other)?;
    }
    text.push_str(&sample(&set.map(|(name, _)| name)));
    Ok(text)
}

/// What was made, and what comes next.
fn told(made: &Made, admin: &str, public: &str) -> String {
    let Made { config, link, key } = made;
    let is_file = config != Path::new("-");
    let (config, file) = (
        config.display(),
        if is_file { config.as_path() } else { Path::new("FILE") },
    );
    let first = if is_file {
        format!("Outcrop is set up. Its settings are in {config}, readable by you alone.")
    } else {
        "Outcrop is set up. Its settings are on standard output; they hold the database's password.".to_owned()
    };
    format!(
        "{first}\n\nThe sender key `{KEY}`, which is shown this once:\n  {key}\n\nThe link that makes {admin} an admin, \
         good for {DAYS} days, and once:\n  {link}\n\nNext:\n  outcrop serve --config {}\n  OUTCROP_KEY={key} outcrop send \
         --url {public} --service hello --message 'it works'\n  outcrop login {public}",
        file.display()
    )
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::by_socket(
        "postgres:///postgres?host=/var/run/postgresql",
        "postgres:///postgres?host=%2Fvar%2Frun%2Fpostgresql&user=postgres"
    )]
    #[case::named(
        "postgres://purser@db.skerry.example/postgres",
        "postgres://purser@db.skerry.example/postgres"
    )]
    #[case::named_behind("postgres:///postgres?user=purser", "postgres:///postgres?user=purser")]
    #[case::no_url("nonsense", "nonsense")]
    fn whoever_runs_it_is_the_role_where_none_is_named(#[case] server: &str, #[case] expected: &str) {
        let decoded = as_account(server, Some("postgres")).replace("%2F", "/");
        assert_eq!(decoded, expected.replace("%2F", "/"));
        assert_eq!(as_account(server, None), server);
    }

    #[test]
    fn the_file_says_what_is_set_and_each_other_setting_as_a_comment() {
        let text = settings("postgres://outcrop:x@127.0.0.1:5432/outcrop", "http://127.0.0.1:8471").unwrap();
        let read: toml::Table = text.parse().unwrap();
        assert_eq!(read.len(), 2, "{text}");
        assert!(
            text.contains("\n# log_days = 7\n") && text.contains("\n# listen = \"127.0.0.1:8471\"\n"),
            "{text}"
        );
        assert!(!text.contains("# public_url"), "{text}");
        // Each comment is a setting once its mark is taken away.
        let all: String = text
            .lines()
            .map(|line| {
                line.strip_prefix("# ")
                    .filter(|line| line.contains(" = ") || line.starts_with('['))
                    .unwrap_or("#")
            })
            .fold(String::new(), |text, line| text + line + "\n");
        let read: toml::Table = all.parse().unwrap_or_else(|error| panic!("{error}\n{all}"));
        assert!(read.len() > 20 && read["checkout"].is_table(), "{all}");
    }
}
