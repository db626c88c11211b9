//! Options from the command line, the environment and a TOML file, in this order of precedence.

mod options;

use std::net::{TcpListener, ToSocketAddrs as _};
use std::path::{Path, PathBuf};

use bytesize::ByteSize;
use outcrop_server::{Certificate, Mail, MetricsKey, Settings};
use outcrop_store::retention::{COUNT_DAYS, Policy, RETENTION_DAYS};

use self::options::File;
pub use self::options::{DatabaseArgs, Keep, LogFormat, Serve};
use crate::fault::Fault;

/// Everything `serve` needs, checked.
pub struct Resolved {
    pub settings: Settings,
    pub listen: String,
    pub otlp_http: Option<String>,
    pub otlp_grpc: Option<String>,
    pub log: String,
    pub log_format: LogFormat,
}

pub fn resolve(arguments: Serve) -> Result<Resolved, Fault> {
    let file = read(arguments.database.config.as_deref())?;
    let mut settings = Settings::new(database_url(&arguments.database)?);
    settings.read_database_url = arguments.read_database_url.or(file.read_database_url);
    let size = |name: &str, given: Option<String>, default: usize| given.map_or(Ok(default), |text| bytes(name, &text));
    settings.max_body_bytes = size(
        "max-body",
        arguments.max_body.or(file.max_body),
        settings.max_body_bytes,
    )?;
    settings.max_inflated_bytes = size(
        "max-inflated",
        arguments.max_inflated.or(file.max_inflated),
        settings.max_inflated_bytes,
    )?;
    settings.budget_bytes = size("budget", arguments.budget.or(file.budget), settings.budget_bytes)?;
    settings.mail = mail(
        arguments.mail_server.or(file.mail_server),
        arguments.mail_from.or(file.mail_from),
    )?;
    settings.tls = certificate(arguments.tls_cert.or(file.tls_cert), arguments.tls_key.or(file.tls_key))?;
    settings.check().map_err(Fault::Usage)?;
    settings.policy = policy(arguments.keep, file.keep)?;
    settings.bodies_per_minute = arguments
        .bodies_per_minute
        .or(file.bodies_per_minute)
        .unwrap_or(settings.bodies_per_minute);
    if !(1..=10_000).contains(&settings.bodies_per_minute) {
        return Err(Fault::Usage(format!(
            "bodies-per-minute is {}; it must be 1 to 10000",
            settings.bodies_per_minute
        )));
    }
    settings.public_url = arguments
        .public_url
        .or(file.public_url)
        .map(|text| public_url(&text))
        .transpose()?;
    let proxies = given_or(arguments.trusted_proxy, file.trusted_proxy);
    settings.trusted_proxies = proxies.iter().map(|text| network(text)).collect::<Result<_, _>>()?;
    settings.outbound.hosts = given_or(arguments.outbound_host, file.outbound_host);
    settings.outbound.private = arguments.outbound_private || file.outbound_private;
    let metrics_key = arguments.metrics_key.or(file.metrics_key);
    settings.metrics_key = metrics_key
        .as_deref()
        .map(MetricsKey::new)
        .transpose()
        .map_err(Fault::Usage)?;
    settings.checkouts = file.checkout;
    for given in arguments.checkout {
        let (service, folder) = given.split_once('=').ok_or_else(|| {
            Fault::Usage(format!(
                "--checkout is `{given}`; write it like fares=/srv/checkouts/fares"
            ))
        })?;
        settings.checkouts.insert(service.to_owned(), PathBuf::from(folder));
    }
    let address = |given: Option<String>, default: &str| given.unwrap_or_else(|| default.to_owned());
    let otlp_http = address(arguments.otlp_http.or(file.otlp_http), "127.0.0.1:4318");
    let otlp_grpc = address(arguments.otlp_grpc.or(file.otlp_grpc), "127.0.0.1:4317");
    let listen = address(arguments.listen.or(file.listen), "127.0.0.1:8471");
    if settings.tls.is_none() && settings.trusted_proxies.is_empty() {
        for (option, address) in [
            ("listen", &listen),
            ("otlp-http", &otlp_http),
            ("otlp-grpc", &otlp_grpc),
        ] {
            must_stay_here(option, address)?;
        }
    }
    Ok(Resolved {
        settings,
        listen,
        otlp_grpc: (otlp_grpc != "none").then_some(otlp_grpc),
        otlp_http: (otlp_http != "none").then_some(otlp_http),
        log: arguments.log.or(file.log).unwrap_or_else(|| "info".to_owned()),
        log_format: arguments.log_format.or(file.log_format).unwrap_or_default(),
    })
}

fn certificate(chain: Option<PathBuf>, key: Option<PathBuf>) -> Result<Option<Certificate>, Fault> {
    match (chain, key) {
        (Some(chain), Some(key)) => Ok(Some(Certificate { chain, key })),
        (None, None) => Ok(None),
        (Some(_), None) => Err(Fault::Usage(
            "--tls-cert needs --tls-key: the certificate's private key".to_owned(),
        )),
        (None, Some(_)) => Err(Fault::Usage(
            "--tls-key needs --tls-cert: the certificate that it is of".to_owned(),
        )),
    }
}

/// Refuses an address that other machines reach, where nothing encrypts what they send: passwords, keys, telemetry.
fn must_stay_here(option: &str, address: &str) -> Result<(), Fault> {
    // What is no address is told when it is listened on.
    let reached = address
        .to_socket_addrs()
        .map(|mut found| found.find(|found| !found.ip().is_loopback()));
    match reached {
        Ok(Some(_)) => Err(Fault::Usage(format!(
            "--{option} {address}: other machines would send passwords, keys and telemetry there in clear text; give \
             --tls-cert and --tls-key, or with --trusted-proxy the proxy in front that encrypts"
        ))),
        Ok(None) | Err(_) => Ok(()),
    }
}

/// What was given on the command line, else in the file.
fn given_or(given: Vec<String>, file: Vec<String>) -> Vec<String> {
    if given.is_empty() { file } else { given }
}

fn mail(server: Option<String>, from: Option<String>) -> Result<Option<Mail>, Fault> {
    match (server, from) {
        (Some(server), Some(from)) => Ok(Some(Mail { server, from })),
        (None, None) => Ok(None),
        (Some(_), None) => Err(Fault::Usage(
            "--mail-server needs --mail-from: the address that mail comes from".to_owned(),
        )),
        (None, Some(_)) => Err(Fault::Usage(
            "--mail-from needs --mail-server: where mail is sent through".to_owned(),
        )),
    }
}

/// The database's URL from the command line, the environment or the file.
pub fn database_url(arguments: &DatabaseArgs) -> Result<String, Fault> {
    let given = match &arguments.database_url {
        Some(url) => Some(url.clone()),
        None => read(arguments.config.as_deref())?.database_url,
    };
    given.ok_or_else(|| {
        Fault::Usage(
            "no database: give --database-url, set OUTCROP_DATABASE_URL, or write database_url into the --config file.\n\
             There is none yet? With PostgreSQL 15 or later on this machine (Debian: apt-get install postgresql),\n\
             `sudo -u postgres outcrop init --admin YOU@YOUR.DOMAIN --to - > outcrop.toml` makes it, and the file."
                .to_owned(),
        )
    })
}

fn read(file: Option<&Path>) -> Result<File, Fault> {
    let Some(file) = file else { return Ok(File::default()) };
    let text = std::fs::read_to_string(file).map_err(|error| Fault::Usage(format!("{}: {error}", file.display())))?;
    toml::from_str(&text).map_err(|error| Fault::Usage(format!("{}: {error}", file.display())))
}

/// How long data is kept and how much room it may take: from the command line and the environment,
/// else the file, else by default.
fn policy(given: Keep, file: Keep) -> Result<Policy, Fault> {
    let default = Policy::default();
    let days =
        |name: &str, given: Option<i64>, file: Option<i64>, default: i64, bounds: std::ops::RangeInclusive<i64>| {
            let days = given.or(file).unwrap_or(default);
            let refused = || {
                Fault::Usage(format!(
                    "{name} is {days}; it must be {} to {}",
                    bounds.start(),
                    bounds.end()
                ))
            };
            if bounds.contains(&days) {
                Ok(days)
            } else {
                Err(refused())
            }
        };
    let size = |name: &str, given: Option<String>, file: Option<String>| {
        let text = given.or(file);
        text.map(|text| bytes(name, &text))
            .transpose()
            .map(|size| size.map(|bytes| i64::try_from(bytes).unwrap_or(i64::MAX)))
    };
    let month = 1..=RETENTION_DAYS;
    let within_a_month = |name, given, file, default| days(name, given, file, default, month.clone());
    Ok(Policy {
        occurrence_days: within_a_month(
            "occurrence-days",
            given.occurrence_days,
            file.occurrence_days,
            default.occurrence_days,
        )?,
        log_days: within_a_month("log-days", given.log_days, file.log_days, default.log_days)?,
        trace_days: within_a_month("trace-days", given.trace_days, file.trace_days, default.trace_days)?,
        metric_days: within_a_month("metric-days", given.metric_days, file.metric_days, default.metric_days)?,
        count_days: days(
            "count-days",
            given.count_days,
            file.count_days,
            default.count_days,
            RETENTION_DAYS..=COUNT_DAYS,
        )?,
        hot_bytes: size("hot-bytes", given.hot_bytes, file.hot_bytes)?.unwrap_or(default.hot_bytes),
        trace_bytes: size("trace-bytes", given.trace_bytes, file.trace_bytes)?,
        log_bytes: size("log-bytes", given.log_bytes, file.log_bytes)?,
        body_bytes: size("body-bytes", given.body_bytes, file.body_bytes)?,
        database_bytes: size("database-bytes", given.database_bytes, file.database_bytes)?,
        min_free_bytes: size("min-free", given.min_free, file.min_free)?.unwrap_or(default.min_free_bytes),
    })
}

/// Reads the address under which people reach the installation: http or https, a host, no query.
pub fn public_url(text: &str) -> Result<String, Fault> {
    let refused = || {
        Fault::Usage(format!(
            "--public-url is `{text}`; write it like https://outcrop.skerry.example"
        ))
    };
    let url = reqwest::Url::parse(text.trim())
        .ok()
        .filter(|url| matches!(url.scheme(), "http" | "https"))
        .ok_or_else(refused)?;
    let is_bare = url.host_str().is_some()
        && url.path() == "/"
        && url.query().is_none()
        && url.fragment().is_none()
        && url.username().is_empty();
    if is_bare {
        Ok(url.as_str().trim_end_matches('/').to_owned())
    } else {
        Err(refused())
    }
}

/// Reads an address, or a network as `10.0.0.0/8`.
fn network(text: &str) -> Result<ipnet::IpNet, Fault> {
    let text = text.trim();
    text.parse()
        .ok()
        .or_else(|| text.parse::<std::net::IpAddr>().ok().map(Into::into))
        .ok_or_else(|| {
            Fault::Usage(format!(
                "--trusted-proxy is `{text}`; write it like 10.0.0.7 or 10.0.0.0/8"
            ))
        })
}

/// Reads a size: `16MiB`, `512 KiB`, `20MB`, `1048576`.
pub fn bytes(name: &str, text: &str) -> Result<usize, Fault> {
    text.parse::<ByteSize>()
        .ok()
        .and_then(|size| usize::try_from(size.as_u64()).ok())
        // The crate takes what is past its range for the largest size.
        .filter(|size| (1..usize::MAX).contains(size))
        .ok_or_else(|| Fault::Usage(format!("--{name} is `{text}`; write it like 512KiB, 16MiB or 1GiB")))
}

/// Opens a listener, with a message that says what to do when the address is taken.
pub fn listen(option: &str, address: &str) -> Result<TcpListener, Fault> {
    TcpListener::bind(address).map_err(|error| {
        let hint = if option.starts_with("otlp-") {
            "; give another address or `none`"
        } else {
            ""
        };
        Fault::Usage(format!("--{option} {address}: {error}{hint}"))
    })
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("https://outcrop.skerry.example/", Some("https://outcrop.skerry.example"))]
    #[case("http://10.0.0.7:8471", Some("http://10.0.0.7:8471"))]
    #[case("outcrop.skerry.example", None)]
    #[case("ftp://outcrop.skerry.example", None)]
    #[case("https://skerry.example/outcrop", None)]
    #[case("https://outcrop.skerry.example/?a=b", None)]
    fn a_public_address_is(#[case] text: &str, #[case] expected: Option<&str>) {
        assert_eq!(public_url(text).ok().as_deref(), expected);
    }

    #[rstest]
    #[case("16MiB", Some(16 << 20))]
    #[case("512 KiB", Some(512 << 10))]
    #[case("20MB", Some(20_000_000))]
    #[case("1.5GiB", Some(3 << 29))]
    #[case("1048576", Some(1 << 20))]
    #[case("0", None)]
    #[case("-1MiB", None)]
    #[case("16 ferries", None)]
    #[case("", None)]
    #[case("99999999999999999999GiB", None)]
    fn a_size_is_read(#[case] text: &str, #[case] expected: Option<usize>) {
        assert_eq!(bytes("body-bytes", text).ok(), expected);
    }

    #[rstest]
    #[case("127.0.0.1:8471", true)]
    #[case("[::1]:8471", true)]
    #[case("localhost:8471", true)]
    #[case("none", true)]
    #[case("no address", true)]
    #[case("0.0.0.0:8471", false)]
    #[case("[::]:8471", false)]
    #[case("10.0.0.7:4317", false)]
    fn clear_text_stays_on_this_machine(#[case] address: &str, #[case] is_fine: bool) {
        let told = must_stay_here("listen", address).map_err(|fault| fault.to_string());
        assert_eq!(told.is_ok(), is_fine, "{told:?}");
        assert!(is_fine || told.unwrap_err().contains("--tls-cert and --tls-key"));
    }

    #[test]
    fn a_certificate_comes_with_its_key() {
        let path = || Some(PathBuf::from("x.pem"));
        assert!(certificate(path(), None).is_err() && certificate(None, path()).is_err());
        assert!(certificate(path(), path()).unwrap().is_some() && certificate(None, None).unwrap().is_none());
    }

    #[test]
    fn what_is_kept_comes_from_the_command_line_before_the_file_within_bounds() {
        let given = Keep {
            log_days: Some(3),
            body_bytes: Some("2GiB".to_owned()),
            ..Keep::default()
        };
        let file = Keep {
            log_days: Some(14),
            trace_days: Some(10),
            ..Keep::default()
        };
        let policy_of = policy(given, file).unwrap();
        let expected = Policy {
            log_days: 3,
            trace_days: 10,
            body_bytes: Some(2 << 30),
            ..Policy::default()
        };
        assert_eq!(policy_of, expected);
        for keep in [
            Keep {
                occurrence_days: Some(31),
                ..Keep::default()
            },
            Keep {
                log_days: Some(0),
                ..Keep::default()
            },
            Keep {
                metric_days: Some(31),
                ..Keep::default()
            },
            Keep {
                count_days: Some(29),
                ..Keep::default()
            },
            Keep {
                trace_bytes: Some("much".to_owned()),
                ..Keep::default()
            },
        ] {
            assert!(policy(keep, Keep::default()).is_err());
        }
        assert!(
            toml::from_str::<File>("log_days = 7\nbody_bytes = \"2GiB\"")
                .is_ok_and(|file| file.keep.log_days == Some(7))
        );
        assert!(toml::from_str::<File>("log_dayz = 7").is_err(), "a slip is told");
    }

    #[rstest]
    #[case("10.0.0.7", Some("10.0.0.7/32"))]
    #[case("10.0.0.0/8", Some("10.0.0.0/8"))]
    #[case("2001:db8::/32", Some("2001:db8::/32"))]
    #[case("10.0.0.0/33", None)]
    #[case("proxy.skerry.example", None)]
    fn a_network_of_proxies_is(#[case] text: &str, #[case] expected: Option<&str>) {
        assert_eq!(
            network(text).ok().map(|network| network.to_string()).as_deref(),
            expected
        );
    }
}
