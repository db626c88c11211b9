//! The client half: it knows the API and nothing else.

use std::io::Write as _;
use std::time::Duration;

use clap::Args;
use outcrop_api::Problem;
use reqwest::StatusCode;
use reqwest::header::HeaderMap;
use serde::de::DeserializeOwned;

use crate::fault::Fault;
use crate::profile;

#[derive(Args)]
#[command(next_help_heading = "Connection and output")]
pub struct Client {
    /// Address of the service [default: that of the profile, else `http://127.0.0.1:8471`].
    #[arg(long, env = "OUTCROP_URL", value_name = "URL", global = true)]
    pub url: Option<String>,
    /// Token to sign in with; set the variable instead, so that other users of the machine cannot read it.
    #[arg(
        long,
        env = "OUTCROP_TOKEN",
        value_name = "TOKEN",
        hide_env_values = true,
        global = true
    )]
    pub token: Option<String>,
    /// Print one JSON document instead of a table.
    #[arg(long, global = true)]
    pub json: bool,
}

/// How long an answer may take.
const TIMEOUT: Duration = Duration::from_secs(30);

/// A connection to the service's API.
pub struct Api {
    http: reqwest::Client,
    url: String,
    token: String,
}

impl Api {
    pub fn new(arguments: &Client) -> Result<Self, Fault> {
        let profile = profile::read()?;
        let (kept_url, kept_token) = profile.map_or((None, None), |profile| (Some(profile.url), Some(profile.token)));
        let url = arguments
            .url
            .clone()
            .or_else(|| kept_url.clone())
            .unwrap_or_else(|| "http://127.0.0.1:8471".to_owned());
        // A profile's token is for the profile's service and for no other.
        let kept_token = kept_token.filter(|_| kept_url.as_deref() == Some(url.as_str()));
        let token = arguments.token.clone().filter(|token| !token.is_empty()).or(kept_token);
        let token = token.ok_or_else(|| {
            Fault::Usage(
                "no token: `outcrop login URL --token-stdin`, or set OUTCROP_TOKEN; `outcrop admin token create \
                 EMAIL` makes one"
                    .to_owned(),
            )
        })?;
        Self::with(&url, token)
    }

    /// A connection with a token.
    pub fn with(url: &str, token: String) -> Result<Self, Fault> {
        Ok(Self {
            http: http()?,
            url: url.trim_end_matches('/').to_owned(),
            token,
        })
    }

    /// The service's address, without a slash at its end.
    pub fn url(&self) -> &str {
        &self.url
    }

    /// Asks for one JSON document.
    pub async fn get<T: DeserializeOwned>(&self, path: &str, query: &[(&str, Option<String>)]) -> Result<T, Fault> {
        let query: Vec<(&str, &String)> = query
            .iter()
            .filter_map(|(name, value)| Some((*name, value.as_ref()?)))
            .collect();
        let url = format!("{}/api/v1{path}", self.url);
        self.answer(&url, self.http.get(&url).query(&query), &query).await
    }

    /// Sends one JSON document and asks for another.
    pub async fn post<T: DeserializeOwned>(
        &self,
        path: &str,
        query: &[(&str, Option<String>)],
        body: &(impl serde::Serialize + Sync),
    ) -> Result<T, Fault> {
        let query: Vec<(&str, &String)> = query
            .iter()
            .filter_map(|(name, value)| Some((*name, value.as_ref()?)))
            .collect();
        let url = format!("{}/api/v1{path}", self.url);
        self.answer(&url, self.http.post(&url).query(&query).json(body), &query)
            .await
    }

    /// Sends one JSON document in place of what is there, and asks for another.
    pub async fn put<T: DeserializeOwned>(
        &self,
        path: &str,
        body: &(impl serde::Serialize + Sync),
    ) -> Result<T, Fault> {
        let url = format!("{}/api/v1{path}", self.url);
        self.answer(&url, self.http.put(&url).json(body), &[]).await
    }

    /// Sends a request that is answered without a document.
    pub async fn send(
        &self,
        method: reqwest::Method,
        path: &str,
        body: Option<&(impl serde::Serialize + Sync)>,
    ) -> Result<(), Fault> {
        let url = format!("{}/api/v1{path}", self.url);
        let mut request = self.http.request(method, &url);
        if let Some(body) = body {
            request = request.json(body);
        }
        let body = self.body(&url, request, &[]).await?;
        if body.is_empty() {
            Ok(())
        } else {
            Err(Fault::Refused(format!(
                "{url} answered something else than this release expects"
            )))
        }
    }

    async fn answer<T: DeserializeOwned>(
        &self,
        url: &str,
        request: reqwest::RequestBuilder,
        query: &[(&str, &String)],
    ) -> Result<T, Fault> {
        let body = self.body(url, request, query).await?;
        serde_json::from_slice(&body).map_err(|error| {
            Fault::Refused(format!(
                "{url} answered something else than this release expects: {error}"
            ))
        })
    }

    /// Asks for a page of JSON Lines; with what is to be given as `after` for the next one, where there is one.
    pub async fn lines(&self, path: &str, query: &[(&str, Option<String>)]) -> Result<(String, Option<String>), Fault> {
        let query: Vec<(&str, &String)> = query
            .iter()
            .filter_map(|(name, value)| Some((*name, value.as_ref()?)))
            .collect();
        let url = format!("{}/api/v1{path}", self.url);
        let (headers, body) = self.whole(&url, self.http.get(&url).query(&query), &query).await?;
        let next = headers.get(outcrop_api::NEXT).and_then(|next| next.to_str().ok());
        let text = String::from_utf8(body.into())
            .map_err(|error| Fault::Refused(format!("{url} answered something else than text: {error}")))?;
        Ok((text, next.map(str::to_owned)))
    }

    async fn body(
        &self,
        url: &str,
        request: reqwest::RequestBuilder,
        query: &[(&str, &String)],
    ) -> Result<bytes::Bytes, Fault> {
        Ok(self.whole(url, request, query).await?.1)
    }

    async fn whole(
        &self,
        url: &str,
        request: reqwest::RequestBuilder,
        query: &[(&str, &String)],
    ) -> Result<(HeaderMap, bytes::Bytes), Fault> {
        let answer = request
            .bearer_auth(&self.token)
            .send()
            .await
            .map_err(|error| unreachable(&self.url, &error))?;
        let status = answer.status();
        let headers = answer.headers().clone();
        if let Some(behind) = headers.get(outcrop_api::BEHIND) {
            tell_behind(behind.to_str().unwrap_or_default());
        }
        let body = answer.bytes().await.map_err(|error| unreachable(&self.url, &error))?;
        if status.is_success() {
            return Ok((headers, body));
        }
        let written = |(name, _): &&(&str, &String)| ["where", "question"].contains(name);
        let asked = |problem: Problem| match (problem.at, query.iter().find(written)) {
            (Some(at), Some((name, text))) => {
                let place = if *name == "where" { "--where" } else { "the question" };
                marked((place, text), at, problem.length.unwrap_or_default(), &problem.detail)
            }
            _ => problem.detail,
        };
        let detail =
            serde_json::from_slice::<Problem>(&body).map_or_else(|_| format!("{url} answered {status}"), asked);
        // What the caller wrote wrongly is usage; everything else is the service's answer.
        Err(match status {
            StatusCode::BAD_REQUEST => Fault::Usage(detail),
            StatusCode::BAD_GATEWAY | StatusCode::SERVICE_UNAVAILABLE | StatusCode::GATEWAY_TIMEOUT => {
                Fault::Away(detail)
            }
            _ => Fault::Refused(detail),
        })
    }
}

/// Says on standard error what the answer may lack.
fn tell_behind(behind: &str) {
    let by = behind.parse::<u64>().map_or_else(
        |_| "of unknown age".to_owned(),
        |seconds| format!("{seconds} s behind at most"),
    );
    drop(writeln!(
        std::io::stderr(),
        "note: a standby answered that is {by}: the newest may be missing"
    ));
}

/// A predicate or question with a mark below the place of a mistake in it.
fn marked((place, text): (&str, &str), at: u32, length: u32, message: &str) -> String {
    let marks = "^".repeat(length.max(1) as usize);
    format!(
        "in {place}:\n  {}\n  {}{marks}\n  {message}",
        outcrop_core::text::printable(text),
        " ".repeat(at as usize)
    )
}

/// An HTTP client with a time limit.
pub fn http() -> Result<reqwest::Client, Fault> {
    let builder = reqwest::Client::builder()
        .timeout(TIMEOUT)
        .user_agent(concat!("outcrop/", env!("CARGO_PKG_VERSION")));
    builder
        .build()
        .map_err(|error| Fault::Usage(format!("cannot make an HTTP client: {error}")))
}

/// The message for a service that does not answer.
pub fn unreachable(url: &str, error: &reqwest::Error) -> Fault {
    let mut cause: &dyn std::error::Error = error;
    while let Some(deeper) = cause.source() {
        cause = deeper;
    }
    Fault::Away(format!(
        "{url} cannot be reached: {cause}; is `outcrop serve` running there? (OUTCROP_URL, --url)"
    ))
}

/// A name as one segment of a path.
pub fn segment(name: &str) -> String {
    let mut url = reqwest::Url::parse("http://x/").expect("a plain URL always parses");
    if let Ok(mut segments) = url.path_segments_mut() {
        segments.push(name);
    }
    url.path().trim_start_matches('/').to_owned()
}
