//! Mail: from a letter to a message, and the server that takes it.

use std::time::Duration;

use lettre::message::header::{Header, HeaderName, HeaderValue};
use lettre::message::{Mailbox, MultiPart};
use lettre::transport::smtp::response::Code;
use lettre::{AsyncSmtpTransport, AsyncTransport as _, Message, Tokio1Executor};

use super::letter::Letter;
use crate::settings::Mail;

/// How long a mail server may take for one mail, from looking it up on: less than a notice is held.
const TIMEOUT: Duration = Duration::from_secs(30);

/// Why a mail was not sent.
#[derive(Debug, thiserror::Error)]
pub(super) enum NotSent {
    /// It can be tried again.
    #[error("{0}")]
    Again(String),
    /// It never will be taken.
    #[error("{0}")]
    Never(String),
}

/// Says that nobody wrote it by hand, so that no absence notice answers it (RFC 3834).
#[derive(Clone)]
struct AutoSubmitted;

impl Header for AutoSubmitted {
    fn name() -> HeaderName {
        HeaderName::new_from_ascii_str("Auto-Submitted")
    }

    fn parse(_: &str) -> Result<Self, Box<dyn std::error::Error + Send + Sync>> {
        Ok(Self)
    }

    fn display(&self) -> HeaderValue {
        HeaderValue::new(Self::name(), "auto-generated".to_owned())
    }
}

fn transport(mail: &Mail) -> Result<AsyncSmtpTransport<Tokio1Executor>, String> {
    let builder = AsyncSmtpTransport::<Tokio1Executor>::from_url(&mail.server).map_err(|error| error.to_string())?;
    Ok(builder.timeout(Some(TIMEOUT)).build())
}

/// Makes the message of a letter. The same notice has the same id however often it is tried, and
/// notices of one error are a thread.
///
/// # Errors
/// A sentence with what is wrong: an address that is none.
pub(super) fn message(mail: &Mail, to: &str, letter: &Letter) -> Result<Message, String> {
    let from: Mailbox = mail.from.parse().map_err(|error| format!("{}: {error}", mail.from))?;
    let to: Mailbox = to.parse().map_err(|error| format!("{to}: {error}"))?;
    let domain = from.email.domain().to_owned();
    let mut builder = Message::builder()
        .from(from)
        .to(to)
        .subject(&letter.subject)
        .message_id(Some(format!("<notice-{}@{domain}>", letter.id)))
        .header(AutoSubmitted);
    if let Some(error) = letter.thread() {
        builder = builder.references(format!("<{error}@{domain}>"));
    }
    builder
        .multipart(MultiPart::alternative_plain_html(letter.as_text(), letter.as_html()))
        .map_err(|error| error.to_string())
}

/// Sends a letter. Returns what the server answered.
///
/// # Errors
/// [`NotSent`] with the server's answer, or why there was none.
pub(super) async fn send(mail: &Mail, to: &str, letter: &Letter) -> Result<String, NotSent> {
    let message = message(mail, to, letter).map_err(NotSent::Never)?;
    let transport = transport(mail).map_err(NotSent::Again)?;
    let sent = tokio::time::timeout(TIMEOUT, transport.send(message)).await;
    let answer =
        sent.map_err(|_elapsed| NotSent::Again(format!("the mail server took longer than {} s", TIMEOUT.as_secs())))?;
    match answer {
        Ok(response) => Ok(format!(
            "{} {}",
            response.code(),
            response.message().collect::<Vec<_>>().join(" ")
        )),
        Err(error) if error.is_permanent() && !is_of_sign_in(error.status()) => Err(NotSent::Never(told(&error))),
        Err(error) => Err(NotSent::Again(told(&error))),
    }
}

/// Signing in is the installation's to mend: the mail itself may be taken later (RFC 4954: 530, 534, 535, 538).
fn is_of_sign_in(code: Option<Code>) -> bool {
    code.is_some_and(|code| matches!(u16::from(code), 530 | 534 | 535 | 538))
}

fn told(error: &lettre::transport::smtp::Error) -> String {
    let mut said = error.to_string();
    let mut cause = std::error::Error::source(error);
    while let Some(next) = cause {
        let more = next.to_string();
        if !said.contains(&more) {
            said = format!("{said}: {more}");
        }
        cause = next.source();
    }
    said
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn mail() -> Mail {
        Mail {
            server: "smtp://127.0.0.1:25".to_owned(),
            from: "Outcrop <outcrop@skerry.example>".to_owned(),
        }
    }

    #[test]
    fn a_mail_has_an_id_that_stays_and_belongs_to_its_errors_thread() {
        let letter = Letter::for_tests("New in fares 2.4.0: no tariff");
        let text = String::from_utf8(message(&mail(), "purser@skerry.example", &letter).unwrap().formatted()).unwrap();
        for line in [
            "Message-ID: <notice-7@skerry.example>",
            "References: <kobal-tirun@skerry.example>",
            "Auto-Submitted: auto-generated",
            "Subject: New in fares 2.4.0: no tariff",
            "To: purser@skerry.example",
        ] {
            assert!(text.lines().any(|known| known == line), "{line}\n{text}");
        }
        assert!(text.contains("text/plain") && text.contains("text/html"));
    }

    proptest! {
        /// Whatever senders sent, no header is added and no recipient.
        #[test]
        fn a_subject_cannot_hold_another_header(title in "\\PC{0,40}(\r\n|\n|\r|\u{2028}|\0)?Bcc: all@skerry.example\\PC{0,80}") {
            let letter = Letter::for_tests(&title);
            let message = message(&mail(), "purser@skerry.example", &letter).unwrap();
            let text = String::from_utf8_lossy(&message.formatted()).into_owned();
            let (head, _) = text.split_once("\r\n\r\n").unwrap();
            prop_assert!(!head.lines().any(|line| line.to_ascii_lowercase().starts_with("bcc:")), "{head}");
            prop_assert_eq!(message.envelope().to().len(), 1);
        }
    }
}
