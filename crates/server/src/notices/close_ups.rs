//! Tells those who asked for close-ups what these came to.

use chrono::{DateTime, Utc};
use outcrop_api::CloseUpItem;
use outcrop_core::notice::one_line;
use outcrop_store::close_ups::{self, Taken};
use outcrop_store::notices::outbox::{self, NewNotice};
use outcrop_store::{Database, StoreError};
use serde_json::json;

use crate::answers::close_ups::item;
use crate::settings::Settings;

/// Occurrences named in a notice: the page has the others.
const LISTED: usize = 5;

/// Puts into the outbox what those who asked are told, by mail where a mail server is known and on their open pages.
/// Returns how many close-ups are told.
///
/// # Errors
/// [`StoreError`] when the database does not answer; the next round goes on.
pub(super) async fn tell(database: &Database, settings: &Settings, now: DateTime<Utc>) -> Result<usize, StoreError> {
    let mut told = 0;
    for done in close_ups::untold(database).await? {
        let Some(found) = close_ups::one(database, done.id).await? else {
            continue;
        };
        // Only one instance does.
        if !close_ups::told(database, done.id, now).await? {
            continue;
        }
        let taken = close_ups::taken(database, done.id).await?;
        let (subject, paragraph, page) = said(&item(found, now), &taken, settings);
        for way in ["browser", "mail"] {
            if way == "mail" && settings.mail.is_none() {
                continue;
            }
            let new = NewNotice {
                rule: (None, ""),
                way,
                recipient: &done.asked_by,
                reason: "close-up",
                subject: &subject,
                event_ids: &[],
                body: Some(json!({"paragraphs": [paragraph], "page": page})),
            };
            outbox::put(database, &new, now).await?;
        }
        told += 1;
    }
    Ok(told)
}

/// The subject, what is told, and the page that shows it.
fn said(of: &CloseUpItem, taken: &[Taken], settings: &Settings) -> (String, String, String) {
    let what = match (&of.title, &of.predicate) {
        (Some(title), _) => one_line(title, 80),
        (None, Some(predicate)) => one_line(predicate, 80),
        (None, None) => String::new(),
    };
    let subject = format!("Close-up of {what}: {}", of.said);
    let mut lines = vec![subject.clone()];
    for one in taken.iter().take(LISTED) {
        let id = one.row.id().to_string();
        let error = one.error().to_string();
        let at = outcrop_store::to_utc(one.row.at()).format("%H:%M:%S UTC");
        let page = settings.page(&["errors", &error], &[("occurrence", &id)]).unwrap_or(id);
        let message = one_line(&one.row.message, 120);
        lines.push(format!(
            "{at} in {} {}: {message}\n  {page}",
            one.row.service, one.row.version
        ));
    }
    if taken.len() > LISTED {
        lines.push(format!("and {} more", taken.len() - LISTED));
    }
    let page = of
        .error
        .as_ref()
        .map_or_else(|| "/close-ups".to_owned(), |error| format!("/errors/{error}#close-ups"));
    (subject, lines.join("\n"), page)
}
