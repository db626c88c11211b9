//! Options from the command line, the environment and a TOML file, in this order of precedence.

use std::collections::BTreeMap;
use std::net::TcpListener;
use std::path::{Path, PathBuf};

use outcrop_server::Settings;
use serde::Deserialize;

use crate::args::{DatabaseArgs, Serve};
use crate::fault::Fault;

#[derive(Default, Deserialize)]
#[serde(deny_unknown_fields)]
struct File {
    database_url: Option<String>,
    listen: Option<String>,
    otlp_http: Option<String>,
    otlp_grpc: Option<String>,
    max_body: Option<String>,
    max_inflated: Option<String>,
    budget: Option<String>,
    log_days: Option<i64>,
    bodies_per_minute: Option<u32>,
    log: Option<String>,
    #[serde(default)]
    checkout: BTreeMap<String, PathBuf>,
}

/// Everything `serve` needs, checked.
pub struct Resolved {
    pub settings: Settings,
    pub listen: String,
    pub otlp_http: Option<String>,
    pub otlp_grpc: Option<String>,
    pub log: String,
}

pub fn resolve(arguments: Serve) -> Result<Resolved, Fault> {
    let file = read(arguments.database.config.as_deref())?;
    let mut settings = Settings::new(database_url(&arguments.database)?);
    let size = |name: &str, given: Option<String>, default: usize| given.map_or(Ok(default), |text| bytes(name, &text));
    settings.max_body_bytes = size("max-body", arguments.max_body.or(file.max_body), settings.max_body_bytes)?;
    settings.max_inflated_bytes = size("max-inflated", arguments.max_inflated.or(file.max_inflated), settings.max_inflated_bytes)?;
    settings.budget_bytes = size("budget", arguments.budget.or(file.budget), settings.budget_bytes)?;
    settings.check().map_err(Fault::Usage)?;
    settings.log_days = arguments.log_days.or(file.log_days).unwrap_or(settings.log_days);
    if !(1..=30).contains(&settings.log_days) {
        return Err(Fault::Usage(format!("log-days is {}; it must be 1 to 30, as long as occurrences are kept", settings.log_days)));
    }
    settings.bodies_per_minute = arguments.bodies_per_minute.or(file.bodies_per_minute).unwrap_or(settings.bodies_per_minute);
    if !(1..=10_000).contains(&settings.bodies_per_minute) {
        return Err(Fault::Usage(format!("bodies-per-minute is {}; it must be 1 to 10000", settings.bodies_per_minute)));
    }
    settings.checkouts = file.checkout;
    for given in arguments.checkout {
        let (service, folder) = given
            .split_once('=')
            .ok_or_else(|| Fault::Usage(format!("--checkout is `{given}`; write it like fares=/srv/checkouts/fares")))?;
        settings.checkouts.insert(service.to_owned(), PathBuf::from(folder));
    }
    let otlp_http = arguments.otlp_http.or(file.otlp_http).unwrap_or_else(|| "127.0.0.1:4318".to_owned());
    let otlp_grpc = arguments.otlp_grpc.or(file.otlp_grpc).unwrap_or_else(|| "127.0.0.1:4317".to_owned());
    Ok(Resolved {
        settings,
        listen: arguments.listen.or(file.listen).unwrap_or_else(|| "127.0.0.1:8471".to_owned()),
        otlp_grpc: (otlp_grpc != "none").then_some(otlp_grpc),
        otlp_http: (otlp_http != "none").then_some(otlp_http),
        log: arguments.log.or(file.log).unwrap_or_else(|| "info".to_owned()),
    })
}

/// The database's URL from the command line, the environment or the file.
pub fn database_url(arguments: &DatabaseArgs) -> Result<String, Fault> {
    let given = match &arguments.database_url {
        Some(url) => Some(url.clone()),
        None => read(arguments.config.as_deref())?.database_url,
    };
    given.ok_or_else(|| {
        Fault::Usage("no database: give --database-url, set OUTCROP_DATABASE_URL, or write database_url into the --config file".to_owned())
    })
}

fn read(file: Option<&Path>) -> Result<File, Fault> {
    let Some(file) = file else { return Ok(File::default()) };
    let text = std::fs::read_to_string(file).map_err(|error| Fault::Usage(format!("{}: {error}", file.display())))?;
    toml::from_str(&text).map_err(|error| Fault::Usage(format!("{}: {error}", file.display())))
}

/// Reads `16MiB`, `512 KiB`, `1048576`.
pub fn bytes(name: &str, text: &str) -> Result<usize, Fault> {
    let refused = || Fault::Usage(format!("--{name} is `{text}`; write it like 512KiB, 16MiB or 1GiB"));
    let digits = text.trim().trim_end_matches(|c: char| c.is_ascii_alphabetic() || c == ' ');
    let unit = text.trim().strip_prefix(digits).unwrap_or_default().trim();
    let factor: usize = match unit {
        "" | "B" => 1,
        "KiB" => 1 << 10,
        "MiB" => 1 << 20,
        "GiB" => 1 << 30,
        _ => return Err(refused()),
    };
    let count: usize = digits.parse().ok().filter(|count| *count > 0).ok_or_else(refused)?;
    count.checked_mul(factor).ok_or_else(refused)
}

/// Opens a listener, with a message that says what to do when the address is taken.
pub fn listen(option: &str, address: &str) -> Result<TcpListener, Fault> {
    TcpListener::bind(address).map_err(|error| {
        let hint = if option.starts_with("otlp-") { "; give another address or `none`" } else { "" };
        Fault::Usage(format!("--{option} {address}: {error}{hint}"))
    })
}
