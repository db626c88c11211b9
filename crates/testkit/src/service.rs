//! The service as a process, for stories.

use std::io::{BufRead, BufReader, Write};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Output, Stdio};
use std::time::{Duration, Instant};

use reqwest::Response;
use serde_json::Value;
use sqlx::Connection;

use crate::Body;

/// The service's binary with a database, before it runs.
#[derive(Clone)]
pub struct Service {
    binary: PathBuf,
    database: String,
    variables: Vec<(String, String)>,
}

/// What a service logged so far.
type Log = std::sync::Arc<std::sync::Mutex<String>>;

/// The service, running, with a member's token and a sender key.
pub struct Running {
    service: Service,
    options: Vec<String>,
    child: Child,
    log: Log,
    /// Where API and OTLP/HTTP are.
    pub url: String,
    /// The member's address; the password is [`PASSWORD`].
    pub email: String,
    /// The member's token.
    pub token: String,
    /// A key for all services.
    pub key: String,
    http: reqwest::Client,
}

/// The password of the members made here.
pub const PASSWORD: &str = "low tide at noon";
const PATIENCE: Duration = Duration::from_secs(30);

impl Service {
    /// The service of a binary on a database.
    #[must_use]
    pub fn new(binary: impl AsRef<Path>, database: impl Into<String>) -> Self {
        Self {
            binary: binary.as_ref().to_owned(),
            database: database.into(),
            variables: vec![],
        }
    }

    /// Runs a command of the binary on the database and returns what came of it.
    ///
    /// # Panics
    /// When the binary cannot be started.
    #[must_use]
    pub fn command(&self, arguments: &[&str], input: &str) -> Output {
        self.command_with(arguments, input, &[])
    }

    /// Runs a command with more in its environment.
    ///
    /// # Panics
    /// When the binary cannot be started.
    #[must_use]
    pub fn command_with(&self, arguments: &[&str], input: &str, environment: &[(&str, &str)]) -> Output {
        let mut command = Command::new(&self.binary);
        command
            .args(arguments)
            .env("OUTCROP_DATABASE_URL", &self.database)
            .env("COLUMNS", "120")
            .env("XDG_CONFIG_HOME", "/nonexistent");
        command
            .envs(environment.iter().copied())
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(Stdio::piped());
        let mut child = command.spawn().expect("the binary starts");
        // A command that does not read its input may be gone before it is written.
        drop(child.stdin.take().expect("piped").write_all(input.as_bytes()));
        child.wait_with_output().expect("the binary ends")
    }

    /// Runs a command that must succeed; returns its standard output, trimmed.
    ///
    /// # Panics
    /// When it fails.
    #[must_use]
    pub fn succeed(&self, arguments: &[&str], input: &str) -> String {
        let output = self.command(arguments, input);
        assert!(
            output.status.success(),
            "{arguments:?}: {}",
            String::from_utf8_lossy(&output.stderr)
        );
        String::from_utf8(output.stdout)
            .expect("output is UTF-8")
            .trim()
            .to_owned()
    }

    /// Where its database is.
    #[must_use]
    pub fn database(&self) -> &str {
        &self.database
    }

    /// Asks the database directly; returns the row's columns as text, for looking where the API does not.
    ///
    /// # Panics
    /// When the question cannot be answered.
    pub async fn row(&self, sql: &str) -> Vec<Option<String>> {
        let mut connection = sqlx::PgConnection::connect(&self.database)
            .await
            .expect("the database answers");
        let columns: String = format!(
            "SELECT ARRAY(SELECT value FROM jsonb_each_text(to_jsonb(answer)) ORDER BY key) FROM ({sql}) AS answer"
        );
        let (row,): (Vec<Option<String>>,) = sqlx::query_as(sqlx::AssertSqlSafe(columns))
            .fetch_one(&mut connection)
            .await
            .unwrap_or_else(|error| panic!("{sql}: {error}"));
        row
    }

    /// Changes the database behind the service's back.
    ///
    /// # Panics
    /// When the statement fails.
    pub async fn execute(&self, sql: &'static str) {
        let mut connection = sqlx::PgConnection::connect(&self.database)
            .await
            .expect("the database answers");
        sqlx::query(sql)
            .execute(&mut connection)
            .await
            .unwrap_or_else(|error| panic!("{sql}: {error}"));
    }

    /// Every row of every table as text: where something must not be found.
    ///
    /// # Panics
    /// When the database does not answer.
    pub async fn all_text(&self) -> String {
        let mut connection = sqlx::PgConnection::connect(&self.database)
            .await
            .expect("the database answers");
        let tables: Vec<(String,)> = sqlx::query_as(
            "SELECT c.oid::regclass::text FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE \
             n.nspname = 'public' AND c.relkind = 'r'",
        )
        .fetch_all(&mut connection)
        .await
        .expect("tables can be listed");
        let mut text = String::new();
        for (table,) in tables {
            let columns: Vec<(String, bool)> = sqlx::query_as(
                "SELECT quote_ident(attname), format_type(atttypid, NULL) = 'bytea' FROM pg_attribute \
                 WHERE attrelid = $1::regclass AND attnum > 0 AND NOT attisdropped",
            )
            .bind(&table)
            .fetch_all(&mut connection)
            .await
            .expect("columns can be listed");
            let columns = columns.iter().map(|(name, is_bytes)| {
                if *is_bytes {
                    name.clone()
                } else {
                    format!("convert_to({name}::text, 'UTF8')")
                }
            });
            let sql = format!(
                "SELECT ARRAY[{}]::bytea[] FROM {table}",
                columns.collect::<Vec<_>>().join(", ")
            );
            let rows: Vec<(Vec<Option<Vec<u8>>>,)> = sqlx::query_as(sqlx::AssertSqlSafe(sql))
                .fetch_all(&mut connection)
                .await
                .unwrap_or_else(|error| panic!("{table}: {error}"));
            for value in rows.into_iter().flat_map(|(row,)| row).flatten() {
                // Bytes are read as the text they may hold, unpacked where they are packed.
                let bytes = zstd::stream::decode_all(value.as_slice()).unwrap_or(value);
                text.push_str(&String::from_utf8_lossy(&bytes));
                text.push('\n');
            }
        }
        text
    }

    /// The same service with a variable of the environment.
    #[must_use]
    pub fn with_variable(mut self, name: &str, value: &str) -> Self {
        self.variables.push((name.to_owned(), value.to_owned()));
        self
    }

    /// Starts the service with a new member, token and key, and waits until it is ready.
    ///
    /// # Panics
    /// When it does not become ready.
    pub async fn start(&self) -> Running {
        self.start_with(&[]).await
    }

    /// Like [`Service::start`], with further options of `serve`.
    ///
    /// # Panics
    /// When it does not become ready.
    pub async fn start_with(&self, options: &[&str]) -> Running {
        static COUNT: std::sync::atomic::AtomicU32 = std::sync::atomic::AtomicU32::new(0);
        let number = COUNT.fetch_add(1, std::sync::atomic::Ordering::Relaxed);
        let email = format!("purser{number}@skerry.example");
        let _said = self.succeed(&["admin", "migrate"], "");
        let _said = self.succeed(
            &["admin", "member", "add", &email, "--role", "admin", "--password-stdin"],
            &format!("{PASSWORD}\n"),
        );
        let token = self.succeed(&["admin", "token", "create", &email], "");
        let key = self.succeed(&["admin", "key", "create", &format!("pier-{number}")], "");
        let (child, url, log) = self.spawn(options);
        let options = options.iter().map(|option| (*option).to_owned()).collect();
        let running = Running {
            service: self.clone(),
            options,
            child,
            log,
            url,
            email,
            token,
            key,
            // A connection that lay idle may be closed by the service in the moment it is used again.
            http: reqwest::Client::builder()
                .pool_max_idle_per_host(0)
                .build()
                .expect("a client without any settings of the machine"),
        };
        running.wait_until_ready().await;
        running
    }

    fn spawn(&self, options: &[&str]) -> (Child, String, Log) {
        let mut command = Command::new(&self.binary);
        let address: &[&str] = if options.contains(&"--listen") {
            &[]
        } else {
            &["--listen", "127.0.0.1:0"]
        };
        let grpc: &[&str] = if options.contains(&"--otlp-grpc") {
            &[]
        } else {
            &["--otlp-grpc", "none"]
        };
        command
            .args(["serve", "--otlp-http", "none"])
            .args(grpc)
            .args(address)
            .args(options);
        command
            .env("OUTCROP_DATABASE_URL", &self.database)
            .env("NO_COLOR", "1")
            .envs(self.variables.iter().map(|(name, value)| (name, value)))
            .stdin(Stdio::null())
            .stdout(Stdio::null())
            .stderr(Stdio::piped());
        let mut child = command.spawn().expect("the binary starts");
        let mut lines = BufReader::new(child.stderr.take().expect("piped"));
        let mut line = String::new();
        let address = loop {
            line.clear();
            let read = lines.read_line(&mut line).expect("the log is text");
            assert!(read > 0, "the service ended before it listened");
            if let Some((_, address)) = line.split_once("address=") {
                break address.trim().to_owned();
            }
        };
        // The log is read to its end, else the service would stand still once the pipe is full; what it says is shown
        // with a failing test.
        let log = Log::default();
        let kept = log.clone();
        std::thread::spawn(move || {
            for line in lines.lines().map_while(Result::ok) {
                eprintln!("{line}");
                let mut kept = kept.lock().expect("nobody panics with it");
                kept.push_str(&line);
                kept.push('\n');
            }
        });
        (child, format!("http://{address}"), log)
    }
}

impl Running {
    /// Waits until the service says that it is ready.
    ///
    /// # Panics
    /// When it does not within half a minute.
    pub async fn wait_until_ready(&self) {
        let until = Instant::now() + PATIENCE;
        loop {
            let ready = self.http.get(format!("{}/readyz", self.url)).send().await;
            if ready.is_ok_and(|answer| answer.status().is_success()) {
                return;
            }
            assert!(Instant::now() < until, "the service did not become ready");
            tokio::time::sleep(Duration::from_millis(20)).await;
        }
    }

    /// A request to post, with the key.
    pub fn post(&self, path: &str) -> reqwest::RequestBuilder {
        self.http.post(format!("{}{path}", self.url)).bearer_auth(&self.key)
    }

    /// Sends a body.
    ///
    /// # Panics
    /// When the service does not answer.
    pub async fn send(&self, body: &Body) -> Response {
        self.try_send(body).await.expect("the service answers")
    }

    /// Sends a body.
    ///
    /// # Errors
    /// When the service does not answer.
    pub async fn try_send(&self, body: &Body) -> reqwest::Result<Response> {
        self.post(body.path)
            .header("content-type", body.content_type)
            .body(body.bytes.clone())
            .send()
            .await
    }

    /// Asks the API; returns status and JSON.
    ///
    /// # Panics
    /// When there is no JSON in the answer.
    pub async fn get(&self, path: &str) -> (u16, Value) {
        let answer = self
            .http
            .get(format!("{}{path}", self.url))
            .bearer_auth(&self.token)
            .send()
            .await
            .expect("the service answers");
        (
            answer.status().as_u16(),
            answer.json().await.expect("the answer is JSON"),
        )
    }

    /// Runs a command of the client against this service.
    #[must_use]
    pub fn client(&self, arguments: &[&str]) -> Output {
        let environment = [
            ("OUTCROP_URL", self.url.as_str()),
            ("OUTCROP_TOKEN", &self.token),
            ("OUTCROP_KEY", &self.key),
        ];
        self.service.command_with(arguments, "", &environment)
    }

    /// Runs a command of the client that must succeed, with `--json`.
    ///
    /// # Panics
    /// When it fails or prints no JSON.
    #[must_use]
    pub fn client_json(&self, arguments: &[&str]) -> Value {
        let output = self.client(&[arguments, &["--json"]].concat());
        assert!(
            output.status.success(),
            "{arguments:?}: {}",
            String::from_utf8_lossy(&output.stderr)
        );
        serde_json::from_slice(&output.stdout).expect("--json prints JSON")
    }

    /// The errors of the last day in the API's list.
    ///
    /// # Panics
    /// When the list cannot be read.
    pub async fn errors(&self) -> Vec<Value> {
        let (status, page) = self.get("/api/v1/errors?limit=500").await;
        assert_eq!(status, 200, "{page}");
        page["items"].as_array().expect("a page has items").clone()
    }

    /// The service's binary and database.
    #[must_use]
    pub const fn service(&self) -> &Service {
        &self.service
    }

    /// What the service has logged since it started to listen.
    ///
    /// # Panics
    /// Never: nobody panics while it is written.
    #[must_use]
    pub fn log(&self) -> String {
        self.log.lock().expect("nobody panics with it").clone()
    }

    /// The process id.
    #[must_use]
    pub fn pid(&self) -> u32 {
        self.child.id()
    }

    /// Kills the service with no chance to finish anything.
    pub fn kill(&mut self) {
        // One that is gone already is as good.
        drop(self.child.kill());
        drop(self.child.wait());
    }

    /// Kills the service with no chance to finish anything, and starts it again on the same address
    /// with the same options.
    ///
    /// # Panics
    /// When it does not come back.
    pub async fn kill_and_restart(&mut self) {
        self.restart_with(&[]).await;
    }

    /// The same, with other variables of the environment.
    ///
    /// # Panics
    /// When it does not come back.
    pub async fn restart_with(&mut self, variables: &[(&str, &str)]) {
        self.kill();
        let address = self.url.trim_start_matches("http://").to_owned();
        let options: Vec<&str> = self
            .options
            .iter()
            .map(String::as_str)
            .chain(["--listen", &address])
            .collect();
        let service = variables.iter().fold(self.service.clone(), |service, (name, value)| {
            service.with_variable(name, value)
        });
        let (child, _, log) = service.spawn(&options);
        (self.child, self.log) = (child, log);
        self.wait_until_ready().await;
    }

    /// Asks the service to stop and waits until it has.
    ///
    /// # Panics
    /// When it fails.
    pub fn stop(mut self) {
        let pid = self.child.id().to_string();
        assert!(
            Command::new("kill")
                .args(["-TERM", &pid])
                .status()
                .expect("kill runs")
                .success()
        );
        let status = self.child.wait().expect("the service ends");
        assert!(status.success(), "the service ended with {status}");
    }
}

impl Drop for Running {
    fn drop(&mut self) {
        // Stopped already, or no longer wanted.
        drop(self.child.kill());
        drop(self.child.wait());
    }
}
