//! Posting to the intake as an SDK does: the same bytes again until they are taken.

use std::time::Duration;

/// Why telemetry was not taken.
#[derive(Debug, thiserror::Error)]
pub enum SendError {
    /// No answer, for as long as an SDK would try.
    #[error("the intake does not answer: {0}")]
    Unreachable(#[from] reqwest::Error),
    /// Refused for good.
    #[error("the intake answered {0}: {1}")]
    Refused(u16, String),
}

/// Where to post, and with which key.
#[derive(Clone)]
pub struct Sender {
    http: reqwest::Client,
    url: String,
    key: String,
}

/// Tries before giving up, a growing wait between them.
const TRIES: u32 = 6;

impl Sender {
    pub fn new(url: &str, key: &str) -> Self {
        Self {
            http: reqwest::Client::new(),
            url: url.trim_end_matches('/').to_owned(),
            key: key.to_owned(),
        }
    }

    pub async fn post(&self, path: &str, body: Vec<u8>) -> Result<(), SendError> {
        let mut tries = 0;
        loop {
            tries += 1;
            let request = self
                .http
                .post(format!("{}{path}", self.url))
                .bearer_auth(&self.key)
                .header("content-type", "application/x-protobuf");
            match request.body(body.clone()).send().await {
                Ok(answer) if answer.status().is_success() => return Ok(()),
                Ok(answer) if answer.status().as_u16() != 503 || tries == TRIES => {
                    return Err(SendError::Refused(
                        answer.status().as_u16(),
                        answer.text().await.unwrap_or_default(),
                    ));
                }
                Err(error) if tries == TRIES => return Err(error.into()),
                Ok(_) | Err(_) => tokio::time::sleep(Duration::from_millis(100 << tries)).await,
            }
        }
    }
}
