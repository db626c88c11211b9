//! A stand-in for a ticket tracker: makes tickets, says their state, shows them on a page. For the demo and for tests.

use std::sync::{Arc, Mutex, PoisonError};

use actix_web::http::header::AUTHORIZATION;
use actix_web::{App, HttpRequest, HttpResponse, HttpServer, web};
use serde_json::{Value, json};
use tokio_util::sync::CancellationToken;

use crate::page::escaped;

/// The secret that its requests must bear.
pub const TRACKER_SECRET: &str = "harbour-lights";

/// Tickets kept at most: a stand-in forgets the oldest.
const MOST: usize = 1_000;

#[derive(Clone, Default)]
struct Tickets(Arc<Mutex<Vec<Value>>>);

impl Tickets {
    fn with<T>(&self, work: impl FnOnce(&mut Vec<Value>) -> T) -> T {
        work(&mut self.0.lock().unwrap_or_else(PoisonError::into_inner))
    }
}

/// Serves it until it is stopped.
///
/// # Errors
/// When the listener cannot be used.
pub async fn tracker(listener: std::net::TcpListener, stop: CancellationToken) -> std::io::Result<()> {
    let tickets = web::Data::new(Tickets::default());
    let server = HttpServer::new(move || {
        App::new()
            .app_data(tickets.clone())
            .route("/tickets", web::post().to(make))
            .route("/tickets/{id}", web::get().to(show))
            .route("/tickets/{id}/{state}", web::post().to(set))
            .route("/", web::get().to(list))
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

fn is_known(request: &HttpRequest) -> bool {
    let given = request
        .headers()
        .get(AUTHORIZATION)
        .and_then(|value| value.to_str().ok());
    given == Some(&format!("Bearer {TRACKER_SECRET}"))
}

async fn make(request: HttpRequest, body: web::Json<Value>, tickets: web::Data<Tickets>) -> HttpResponse {
    if !is_known(&request) {
        return HttpResponse::Unauthorized().json(json!({"message": "the secret is wrong"}));
    }
    let host = request.connection_info().host().to_owned();
    let made = tickets.with(|tickets| {
        if tickets.len() >= MOST {
            tickets.remove(0);
        }
        let last = tickets
            .last()
            .and_then(|ticket| ticket["id"].as_u64())
            .unwrap_or_default();
        let id = last + 1;
        let url = format!("http://{host}/tickets/{id}");
        let ticket = json!({"id": id, "url": url, "state": "waiting", "title": body["title"], "text": body["text"]});
        tickets.push(ticket.clone());
        ticket
    });
    HttpResponse::Created().json(made)
}

fn place(tickets: &[Value], id: u64) -> Option<usize> {
    tickets.iter().position(|ticket| ticket["id"] == id)
}

async fn show(path: web::Path<u64>, tickets: web::Data<Tickets>) -> HttpResponse {
    let found = tickets.with(|tickets| place(tickets, *path).map(|place| tickets[place].clone()));
    found.map_or_else(
        || HttpResponse::NotFound().finish(),
        |ticket| HttpResponse::Ok().json(ticket),
    )
}

async fn set(path: web::Path<(u64, String)>, tickets: web::Data<Tickets>) -> HttpResponse {
    let (id, state) = path.into_inner();
    let is_set = tickets.with(|tickets| {
        let found = place(tickets, id);
        if let Some(place) = found {
            tickets[place]["state"] = json!(state);
        }
        found.is_some()
    });
    if is_set {
        HttpResponse::SeeOther().insert_header(("location", "/")).finish()
    } else {
        HttpResponse::NotFound().finish()
    }
}

async fn list(tickets: web::Data<Tickets>) -> HttpResponse {
    let rows = tickets.with(|tickets| {
        let row = |ticket: &Value| {
            let of = |name: &str| escaped(ticket[name].as_str().unwrap_or_default());
            format!(
                "<article><h2>{} · {}</h2><p>{}</p><pre>{}</pre><form method=post action=\"/tickets/{}/done\">\
                 <button>Done</button></form></article>",
                ticket["id"],
                of("title"),
                of("state"),
                of("text"),
                ticket["id"]
            )
        };
        tickets.iter().rev().map(row).collect::<String>()
    });
    HttpResponse::Ok().content_type("text/html; charset=utf-8").body(format!(
        "<!doctype html><html lang=en><title>Tickets of Skerry Line</title><h1>Tickets of Skerry Line</h1>{}</html>",
        if rows.is_empty() { "<p>None yet.</p>".to_owned() } else { rows }
    ))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn a_ticket_is_made_with_the_secret_alone_and_its_state_is_set_and_read() {
        let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
        let base = format!("http://{}", listener.local_addr().unwrap());
        let stop = CancellationToken::new();
        let serving = tokio::spawn(tracker(listener, stop.clone()));
        let http = reqwest::Client::new();
        let make = http
            .post(format!("{base}/tickets"))
            .body(r#"{"title": "<b>no tariff"}"#)
            .header("content-type", "application/json");
        let refused = make.try_clone().unwrap().send().await.unwrap();
        assert_eq!(refused.status(), 401);
        let made = make
            .bearer_auth(TRACKER_SECRET)
            .send()
            .await
            .unwrap()
            .text()
            .await
            .unwrap();
        let made: Value = serde_json::from_str(&made).unwrap();
        assert_eq!((&made["id"], &made["state"]), (&json!(1), &json!("waiting")));
        http.post(format!("{base}/tickets/1/done")).send().await.unwrap();
        let read = http
            .get(made["url"].as_str().unwrap())
            .send()
            .await
            .unwrap()
            .text()
            .await
            .unwrap();
        assert!(read.contains(r#""state":"done""#), "{read}");
        let page = http.get(&base).send().await.unwrap().text().await.unwrap();
        assert!(page.contains("&lt;b&gt;no tariff"), "{page}");
        stop.cancel();
        serving.await.unwrap().unwrap();
    }
}
