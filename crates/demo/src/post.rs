//! A stand-in for a mail server, a chat and a webhook receiver, whose post can be read on a page. For the demo and for tests.

use std::sync::{Arc, Mutex, PoisonError};

use actix_web::{App, HttpRequest, HttpResponse, HttpServer, web};
use mail_parser::MessageParser;
use serde_json::{Value, json};
use tokio::io::{AsyncBufRead, AsyncBufReadExt as _, AsyncWriteExt as _, BufReader};
use tokio::net::TcpStream;
use tokio_util::sync::CancellationToken;

use crate::page::{escaped, linked};

/// Letters kept at most: a stand-in forgets the oldest.
const MOST: usize = 500;
/// Longest mail that is taken, in bytes.
const LONGEST_MAIL: usize = 1 << 20;
/// Longest line of a mail client, in bytes (RFC 5321, 4.5.3.1.6, with room to spare).
const LONGEST_LINE: u64 = 64 << 10;

/// Something that came.
#[derive(Clone, Debug, PartialEq)]
pub struct Letter {
    /// `mail`, or the path that it was posted to.
    pub by: String,
    /// To whom: addresses of a mail.
    pub to: Vec<String>,
    /// What it is about.
    pub subject: String,
    /// The mail as it came; of a post the JSON.
    pub sent: String,
    /// What a person reads of it.
    pub text: String,
}

/// What came so far.
#[derive(Clone, Default)]
pub struct Post(Arc<Mutex<Vec<Letter>>>);

impl Post {
    /// The letters, the first first.
    #[must_use]
    pub fn letters(&self) -> Vec<Letter> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }

    fn add(&self, letter: Letter) {
        let mut letters = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if letters.len() >= MOST {
            letters.remove(0);
        }
        letters.push(letter);
    }

    /// Takes mail by SMTP until it is stopped.
    ///
    /// # Errors
    /// When the listener cannot be used.
    pub async fn take_mail(self, listener: std::net::TcpListener, stop: CancellationToken) -> std::io::Result<()> {
        listener.set_nonblocking(true)?;
        let listener = tokio::net::TcpListener::from_std(listener)?;
        loop {
            let stream = tokio::select! {
                () = stop.cancelled() => return Ok(()),
                accepted = listener.accept() => accepted?.0,
            };
            let post = self.clone();
            // A client that goes away in the middle has sent nothing.
            drop(tokio::spawn(async move { drop(post.serve(stream).await) }));
        }
    }

    /// One conversation (RFC 5321, as much of it as a sender needs).
    async fn serve(&self, stream: TcpStream) -> std::io::Result<()> {
        let (read, mut write) = stream.into_split();
        let mut read = BufReader::new(read);
        write.write_all(b"220 post.skerry.example\r\n").await?;
        let mut to: Vec<String> = vec![];
        while let Some(line) = line(&mut read).await? {
            let upper = line.to_ascii_uppercase();
            let answer = if upper.starts_with("EHLO") || upper.starts_with("HELO") {
                "250 post.skerry.example"
            } else if upper.starts_with("MAIL FROM:") {
                to.clear();
                "250 ok"
            } else if upper.starts_with("RCPT TO:") {
                let address = line.get(8..).unwrap_or_default().trim().trim_matches(['<', '>']);
                to.push(address.to_owned());
                "250 ok"
            } else if upper.starts_with("DATA") && to.is_empty() {
                "503 to whom?"
            } else if upper.starts_with("DATA") {
                write.write_all(b"354 go on\r\n").await?;
                let Some(mail) = data(&mut read).await? else {
                    write.write_all(b"552 too long\r\n").await?;
                    return Ok(());
                };
                self.add(of_mail(std::mem::take(&mut to), mail));
                "250 taken"
            } else if upper.starts_with("QUIT") {
                write.write_all(b"221 bye\r\n").await?;
                return Ok(());
            } else if upper.starts_with("RSET") || upper.starts_with("NOOP") {
                "250 ok"
            } else {
                "502 not known here"
            };
            write.write_all(answer.as_bytes()).await?;
            write.write_all(b"\r\n").await?;
        }
        Ok(())
    }

    /// Serves the page, and takes what chats and webhooks are sent (`POST /rooms/…`, `POST /hooks/…`), until it is stopped.
    ///
    /// # Errors
    /// When the listener cannot be used.
    pub async fn receive(self, listener: std::net::TcpListener, stop: CancellationToken) -> std::io::Result<()> {
        let post = web::Data::new(self);
        let server = HttpServer::new(move || {
            App::new()
                .app_data(post.clone())
                .app_data(web::PayloadConfig::new(LONGEST_MAIL))
                .route("/rooms/{name}", web::post().to(take))
                .route("/hooks/{name}", web::post().to(take))
                .route("/letters.json", web::get().to(list))
                .route("/", web::get().to(show))
        })
        .workers(1)
        .disable_signals()
        .listen(listener)?
        .run();
        let handle = server.handle();
        tokio::spawn(async move {
            stop.cancelled().await;
            handle.stop(false).await;
        });
        server.await
    }
}

/// One line without its end; `None` at the end of what is sent.
async fn line(read: &mut (impl AsyncBufRead + Unpin)) -> std::io::Result<Option<String>> {
    use tokio::io::AsyncReadExt as _;
    let mut bytes = vec![];
    let count = read.take(LONGEST_LINE).read_until(b'\n', &mut bytes).await?;
    let text = String::from_utf8_lossy(&bytes);
    Ok((count > 0).then(|| text.trim_end_matches(['\r', '\n']).to_owned()))
}

/// A mail's lines up to the one with a dot alone; `None` of one that is too long.
async fn data(read: &mut (impl AsyncBufRead + Unpin)) -> std::io::Result<Option<String>> {
    let mut mail = String::new();
    while let Some(line) = line(read).await? {
        if line == "." {
            return Ok(Some(mail));
        }
        mail.push_str(line.strip_prefix('.').unwrap_or(&line));
        mail.push_str("\r\n");
        if mail.len() > LONGEST_MAIL {
            return Ok(None);
        }
    }
    Ok(None)
}

fn of_mail(to: Vec<String>, sent: String) -> Letter {
    let read = MessageParser::default().parse(sent.as_bytes());
    let subject = read
        .as_ref()
        .and_then(|mail| mail.subject())
        .unwrap_or_default()
        .to_owned();
    let text = read
        .as_ref()
        .and_then(|mail| mail.body_text(0))
        .unwrap_or_default()
        .into_owned();
    Letter {
        by: "mail".to_owned(),
        to,
        subject,
        text,
        sent,
    }
}

/// What was posted: of a chat its text, of an event its subject.
async fn take(request: HttpRequest, body: web::Bytes, post: web::Data<Post>) -> HttpResponse {
    let Ok(json) = serde_json::from_slice::<Value>(&body) else {
        return HttpResponse::BadRequest().finish();
    };
    let of = |pointer: &str| json.pointer(pointer).and_then(Value::as_str).map(str::to_owned);
    let text = of("/text").unwrap_or_else(|| serde_json::to_string_pretty(&json).unwrap_or_default());
    let signed = request.headers().get("signature").map(|_| vec!["signed".to_owned()]);
    post.add(Letter {
        by: request.path().trim_start_matches('/').to_owned(),
        to: signed.unwrap_or_default(),
        subject: of("/data/subject")
            .or_else(|| text.lines().next().map(str::to_owned))
            .unwrap_or_default(),
        sent: json.to_string(),
        text,
    });
    HttpResponse::Ok().json(json!({"taken": true}))
}

async fn list(post: web::Data<Post>) -> HttpResponse {
    let letters: Vec<Value> = (post.letters().iter())
        .map(|letter| json!({"by": letter.by, "to": letter.to, "subject": letter.subject, "text": letter.text}))
        .collect();
    HttpResponse::Ok().json(letters)
}

async fn show(post: web::Data<Post>) -> HttpResponse {
    let letters = post.letters();
    let mut rows = String::new();
    for letter in letters.iter().rev() {
        let (subject, by, to) = (
            escaped(&letter.subject),
            escaped(&letter.by),
            escaped(&letter.to.join(", ")),
        );
        let text = linked(&letter.text);
        rows.extend([
            "<article><h2>",
            &subject,
            "</h2><p>",
            &by,
            " ",
            &to,
            "</p><pre>",
            &text,
            "</pre></article>",
        ]);
    }
    let rows = if rows.is_empty() {
        "<p>Nothing came yet.</p>".to_owned()
    } else {
        rows
    };
    HttpResponse::Ok()
        .content_type("text/html; charset=utf-8")
        .body(format!(
            "<!doctype html><html lang=en><meta charset=utf-8><title>Post of Skerry Line</title>\
         <style>body{{font:15px/1.5 sans-serif;max-width:60rem;margin:2rem auto;padding:0 1rem}}\
         article{{border-top:1px solid #bbb}}h2{{font-size:1rem}}pre{{white-space:pre-wrap}}</style>\
         <h1>Post of Skerry Line</h1>{rows}</html>"
        ))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn a_mail_is_taken_and_read_and_one_without_recipients_is_not() {
        let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
        let address = listener.local_addr().unwrap();
        let (post, stop) = (Post::default(), CancellationToken::new());
        let serving = tokio::spawn(post.clone().take_mail(listener, stop.clone()));
        let mut client = BufReader::new(TcpStream::connect(address).await.unwrap());
        let mut say = async |text: &str| {
            client.write_all(text.as_bytes()).await.unwrap();
            line(&mut client).await.unwrap().unwrap()
        };
        assert!(say("").await.starts_with("220"));
        assert!(say("EHLO here\r\n").await.starts_with("250"));
        assert!(say("MAIL FROM:<outcrop@skerry.example>\r\n").await.starts_with("250"));
        assert!(say("DATA\r\n").await.starts_with("503"));
        assert!(say("RCPT TO:<purser@skerry.example>\r\n").await.starts_with("250"));
        assert!(say("DATA\r\n").await.starts_with("354"));
        let mail = "Subject: New in =?utf-8?q?f=C3=A4res?=\r\nContent-Type: text/plain; charset=utf-8\r\n\
            Content-Transfer-Encoding: quoted-printable\r\n\r\n..no tariff=3D\r\n.\r\n";
        assert!(say(mail).await.starts_with("250"));
        assert!(say("VRFY x\r\n").await.starts_with("502"));
        assert!(say("QUIT\r\n").await.starts_with("221"));
        let letters = post.letters();
        assert_eq!(
            (letters[0].subject.as_str(), letters[0].text.trim()),
            ("New in färes", ".no tariff=")
        );
        assert_eq!(letters[0].to, ["purser@skerry.example"]);
        stop.cancel();
        serving.await.unwrap().unwrap();
    }

    #[tokio::test]
    async fn what_is_posted_can_be_read_on_a_page() {
        let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
        let base = format!("http://{}", listener.local_addr().unwrap());
        let (post, stop) = (Post::default(), CancellationToken::new());
        let serving = tokio::spawn(post.clone().receive(listener, stop.clone()));
        let http = reqwest::Client::new();
        let page = async || http.get(&base).send().await.unwrap().text().await.unwrap();
        assert!(page().await.contains("Nothing came yet"));
        let send = async |path: &str, body: &'static str| {
            http.post(format!("{base}{path}"))
                .body(body)
                .send()
                .await
                .unwrap()
                .status()
        };
        assert_eq!(
            send("/rooms/ops", r#"{"text": "New: <b>\nhttp://a.example/"}"#).await,
            200
        );
        assert_eq!(send("/rooms/ops", "no json").await, 400);
        assert_eq!(send("/hooks/pager", r#"{"data": {"subject": "Surging"}}"#).await, 200);
        let shown = page().await;
        assert!(
            shown.contains("New: &lt;b&gt;") && shown.contains("<a href=\"http://a.example/\">"),
            "{shown}"
        );
        assert_eq!(post.letters()[1].subject, "Surging");
        stop.cancel();
        serving.await.unwrap().unwrap();
    }
}
