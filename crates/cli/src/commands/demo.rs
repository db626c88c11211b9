//! `outcrop demo`: sends what the ferry company Skerry Line would send.

use std::io::{IsTerminal, Write};
use std::time::{Duration, Instant};

use chrono::{DateTime, TimeDelta, Utc};
use clap::Args;
use outcrop_core::ownership::Rule;
use outcrop_core::touching::{ChangedFile, Commit};
use outcrop_demo::{
    BAD_DEPLOY, CANARY, Fleet, Post, Progress, RELAY_MOVED, ROLLBACK, SETTLED, TRACKER_SECRET, tracker,
};
use outcrop_server::{Allowed, Listeners, Mail, Secret, Settings, hash_password, serve};
use outcrop_store::deploys::changes::Changes;
use outcrop_store::deploys::markers::NewMarker;
use outcrop_store::deploys::{NewDeploy, changes, markers};
use outcrop_store::errors::handling::{Action, Settled};
use outcrop_store::errors::{handling, tickets};
use outcrop_store::notices::ways;
use outcrop_store::people::settings::ServiceSetting;
use outcrop_store::people::{AccessError, installation, keys, owners, settings as service_settings, teams};
use outcrop_store::traffic::timeline;
use outcrop_store::{Database, Scope, asking, deploys, people};
use tokio_util::sync::CancellationToken;
use tracing_subscriber::EnvFilter;

use super::serve::stop_on_signal;
use crate::fault::Fault;
use crate::output::line;
use crate::settings;
use crate::settings::DatabaseArgs;

#[derive(Args)]
#[command(
    after_help = "Example:\n  outcrop demo --database-url postgres://outcrop@127.0.0.1/demo\n\n\
    The history is loaded once; started again, it goes on with what is there."
)]
pub struct Demo {
    #[command(flatten)]
    pub database: DatabaseArgs,
    /// Where console, API and OTLP/HTTP are served.
    #[arg(long, env = "OUTCROP_LISTEN", value_name = "ADDR", default_value = "127.0.0.1:8471")]
    pub listen: String,
    /// Minutes of history, a week at most.
    #[arg(long, env = "OUTCROP_DEMO_MINUTES", value_name = "N", default_value_t = 10_080)]
    pub minutes: i64,
    /// The same seed makes the same fleet.
    #[arg(long, env = "OUTCROP_DEMO_SEED", value_name = "N", default_value_t = 1)]
    pub seed: u64,
}

/// The demo's own member. It guards nothing but made-up data.
const EMAIL: &str = "purser@skerry.example";
const PASSWORD: &str = "low tide at noon";

/// Runs the service with the fleet until SIGTERM or SIGINT.
pub async fn run(arguments: Demo) -> Result<(), Fault> {
    let url = settings::database_url(&arguments.database)?;
    tracing_subscriber::fmt()
        .with_env_filter(EnvFilter::new("warn,sqlx=error"))
        .with_writer(std::io::stderr)
        .init();
    let listener = settings::listen("listen", &arguments.listen)?;
    let address = format!("http://{}", listener.local_addr()?);
    let database = Database::open(&url)
        .await
        .map_err(|error| Fault::Refused(error.to_string()))?;
    if !installation::become_demo(&database, EMAIL)
        .await
        .map_err(|error| Fault::Refused(error.to_string()))?
    {
        return Err(Fault::Usage(
            "this database holds members, keys or telemetry of an installation: the demo adds an admin with a known \
             password, and does it to a \
             database of its own alone; make one: createdb demo"
                .to_owned(),
        ));
    }
    let key = prepare(&database).await?;
    let is_new = timeline::services(&database, Utc::now())
        .await
        .map_err(|error| Fault::Refused(error.to_string()))?
        .is_empty();
    // OpenTelemetry's usual port, where no other program has it.
    let grpc = std::net::TcpListener::bind("127.0.0.1:4317").ok();
    let stop = CancellationToken::new();
    tokio::spawn(stop_on_signal(stop.clone()));
    let fleet = Fleet::new(&address, &key, arguments.seed);
    // The stand-in for a ticket tracker, on a port of its own.
    let tickets = std::net::TcpListener::bind("127.0.0.1:0")?;
    let tracker_address = tickets.local_addr()?.to_string();
    set_tracker(&database, &tracker_address).await?;
    // The stand-ins for a mail server, a chat and a receiver of webhooks.
    let (mail, receiver) = (
        std::net::TcpListener::bind("127.0.0.1:0")?,
        std::net::TcpListener::bind("127.0.0.1:0")?,
    );
    let (mail_address, post_address) = (mail.local_addr()?.to_string(), receiver.local_addr()?.to_string());
    set_ways(&database, &post_address).await?;
    let post = Post::default();
    tokio::spawn(post.clone().take_mail(mail, stop.clone()));
    tokio::spawn(post.receive(receiver, stop.clone()));
    let work = async {
        let addresses = [&address, &tracker_address, &post_address].map(String::as_str);
        let done = sail(&database, &fleet, is_new.then_some(arguments.minutes), addresses, &stop).await;
        stop.cancel();
        done
    };
    let mut settings = Settings::new(url);
    settings.public_url = Some(address.clone());
    settings.outbound = Allowed {
        hosts: vec![tracker_address.clone(), post_address.clone()],
        private: true,
    };
    settings.mail = Some(Mail {
        server: format!("smtp://{mail_address}"),
        from: "Outcrop <outcrop@skerry.example>".to_owned(),
    });
    tokio::spawn(tracker(tickets, stop.clone()));
    let (served, done) = tokio::join!(
        serve(
            settings,
            Listeners {
                main: listener,
                otlp_http: None,
                otlp_grpc: grpc
            },
            stop.clone()
        ),
        work
    );
    served.map_err(|error| Fault::Refused(error.to_string()))?;
    done
}

/// Loads the history where there is none yet, says where the console is, and goes on live.
async fn sail(
    database: &Database,
    fleet: &Fleet,
    minutes: Option<i64>,
    [address, tickets, post]: [&str; 3],
    stop: &CancellationToken,
) -> Result<(), Fault> {
    if let Some(minutes) = minutes {
        load(fleet, minutes, stop).await?;
    }
    describe(database).await?;
    make_teams(database).await?;
    if minutes.is_some() {
        tell_stories(database).await?;
    }
    if stop.is_cancelled() {
        return Ok(());
    }
    line(format!(
        "\nconsole   {address}\nsign in   {EMAIL}\npassword  {PASSWORD}\ntickets   http://{tickets}\npost      http://{post}\n\nSkerry Line goes on sending. Ctrl-C ends it."
    ))?;
    fleet
        .live(stop.clone())
        .await
        .map_err(|error| Fault::Refused(error.to_string()))
}

/// Tickets are made in the demo's own tracker; they are forgotten when it ends.
async fn set_tracker(database: &Database, address: &str) -> Result<(), Fault> {
    let setting = serde_json::json!({
        "address": format!("http://{address}/tickets"),
        "headers": [{"name": "authorization", "value": format!("Bearer {TRACKER_SECRET}")}],
        "body": {
            "title": "{title} in {service}",
            "text": "{sentence}\n\n{frames}\n\n{evidence}\n{counts}\n{link}",
        },
        "id": "/id",
        "link": "/url",
        "state_address": format!("http://{address}/tickets/{{id}}"),
        "state": "/state",
    });
    tickets::set_tracker(database, Some(&setting), (EMAIL, Utc::now()))
        .await
        .map_err(|error| Fault::Refused(error.to_string()))
}

/// Notices go to the demo's own chat and, where the secret that signs is there, to its receiver of webhooks.
async fn set_ways(database: &Database, address: &str) -> Result<(), Fault> {
    let chat = serde_json::json!({"kind": "chat", "address": format!("http://{address}/rooms/ops")});
    let webhook = serde_json::json!({
        "kind": "webhook",
        "address": format!("http://{address}/hooks/pager"),
        "secret": "pager",
    });
    let has_secret = std::env::var_os("OUTCROP_SECRET_PAGER").is_some();
    for (name, way) in [("ops-room", chat), ("pager", webhook)]
        .into_iter()
        .take(1 + usize::from(has_secret))
    {
        ways::set(database, name, &way, (EMAIL, Utc::now()))
            .await
            .map_err(|error| Fault::Refused(error.to_string()))?;
    }
    Ok(())
}

/// Says of the services what their people would.
async fn describe(database: &Database) -> Result<(), Fault> {
    let said = |text: &str| Some(text.to_owned());
    let all = ServiceSetting {
        source_url: said("https://git.skerry.example/{service}/{revision}/{path}#L{line}"),
        instance_group: said("cloud.region"),
        customer: said("skerry.port"),
        ..ServiceSetting::default()
    };
    let roots = [
        ("fares", "/srv/skerry/fares"),
        ("gangway", "/srv/skerry/gangway"),
        ("stowage", "/src/stowage"),
    ];
    let of_service = |root: &str| ServiceSetting {
        source_root: said(root),
        ..ServiceSetting::default()
    };
    let settings = roots.map(|(service, root)| (Some(service), of_service(root)));
    for (service, setting) in [(None, all)].into_iter().chain(settings) {
        service_settings::set(database, service, &setting)
            .await
            .map_err(|error| Fault::Refused(error.to_string()))?;
    }
    let edge = "service in (gangway, boarding) and environment = production";
    service_settings::save_slice(database, "edge", edge, EMAIL)
        .await
        .map_err(|error| Fault::Refused(error.to_string()))
}

/// Teams, what they own, and who is handed new errors. Gangway and bulletins are nobody's, as it happens.
async fn make_teams(database: &Database) -> Result<(), Fault> {
    let refused = |error: AccessError| Fault::Refused(error.to_string());
    let names = |names: &[&str]| names.iter().map(|name| (*name).to_owned()).collect::<Vec<_>>();
    for (team, services) in [
        ("tariff desk", ["fares", "sailings"]),
        ("deck team", ["boarding", "stowage"]),
        ("harbour office", ["berths", "ledger"]),
    ] {
        match teams::make(database, team, EMAIL, Utc::now()).await {
            Ok(()) => {}
            // Made when the demo ran before; people may have changed it since.
            Err(AccessError::Exists(_)) => continue,
            Err(error) => return Err(refused(error)),
        }
        let members = (team == "deck team").then(|| names(&[EMAIL]));
        teams::set(database, team, members.as_deref(), Some(&names(&services)))
            .await
            .map_err(refused)?;
        let rule = Rule {
            owner: team.to_owned(),
            service: Some(services[0].to_owned()),
            hands_over: true,
            ..Rule::default()
        };
        owners::make(database, &rule, EMAIL, Utc::now())
            .await
            .map_err(|error| refused(error.into()))?;
    }
    Ok(())
}

/// What people announced, marked and settled during the week: the stories that telemetry alone does not tell.
async fn tell_stories(database: &Database) -> Result<(), Fault> {
    let refused = |error: outcrop_store::StoreError| Fault::Refused(error.to_string());
    let now = Utc::now();
    let ago = |minutes: i64| now - TimeDelta::minutes(minutes);
    let deploy = |service: &str, version: &str, at: DateTime<Utc>| NewDeploy {
        service: service.to_owned(),
        environment: "production".to_owned(),
        version: version.to_owned(),
        at,
        ended_at: None,
        share: None,
        instance_group: None,
        revision: String::new(),
        link: format!("https://ci.skerry.example/{service}/{version}"),
        by: "pipeline@skerry.example".to_owned(),
    };
    let (canary, began, ended) = CANARY;
    for deploy in [
        NewDeploy {
            revision: COMMITS[0].0.to_owned(),
            ..deploy("fares", "2.4.0", ago(BAD_DEPLOY))
        },
        NewDeploy {
            ended_at: Some(ago(ended)),
            share: Some(0.1),
            ..deploy("sailings", canary, ago(began))
        },
        deploy("boarding", "3.5.2", ago(ROLLBACK)),
    ] {
        deploys::record(database, &deploy).await.map_err(refused)?;
    }
    let brought = Changes {
        repository: "fares".to_owned(),
        commits: COMMITS
            .iter()
            .zip(1..)
            .map(|((id, author, summary, path, range), number)| Commit {
                id: (*id).to_owned(),
                author: (*author).to_owned(),
                at: ago(BAD_DEPLOY + number * 190).timestamp(),
                summary: (*summary).to_owned(),
                files: vec![ChangedFile {
                    path: (*path).to_owned(),
                    ranges: vec![*range],
                }],
            })
            .collect(),
        owners: vec![
            ("*".to_owned(), vec!["@skerry/fares".to_owned()]),
            ("app/tariff.py".to_owned(), vec!["@skerry/tariff-desk".to_owned()]),
        ],
    };
    changes::note(database, "fares", "2.4.0", &brought)
        .await
        .map_err(refused)?;
    let marker = NewMarker {
        at: ago(RELAY_MOVED.0),
        ended_at: None,
        kind: "configuration".to_owned(),
        title: "mail relay moved".to_owned(),
        service: None,
        environment: Some("production".to_owned()),
        link: String::new(),
        by: EMAIL.to_owned(),
    };
    markers::mark(database, &marker).await.map_err(refused)?;
    let week = Scope {
        service: Some("gangway".to_owned()),
        environment: None,
        version: None,
        from: ago(10_080),
        to: now,
        predicate: None,
    };
    let crew = asking::list_errors(database, &week)
        .await
        .map_err(refused)?
        .into_iter()
        .find(|error| error.type_name == "TypeError");
    if let Some(crew) = crew {
        let settle = Action::Settle(Settled::In("5.12.0".to_owned()));
        handling::act(database, &[crew.reference], &settle, (EMAIL, ago(SETTLED)), None)
            .await
            .map_err(|error| Fault::Refused(error.to_string()))?;
    }
    Ok(())
}

/// Id, author, summary, file, lines.
type Written = (&'static str, &'static str, &'static str, &'static str, (u32, u32));

/// The commits of fares 2.4.0.
const COMMITS: [Written; 3] = [
    (
        "9f3c1ab27e5d40c8b1a6e2f07d94c35a8812bb60",
        "tariff clerk",
        "free metres differ by season",
        "app/tariff.py",
        (90, 92),
    ),
    (
        "41d07c9e6b2fa83c5d1e90b7f4a6c2d835e7f019",
        "quay master",
        "quotes say which tariff they used",
        "app/quotes.py",
        (12, 19),
    ),
    (
        "b28ea5f1c0739d64e8b5a21f7c3d09e6a4b8f752",
        "tariff clerk",
        "tariffs of next season",
        "app/tariffs.py",
        (3, 61),
    ),
];

/// Makes the member, where there is none, and a key for this run. Returns the key.
async fn prepare(database: &Database) -> Result<String, Fault> {
    let hash = hash_password(PASSWORD).map_err(Fault::Usage)?;
    match people::add_member(database, EMAIL, "admin", &hash).await {
        Ok(()) | Err(AccessError::Exists(_)) => {}
        Err(error) => return Err(Fault::Refused(error.to_string())),
    }
    let secret = Secret::random("outcrop-key");
    let name = format!("Skerry Line, {}", Utc::now().format("%Y-%m-%d %H:%M:%S%.3f"));
    keys::add(database, &name, &keys::Bounds::default(), secret.digest())
        .await
        .map_err(|error| Fault::Refused(error.to_string()))?;
    Ok(secret.expose().to_owned())
}

/// Loads the history, and says how far it is.
async fn load(fleet: &Fleet, minutes: i64, stop: &CancellationToken) -> Result<(), Fault> {
    let start = Instant::now();
    let is_terminal = std::io::stderr().is_terminal();
    let mut said = Instant::now();
    let history = fleet.history(minutes, |Progress { done, total }| {
        // On a terminal one line is written over; a log gets a line every few seconds.
        let every = if is_terminal {
            Duration::from_millis(100)
        } else {
            Duration::from_secs(5)
        };
        if said.elapsed() >= every || done == total {
            said = Instant::now();
            let end = if is_terminal && done < total { "\r" } else { "\n" };
            drop(write!(
                std::io::stderr(),
                "loading Skerry Line's history: {:>3} %{end}",
                done * 100 / total
            ));
        }
    });
    tokio::select! {
        () = stop.cancelled() => Ok(()),
        loaded = history => {
            loaded.map_err(|error| Fault::Refused(error.to_string()))?;
            line(format!("{minutes} minutes of history loaded in {:.0} s", start.elapsed().as_secs_f64()))
        }
    }
}
