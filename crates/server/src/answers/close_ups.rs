//! Close-ups as they are told.

use chrono::{DateTime, Utc};
use outcrop_api::CloseUpItem;
use outcrop_core::close_up::said;
use outcrop_store::close_ups::CloseUp;

/// A time as sentences say it: by the day where it is another one.
pub(crate) fn time_said(at: DateTime<Utc>, now: DateTime<Utc>) -> String {
    if at.date_naive() == now.date_naive() {
        at.format("%H:%M UTC").to_string()
    } else {
        at.format("%Y-%m-%d %H:%M UTC").to_string()
    }
}

/// A close-up as the API says it.
pub(crate) fn item(of: CloseUp, now: DateTime<Utc>) -> CloseUpItem {
    let (taken, count) = of.counts();
    let ended = of.ended_at.map(|at| time_said(at, now));
    let by = of
        .ended_by
        .as_deref()
        .unwrap_or("outcrop: who asked is no member any more");
    CloseUpItem {
        said: said(
            of.state(),
            (taken, count),
            &time_said(of.until, now),
            ended.as_deref().map(|at| (at, by)),
        ),
        state: of.state().word().to_owned(),
        error: of.error().map(|error| error.to_string()),
        id: of.id,
        service: of.service,
        title: of.title,
        predicate: of.predicate,
        count,
        taken,
        until: of.until,
        tell: of.tells,
        asked_by: of.asked_by,
        asked_at: of.asked_at,
        ended_at: of.ended_at,
        ended_by: of.ended_by,
    }
}
