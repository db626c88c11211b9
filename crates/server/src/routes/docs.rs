//! The docs, for whoever reaches the installation: they hold nothing of it.

use std::fmt::Write as _;

use actix_web::http::StatusCode;
use actix_web::http::header::{CACHE_CONTROL, CONTENT_SECURITY_POLICY};
use actix_web::{HttpRequest, HttpResponse, web};
use serde::Deserialize;

use super::parameters::parameters;
use crate::docs::{self, LONGEST, PARTS};
use crate::html::escaped;

/// Nothing from elsewhere, and no script at all.
const POLICY: &str = "default-src 'none'; style-src 'self'; img-src 'self'; base-uri 'none'; form-action 'self'; \
    frame-ancestors 'none'";
const STYLE: &str = include_str!("docs.css");

pub(super) fn routes(config: &mut web::ServiceConfig) {
    config
        .route("/docs", web::get().to(first))
        .route("/docs/", web::get().to(first))
        .route("/docs/style.css", web::get().to(style))
        .route("/docs/screenshots/{name}", web::get().to(picture))
        .route("/docs/{path:.*}", web::get().to(one));
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Query {
    /// What is searched for.
    q: Option<String>,
}

async fn first(request: HttpRequest) -> HttpResponse {
    let query: Result<Query, _> = parameters(request.query_string());
    match query.ok().and_then(|query| query.q) {
        Some(text) => {
            let text = outcrop_core::text::prefix(text.trim(), LONGEST);
            page(StatusCode::OK, &format!("{text} — search"), "", text, &found(text))
        }
        None => shown(""),
    }
}

async fn one(path: web::Path<String>) -> HttpResponse {
    shown(path.trim_end_matches('/'))
}

fn shown(path: &str) -> HttpResponse {
    match docs::pages().get(path) {
        Some(of) => page(StatusCode::OK, &of.title, path, "", &of.html),
        None => page(
            StatusCode::NOT_FOUND,
            "Nothing is here",
            path,
            "",
            "<h1>Nothing is here</h1><p>Search for it, or look through the list.</p>",
        ),
    }
}

fn found(text: &str) -> String {
    let found = docs::search(text);
    let mut html = format!(
        "<h1>{}</h1>",
        match found.len() {
            0 => format!("Nothing says “{}”", escaped(text)),
            1 => format!("One place says “{}”", escaped(text)),
            number => format!("{number} places say “{}”", escaped(text)),
        }
    );
    if found.is_empty() {
        html.push_str("<p>Try fewer words, or the beginning of one.</p>");
    }
    html.push_str("<dl>");
    for place in found {
        let _ = write!(
            html,
            "<dt><a href=\"{}\">{}</a></dt><dd>{}</dd>",
            escaped(&place.address),
            escaped(&place.title),
            escaped(&place.text)
        );
    }
    html.push_str("</dl>");
    html
}

fn page(status: StatusCode, title: &str, path: &str, searched: &str, content: &str) -> HttpResponse {
    let body = format!(
        "<!doctype html><html lang=\"en\"><head><meta charset=\"utf-8\"><title>{title} · Outcrop</title><meta \
         name=\"viewport\" content=\"width=device-width, initial-scale=1\"><link rel=\"icon\" href=\"/mark.svg\"><link \
         rel=\"stylesheet\" href=\"/docs/style.css\"></head><body><a class=\"skip\" href=\"#main\">To the \
         content</a><header><a class=\"mark\" href=\"/docs\"><img src=\"/mark.svg\" alt=\"\" width=\"20\" \
         height=\"18\"> outcrop docs</a><form action=\"/docs\" role=\"search\"><input type=\"search\" name=\"q\" \
         value=\"{searched}\" maxlength=\"{LONGEST}\" aria-label=\"Search the docs\" placeholder=\"search the \
         docs\"><button>Search</button></form><a href=\"/now\">Back to the console</a></header><div \
         class=\"columns\"><nav aria-label=\"Pages\">{list}</nav><main id=\"main\">{content}</main></div></body></html>",
        title = escaped(title),
        searched = escaped(searched),
        list = list(path),
    );
    HttpResponse::build(status)
        .content_type("text/html; charset=utf-8")
        .insert_header((CACHE_CONTROL, "no-cache"))
        .insert_header((CONTENT_SECURITY_POLICY, POLICY))
        .insert_header(("x-content-type-options", "nosniff"))
        .insert_header(("referrer-policy", "same-origin"))
        .body(body)
}

/// All pages by their part, the one that is read marked.
fn list(read: &str) -> String {
    let item = |path: &str, title: &str| {
        let current = if path == read { " aria-current=\"page\"" } else { "" };
        format!("<li><a href=\"/docs/{path}\"{current}>{}</a></li>", escaped(title))
    };
    let mut html = "<ul>".to_owned();
    for (path, of) in docs::pages()
        .iter()
        .filter(|(path, _)| !path.is_empty() && !path.contains('/'))
    {
        if PARTS.iter().all(|(folder, _)| folder != path) {
            html.push_str(&item(path, &of.title));
        }
    }
    html.push_str("</ul>");
    for (folder, name) in PARTS {
        let _ = write!(html, "<h2>{name}</h2><ul>");
        for (path, of) in docs::pages() {
            if path.split('/').next() == Some(folder) {
                html.push_str(&item(path, &of.title));
            }
        }
        html.push_str("</ul>");
    }
    html
}

async fn style() -> HttpResponse {
    HttpResponse::Ok()
        .content_type("text/css; charset=utf-8")
        .insert_header((CACHE_CONTROL, "no-cache"))
        .body(STYLE)
}

async fn picture(name: web::Path<String>) -> HttpResponse {
    match docs::picture(&name) {
        Some(picture) => HttpResponse::Ok()
            .content_type("image/png")
            .insert_header((CACHE_CONTROL, "no-cache"))
            .body(picture),
        None => shown(&name),
    }
}
