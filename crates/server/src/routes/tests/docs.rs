//! The docs as pages: each link of each page leads somewhere, and nothing that is searched for becomes markup.

use std::collections::{BTreeMap, BTreeSet};

use actix_web::http::StatusCode;
use actix_web::test::{TestRequest, call_service, init_service, read_body};
use actix_web::{App, web};

use super::text;
use crate::state::State;

/// What stands in attributes of a name.
fn values<'p>(page: &'p str, attribute: &str) -> Vec<&'p str> {
    let opening = format!(" {attribute}=\"");
    page.split(opening.as_str())
        .skip(1)
        .filter_map(|rest| rest.split_once('"').map(|(value, _)| value))
        .collect()
}

#[tokio::test]
async fn every_page_is_reached_and_every_link_leads_to_what_is_there() {
    let (state, _supervisor, _closing) = State::for_tests(|_| ()).await;
    let app = init_service(
        App::new()
            .app_data(web::Data::new(state))
            .configure(crate::routes::everything),
    )
    .await;
    let mut read: BTreeMap<String, BTreeSet<String>> = BTreeMap::new();
    let mut links: BTreeSet<(String, String)> = BTreeSet::new();
    let mut ahead = vec!["/docs".to_owned()];
    while let Some(path) = ahead.pop() {
        if read.contains_key(&path) {
            continue;
        }
        let answer = call_service(&app, TestRequest::get().uri(&path).to_request()).await;
        assert_eq!(answer.status(), StatusCode::OK, "{path}");
        let is_page = answer
            .headers()
            .get("content-type")
            .unwrap()
            .to_str()
            .unwrap()
            .starts_with("text/html");
        let body = read_body(answer).await;
        let page = if is_page {
            String::from_utf8(body.to_vec()).unwrap()
        } else {
            String::new()
        };
        read.insert(
            path.clone(),
            values(&page, "id").into_iter().map(str::to_owned).collect(),
        );
        for link in values(&page, "href").into_iter().chain(values(&page, "src")) {
            let (to, anchor) = link.split_once('#').unwrap_or((link, ""));
            let to = if to.is_empty() { &path } else { to };
            let is_ours = to.starts_with("/docs") || to == "/api/openapi.json" || to == "/mark.svg";
            if is_ours {
                links.insert((to.to_owned(), anchor.to_owned()));
                ahead.push(to.to_owned());
            } else {
                assert!(to == "/now" || to.starts_with("http"), "{path} leads to {link}");
            }
        }
    }
    assert!(
        read.contains_key("/docs/reference/questions") && read.len() > 50,
        "{}",
        read.len()
    );
    for page in crate::docs::pages().keys().filter(|page| !page.is_empty()) {
        assert!(read.contains_key(&format!("/docs/{page}")), "nothing leads to {page}");
    }
    let missing: Vec<_> = (links.iter())
        .filter(|(to, anchor)| !anchor.is_empty() && !read[to].contains(anchor))
        .collect();
    assert!(missing.is_empty(), "anchors that are not there: {missing:?}");
}

#[tokio::test]
async fn a_search_says_what_it_found_and_shows_what_was_typed_as_text() {
    let (state, _supervisor, _closing) = State::for_tests(|_| ()).await;
    let get = async |path: &str| text(&state, TestRequest::get().uri(path)).await;
    let (status, page) = get("/docs?q=saved+questions").await;
    assert_eq!(status, StatusCode::OK);
    assert!(
        page.contains("href=\"/docs/reference/questions#saved-questions\""),
        "{page}"
    );
    let (_, page) = get("/docs?q=%22%3E%3Cscript%3Ealert(1)%3C/script%3E").await;
    assert!(!page.contains("<script") && page.contains("Nothing says"), "{page}");
    let long = "x".repeat(5_000);
    let (_, page) = get(&format!("/docs?q={long}")).await;
    assert!(!page.contains(&"x".repeat(201)));
    for nowhere in [
        "/docs/nowhere",
        "/docs/screenshots/none.png",
        "/docs/..%2fCargo.toml",
        "/docs/guides/operate.md",
    ] {
        let (status, page) = get(nowhere).await;
        assert_eq!(status, StatusCode::NOT_FOUND, "{nowhere}");
        assert!(page.contains("Nothing is here"), "{nowhere}: {page}");
    }
}

#[test]
fn each_page_that_the_console_leads_to_is_there() {
    let sources = concat!(env!("CARGO_MANIFEST_DIR"), "/../../console/src");
    let mut led: BTreeSet<String> = BTreeSet::new();
    for file in ignore::Walk::new(sources).flatten() {
        let text = std::fs::read_to_string(file.path()).unwrap_or_default();
        led.extend(
            text.split("<DocsLink page=\"")
                .skip(1)
                .filter_map(|rest| rest.split_once('"'))
                .map(|(page, _)| page.to_owned()),
        );
    }
    assert!(led.len() >= 4, "{led:?}");
    for page in led {
        let (path, anchor) = page.split_once('#').unwrap_or((&page, ""));
        let of = crate::docs::pages()
            .get(path)
            .unwrap_or_else(|| panic!("no page {path}"));
        assert!(of.sections.iter().any(|section| section.anchor == anchor), "{page}");
    }
}
