//! The board: the errors of the windows that people look at, with their numbers, kept current by a job.
//!
//! A list of any window is counted from tallies, which takes the longer the more errors there are. The windows that are
//! asked for all the time are counted ahead, error by error, with the same code: whatever changes an error notes it as
//! stale, the job counts it anew, and once a part of the window has gone by it does so anyway, since the window's end
//! has moved on. What is stale at the moment of reading is counted then.

mod keep;
mod read;
#[cfg(test)]
mod tests;

use chrono::{DateTime, TimeDelta, Utc};

use crate::Scope;

pub use keep::refresh;
pub use read::{Key, Listing, listing, numbers};

/// The windows, in minutes: those that the console offers.
pub const WINDOWS: [i32; 5] = [30, 180, 1_440, 10_080, 43_200];

/// How summaries are written down: one more with each release that writes them otherwise.
const FORM: i16 = 1;

/// Of a window, the part after which an error of which nothing changed is counted anew.
const PART: i32 = 24;

/// The window of a scope, where it is one that is kept: it ends now and is of one of the lengths, of whatever version.
#[must_use]
pub fn window_of(scope: &Scope, now: DateTime<Utc>) -> Option<i32> {
    let minutes = i32::try_from((scope.to - scope.from).num_minutes()).ok()?;
    let is_now = (now - scope.to).abs() < TimeDelta::seconds(1);
    let is_whole = scope.to - scope.from == TimeDelta::minutes(minutes.into());
    (is_now && is_whole && scope.version.is_none() && WINDOWS.contains(&minutes)).then_some(minutes)
}

/// The scope of a kept window.
fn scope_of(minutes: i32, environment: Option<&str>, now: DateTime<Utc>) -> Scope {
    Scope {
        service: None,
        environment: environment.map(str::to_owned),
        version: None,
        from: now - TimeDelta::minutes(minutes.into()),
        to: now,
        predicate: None,
    }
}
