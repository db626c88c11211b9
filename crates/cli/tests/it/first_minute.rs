//! The first minute of an installation, and what its listeners refuse: clear text beyond this machine.

use std::os::unix::fs::PermissionsExt;
use std::path::Path;
use std::process::{Child, Command, Output, Stdio};
use std::time::{Duration, Instant};

use outcrop_testkit::{PASSWORD, Postgres};
use rstest::rstest;
use serde_json::{Value, json};

use crate::protocols::free_port;

fn outcrop(folder: &Path, arguments: &[&str]) -> Output {
    Command::new(env!("CARGO_BIN_EXE_outcrop"))
        .args(arguments)
        .current_dir(folder)
        .env_remove("OUTCROP_DATABASE_URL")
        .stdin(Stdio::null())
        .output()
        .unwrap()
}

fn said(output: &Output) -> String {
    String::from_utf8_lossy(&output.stderr).into_owned() + &*String::from_utf8_lossy(&output.stdout)
}

/// A service that is killed with its test.
struct Served(Child);

impl Drop for Served {
    fn drop(&mut self) {
        let _ended = self.0.kill();
        let _code = self.0.wait();
    }
}

fn serve(folder: &Path, config: &str, options: &[&str]) -> Served {
    let mut command = Command::new(env!("CARGO_BIN_EXE_outcrop"));
    command
        .args(["serve", "--config", config, "--otlp-http", "none"])
        .args(options);
    command
        .current_dir(folder)
        .env_remove("OUTCROP_DATABASE_URL")
        .stderr(Stdio::null());
    Served(command.spawn().unwrap())
}

/// Waits until a request is answered as wanted.
async fn answered(what: &str, ask: impl AsyncFn() -> bool) {
    let until = Instant::now() + Duration::from_secs(40);
    while !ask().await {
        assert!(Instant::now() < until, "{what}");
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn an_installation_is_made_served_joined_and_sent_to() {
    let (server, folder) = (Postgres::shared().database(), tempfile::tempdir().unwrap());
    let name = format!("skerry_first_{}", std::process::id());
    let port = free_port();
    let public = format!("http://127.0.0.1:{port}");
    let init = [
        "init",
        "--server-url",
        &server,
        "--name",
        &name,
        "--admin",
        "purser@skerry.example",
    ];
    let made = outcrop(
        folder.path(),
        &[&init[..], &["--public-url", &public, "--json"]].concat(),
    );
    assert!(made.status.success(), "{}", said(&made));
    let made: Value = serde_json::from_slice(&made.stdout).unwrap();
    let file = folder.path().join("outcrop.toml");
    assert_eq!(file.metadata().unwrap().permissions().mode() & 0o777, 0o600);

    // Neither the file nor the database is written over; a failed try leaves no file.
    let again = outcrop(folder.path(), &init);
    assert!(again.status.code() == Some(2) && said(&again).contains("an installation is set up by it already"));
    let elsewhere = outcrop(folder.path(), &[&init[..], &["--to", "other.toml"]].concat());
    assert!(
        said(&elsewhere).contains(&format!("a role `{name}` is there already")),
        "{}",
        said(&elsewhere)
    );
    assert!(!folder.path().join("other.toml").exists());
    let nobody = outcrop(
        folder.path(),
        &[
            "init",
            "--to",
            "other.toml",
            "--server-url",
            "postgres://nobody@127.0.0.1:1/x",
            "--admin",
            "a@b.c",
        ],
    );
    assert!(
        nobody.status.code() == Some(4) && said(&nobody).contains("apt-get install postgresql"),
        "{}",
        said(&nobody)
    );

    let sample = outcrop(folder.path(), &["config", "sample"]);
    assert!(said(&sample).contains("# log_days = 7\n"), "{}", said(&sample));
    let printed = format!("{name}_printed");
    let options = [
        "init",
        "--server-url",
        &server,
        "--name",
        &printed,
        "--admin",
        "mate@skerry.example",
        "--to",
        "-",
    ];
    let printed = outcrop(folder.path(), &options);
    let settings = String::from_utf8(printed.stdout).unwrap();
    assert!(settings.starts_with("# The settings of outcrop serve"), "{settings}");
    assert!(
        settings.contains("database_url = \"postgres://") && !settings.contains("outcrop-key-"),
        "{settings}"
    );
    assert!(
        String::from_utf8(printed.stderr)
            .unwrap()
            .contains("OUTCROP_KEY=outcrop-key-")
    );

    let both = outcrop(folder.path(), &[&options[..], &["--json"]].concat());
    assert!(said(&both).contains("both write to standard output"), "{}", said(&both));
    let made_url: toml::Table = settings.parse().unwrap();
    let of_it = [
        "--database-url",
        made_url["database_url"].as_str().unwrap(),
        "--to",
        "third.toml",
    ];
    let used = outcrop(
        folder.path(),
        &[&["init", "--admin", "cook@skerry.example"], &of_it[..]].concat(),
    );
    assert!(said(&used).contains("is set up in it already"), "{}", said(&used));
    assert!(!folder.path().join("third.toml").exists());

    let check = outcrop(folder.path(), &["config", "check", "--config", "outcrop.toml"]);
    assert!(check.status.success(), "{}", said(&check));
    let _served = serve(
        folder.path(),
        "outcrop.toml",
        &["--listen", &format!("127.0.0.1:{port}"), "--otlp-grpc", "none"],
    );
    let http = reqwest::Client::new();
    answered("it is ready", async || {
        let answer = http.get(format!("{public}/readyz")).send().await;
        answer.is_ok_and(|answer| answer.status() == 200)
    })
    .await;
    let (_, secret) = made["link"].as_str().unwrap().split_once("/join#").unwrap();
    let joined = http
        .post(format!("{public}/api/v1/invitation/accept"))
        .json(&json!({"secret": secret, "password": PASSWORD}))
        .send()
        .await
        .unwrap();
    assert!(joined.status().is_success(), "{}", joined.text().await.unwrap());
    let key = made["key"].as_str().unwrap();
    let sent = Command::new(env!("CARGO_BIN_EXE_outcrop"))
        .args([
            "send",
            "--service",
            "hello",
            "--message",
            "a first report",
            "--url",
            &public,
        ])
        .env("OUTCROP_KEY", key)
        .output()
        .unwrap();
    assert!(sent.status.success(), "{}", said(&sent));
}

#[rstest]
#[case(&["--listen", "0.0.0.0:0"], "--listen 0.0.0.0:0: other machines would send")]
#[case(&["--otlp-grpc", "[::]:0"], "--otlp-grpc [::]:0: other machines would send")]
#[case(&["--tls-cert", "no.pem"], "--tls-cert needs --tls-key")]
#[case(&["--tls-cert", "no.pem", "--tls-key", "no.pem"], "--tls-cert no.pem: ")]
#[case(&["--config", "none.toml"], "none.toml: No such file")]
fn what_is_unsafe_is_refused_before_anything_listens(#[case] options: &[&str], #[case] why: &str) {
    let folder = tempfile::tempdir().unwrap();
    let database = ["serve", "--database-url", "postgres://nobody@127.0.0.1:1/x"];
    let refused = outcrop(folder.path(), &[&database[..], options].concat());
    assert_eq!(refused.status.code(), Some(2));
    assert!(said(&refused).contains(why), "{}", said(&refused));
    let without = outcrop(folder.path(), &["serve"]);
    assert!(
        said(&without).contains("sudo -u postgres outcrop init"),
        "{}",
        said(&without)
    );
}

/// Writes a certificate of this machine and its key into a folder; returns the certificate.
fn certificate(folder: &Path) -> String {
    let made = rcgen::generate_simple_self_signed(["127.0.0.1".to_owned(), "localhost".to_owned()]).unwrap();
    std::fs::write(folder.join("key.pem"), made.signing_key.serialize_pem()).unwrap();
    std::fs::write(folder.join("cert.pem"), made.cert.pem()).unwrap();
    made.cert.pem()
}

/// A client that trusts one certificate alone.
fn trusting(certificate: &str) -> reqwest::Client {
    reqwest::Client::builder()
        .tls_built_in_root_certs(false)
        .add_root_certificate(reqwest::Certificate::from_pem(certificate.as_bytes()).unwrap())
        .pool_max_idle_per_host(0)
        .build()
        .unwrap()
}

#[tokio::test(flavor = "multi_thread")]
async fn listeners_speak_tls_and_take_up_a_new_certificate() {
    let folder = tempfile::tempdir().unwrap();
    let database = Postgres::shared().database();
    std::fs::write(
        folder.path().join("outcrop.toml"),
        format!("database_url = \"{database}\"\n"),
    )
    .unwrap();
    let (port, grpc) = (free_port(), free_port());
    let first = certificate(folder.path());
    let (listen, otlp) = (format!("0.0.0.0:{port}"), format!("127.0.0.1:{grpc}"));
    let options = [
        "--listen",
        &listen,
        "--otlp-grpc",
        &otlp,
        "--tls-cert",
        "cert.pem",
        "--tls-key",
        "key.pem",
    ];
    let _served = serve(folder.path(), "outcrop.toml", &options);
    let url = format!("https://127.0.0.1:{port}");
    let is_ready = async |certificate: &str| {
        let answer = trusting(certificate).get(format!("{url}/readyz")).send().await;
        answer.is_ok_and(|answer| answer.status() == 200)
    };
    answered("it is ready over TLS", async || is_ready(&first).await).await;
    let plain = reqwest::get(format!("http://127.0.0.1:{port}/readyz")).await;
    assert!(plain.is_err(), "no clear text: {plain:?}");

    let key = outcrop(
        folder.path(),
        &["admin", "key", "create", "pier", "--config", "outcrop.toml"],
    );
    let export = trusting(&first)
        .post(format!(
            "https://127.0.0.1:{grpc}/opentelemetry.proto.collector.trace.v1.TraceService/Export"
        ))
        .header("content-type", "application/grpc")
        .header("te", "trailers")
        .bearer_auth(String::from_utf8(key.stdout).unwrap().trim())
        .body(vec![0; 5])
        .send()
        .await
        .unwrap();
    assert_eq!(
        (export.status().as_u16(), export.version()),
        (200, reqwest::Version::HTTP_2)
    );
    assert!(
        export.headers().get("grpc-status").is_none_or(|status| status == "0"),
        "{export:?}"
    );

    let client = Command::new(env!("CARGO_BIN_EXE_outcrop"))
        .args(["services", "--url", &url])
        .env("OUTCROP_TOKEN", "of-nobody")
        .env("SSL_CERT_FILE", folder.path().join("cert.pem"))
        .output()
        .unwrap();
    assert!(said(&client).contains("this token is not known"), "{}", said(&client));

    let second = certificate(folder.path());
    assert!(!is_ready(&second).await, "it presents the first one still");
    answered("the second certificate is presented", async || is_ready(&second).await).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_log_for_programs_is_an_object_a_line() {
    let folder = tempfile::tempdir().unwrap();
    let log = folder.path().join("log");
    let mut command = Command::new(env!("CARGO_BIN_EXE_outcrop"));
    command
        .args(["serve", "--log-format", "json", "--listen", "127.0.0.1:0"])
        .args(["--otlp-http", "none", "--otlp-grpc", "none", "--database-url"])
        .arg(Postgres::shared().database())
        .stderr(std::fs::File::create(&log).unwrap());
    let served = Served(command.spawn().unwrap());
    let written = || std::fs::read_to_string(&log).unwrap();
    answered("the service writes its log", async || {
        written().contains("API and OTLP/HTTP")
    })
    .await;
    drop(served);
    let text = written();
    let lines: Vec<Value> = text
        .lines()
        .map(|line| serde_json::from_str(line).unwrap_or_else(|_| panic!("{line}")))
        .collect();
    let said = lines
        .iter()
        .find(|line| line["message"] == "API and OTLP/HTTP")
        .unwrap();
    assert_eq!(said["level"], "INFO");
    assert!(said["address"].as_str().unwrap().starts_with("127.0.0.1:"), "{said}");
    assert!(said["timestamp"].is_string() && said["target"].is_string(), "{said}");
}
