//! Runs a command and reports the run: a request of its service, and a failure where it did not end well.

mod arguments;
mod child;
mod report;
mod spool;
mod tell;

pub use arguments::Run;

use std::time::Duration;

use child::Ending;
use reqwest::StatusCode;
use reqwest::header::CONTENT_TYPE;
use spool::Spool;
use tell::tell;

use crate::clock::now;
use crate::fault::Fault;

/// How long the report of a run may take: whoever waits for the command waits for it too.
const PATIENCE: Duration = Duration::from_secs(5);
/// How long reports of earlier runs may take, together.
const CATCHING_UP: Duration = Duration::from_secs(10);

/// Runs the command. What it does passes through; whatever becomes of the report, the exit code is the command's.
pub async fn run(arguments: Run) -> Result<(), Fault> {
    let sender = Sender::new(&arguments)?;
    if arguments.command.is_empty() {
        return sender.send_kept().await;
    }
    let started = now();
    let ids = report::Ids::random();
    let done = child::run(&arguments.command, &ids.traceparent()).await;
    let body = report::request(&arguments, &ids, (started, now()), &done);
    sender.report(&body.to_string()).await;
    if let Ending::Signal(number) = done.ending {
        // Whoever waits for the command sees that it was killed, and by what.
        child::end_by(number);
    }
    match done.ending.exit_code() {
        0 => Ok(()),
        code => Err(Fault::Ended(code)),
    }
}

struct Sender {
    http: reqwest::Client,
    url: String,
    key: Option<String>,
    spool: Result<Spool, Fault>,
}

/// What became of a report.
enum Sent {
    Taken,
    /// It may be taken later.
    Away(String),
    /// It will not be taken however often it is sent.
    Refused(String),
}

impl Sender {
    fn new(arguments: &Run) -> Result<Self, Fault> {
        let http = reqwest::Client::builder()
            .timeout(PATIENCE)
            .connect_timeout(Duration::from_secs(2))
            .user_agent(concat!("outcrop/", env!("CARGO_PKG_VERSION")))
            .build()
            .map_err(|error| Fault::Usage(format!("cannot make an HTTP client: {error}")))?;
        let url = arguments.url.trim_end_matches('/').to_owned();
        Ok(Self {
            http,
            spool: Spool::new(arguments.spool.clone(), &url, arguments.spool_bytes.as_u64()),
            url,
            key: arguments.key.clone().filter(|key| !key.is_empty()),
        })
    }

    /// Sends the report of this run, then those of earlier ones; what cannot be sent is kept.
    async fn report(&self, body: &str) {
        match self.send(body.to_owned()).await {
            Sent::Taken => drop(tokio::time::timeout(CATCHING_UP, self.catch_up()).await),
            Sent::Refused(why) => tell(&format!("this run was not taken: {why}")),
            Sent::Away(why) => match self.spool.as_ref().map(|spool| spool.keep(body)) {
                Ok(Ok(dropped)) => {
                    tell(&format!("{why}; the run is kept, and sent with the next one"));
                    if dropped > 0 {
                        tell(&format!(
                            "the oldest of the runs kept were dropped to make room: {dropped}"
                        ));
                    }
                }
                Ok(Err(error)) => tell(&format!("{why}; the run could not be kept: {error}")),
                Err(fault) => tell(&format!("{why}; the run could not be kept: {fault}")),
            },
        }
    }

    /// Sends what is kept and says how much that was.
    async fn send_kept(&self) -> Result<(), Fault> {
        let (sent, left) = self.catch_up().await;
        let runs = |n: usize| crate::output::counted(i64::try_from(n).unwrap_or(i64::MAX), "run", "runs");
        match left {
            Some(why) => Err(Fault::Away(format!(
                "{} sent, others are still kept: {why}",
                runs(sent)
            ))),
            None => crate::output::line(format!("{} sent; none is kept.", runs(sent))),
        }
    }

    /// Sends the runs that are kept, the oldest first. Returns how many went, and why it stopped before the end.
    async fn catch_up(&self) -> (usize, Option<String>) {
        let spool = match &self.spool {
            Ok(spool) => spool,
            Err(fault) => return (0, Some(fault.to_string())),
        };
        let mut sent = 0;
        for kept in spool.kept() {
            let Ok(body) = std::fs::read_to_string(&kept) else {
                // Another run took it, or it is unreadable: it stays for somebody to look at.
                continue;
            };
            match self.send(body).await {
                Sent::Away(why) => return (sent, Some(why)),
                Sent::Taken => sent += 1,
                Sent::Refused(why) => tell(&format!("a run that was kept was not taken: {why}")),
            }
            drop(std::fs::remove_file(&kept));
        }
        (sent, None)
    }

    async fn send(&self, body: String) -> Sent {
        let Some(key) = &self.key else {
            return Sent::Away("no sender key: set OUTCROP_KEY".to_owned());
        };
        let url = format!("{}/v1/traces", self.url);
        let sent = self
            .http
            .post(&url)
            .bearer_auth(key)
            .header(CONTENT_TYPE, "application/json")
            .body(body)
            .send()
            .await;
        match sent {
            Ok(answer) if answer.status().is_success() => {
                let answer: serde_json::Value = answer.json().await.unwrap_or_default();
                match answer["partialSuccess"]["errorMessage"]
                    .as_str()
                    .filter(|why| !why.is_empty())
                {
                    Some(why) => Sent::Refused(why.to_owned()),
                    None => Sent::Taken,
                }
            }
            Ok(answer) => {
                let status = answer.status();
                let body: serde_json::Value = answer.json().await.unwrap_or_default();
                let why = body["message"]
                    .as_str()
                    .map_or_else(String::new, |why| format!(": {why}"));
                let why = format!("{url} answered {status}{why}");
                // A key can be put right; a body that is refused stays what it is.
                let is_final = status.is_client_error()
                    && !matches!(
                        status,
                        StatusCode::UNAUTHORIZED
                            | StatusCode::FORBIDDEN
                            | StatusCode::TOO_MANY_REQUESTS
                            | StatusCode::NOT_FOUND
                    );
                if is_final { Sent::Refused(why) } else { Sent::Away(why) }
            }
            Err(error) => Sent::Away(crate::client::unreachable(&self.url, &error).to_string()),
        }
    }
}
