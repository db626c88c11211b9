//! What a service's request counts were before a minute, and what is reported of it.

use crate::deploy::event::Minute;
use crate::deploy::series::{Sums, span};

pub(super) const DAY: Minute = 1_440;

/// Days that tell how a time of the day stands to another, and minutes about it that are read.
pub(super) const SHAPE_DAYS: Minute = 3;

pub(super) const SHAPE: Minute = 7;

/// What sums hold in each minute of a time.
pub(super) fn minutes(sums: &Sums, from: Minute, until: Minute) -> Vec<(Minute, f64)> {
    (from..until).map(|at| (at, sums.between(at, at + 1))).collect()
}

/// Sums of a quantity over some minutes.
pub(super) fn sums(minutes: std::ops::Range<Minute>, quantity: impl Fn(Minute) -> f64) -> Sums {
    let mut sums = Sums::default();
    for at in minutes {
        sums.add(at, quantity(at));
    }
    sums
}

/// How many requests a minute there were from one minute up to another.
#[derive(Clone, Copy, Debug)]
pub(super) struct Level {
    pub(super) from: Minute,
    pub(super) until: Minute,
    pub(super) requests: f64,
}

impl Level {
    pub(super) fn new(requests: &Sums, from: Minute, until: Minute) -> Self {
        Self {
            from,
            until,
            requests: requests.between(from, until) / span(from, until).max(1.0),
        }
    }

    /// How many are due in a later minute, by the course of the days before.
    pub(super) fn due(&self, requests: &Sums, minute: Minute, first: Minute) -> f64 {
        let (mut then, mut before) = (0.0, 0.0);
        for day in (1..=SHAPE_DAYS)
            .map(|day| day * DAY)
            .take_while(|day| self.from - SHAPE - day >= first)
        {
            let near = (minute - day - SHAPE, minute - day + SHAPE + 1);
            then += requests.between(near.0, near.1) / span(near.0, near.1);
            let near = (self.from - day - SHAPE / 2, self.until - day + SHAPE / 2);
            before += requests.between(near.0, near.1) / span(near.0, near.1);
        }
        if then > 0.0 && before > 0.0 {
            self.requests * (then / before).clamp(0.1, 10.0)
        } else {
            self.requests
        }
    }
}

/// What a minute's report says.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(super) struct Reading {
    /// How many requests there were, as far as is known.
    pub requests: f64,
    /// How many there were at most, by what may be.
    pub most: f64,
}
