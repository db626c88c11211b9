//! Counts of occurrences by minute, hour and day, and whom they hit.

use std::collections::{BTreeSet, HashMap};

use chrono::{DateTime, DurationRound, TimeDelta, Utc};
use outcrop_core::Distinct;
use sqlx::PgConnection;

use super::copy::Copy;
use super::draw::{Occurrence, mixed};
use super::size::{AT_ONCE, Names};

/// Cause, environment, version.
type Key = (i64, i32, i32);

#[derive(Default)]
struct Reach {
    n: i64,
    users: Distinct,
    endpoints: BTreeSet<i32>,
    instances: BTreeSet<i32>,
}

struct Sighted {
    first: DateTime<Utc>,
    last: DateTime<Utc>,
    n: i64,
    uncaught: i64,
}

#[derive(Default)]
pub(super) struct Folded {
    minutes: HashMap<(Key, DateTime<Utc>), i64>,
    hours: HashMap<(Key, DateTime<Utc>), Reach>,
    days: HashMap<(Key, DateTime<Utc>), Reach>,
    sighted: HashMap<Key, Sighted>,
}

impl Folded {
    pub(super) fn add(&mut self, names: &Names, drawn: &Occurrence) {
        let service = drawn.service as usize;
        let key = (
            names.causes[drawn.error as usize],
            names.environments[drawn.environment as usize],
            names.versions[service][drawn.day as usize],
        );
        let start = |step: TimeDelta| drawn.at.duration_trunc(step).unwrap_or(drawn.at);
        *self.minutes.entry((key, start(TimeDelta::minutes(1)))).or_default() += 1;
        let endpoint = names.endpoints[service][drawn.endpoint as usize];
        let instance = i32::from_ne_bytes(
            u32::try_from(mixed(30, u64::from(drawn.service) * 64 + u64::from(drawn.instance)) >> 32)
                .expect("32 bits")
                .to_ne_bytes(),
        );
        for (folded, step) in [
            (&mut self.hours, TimeDelta::hours(1)),
            (&mut self.days, TimeDelta::days(1)),
        ] {
            let reach = folded.entry((key, start(step))).or_default();
            reach.n += 1;
            if let Some(user) = drawn.user {
                reach.users.insert(u64::from_ne_bytes(user.to_ne_bytes()));
            }
            reach.endpoints.insert(endpoint);
            reach.instances.insert(instance);
        }
        let sighted = self.sighted.entry(key).or_insert(Sighted {
            first: drawn.at,
            last: drawn.at,
            n: 0,
            uncaught: 0,
        });
        sighted.last = drawn.at;
        sighted.n += 1;
        sighted.uncaught += i64::from(drawn.uncaught);
    }

    pub(super) async fn write(self, connection: &mut PgConnection) {
        let mut minutes: Vec<_> = self.minutes.into_iter().collect();
        minutes.sort_unstable_by_key(|((key, minute), _)| (*minute, *key));
        let mut copy = Copy::new("tally_minute (minute, environment_id, cause_id, version_id, n)");
        for (((cause, environment, version), minute), n) in minutes {
            tally(&mut copy, minute, (cause, environment, version), n);
            flush(&mut copy, connection).await;
        }
        copy.send(connection).await;
        for (folded, step) in [(self.hours, "hour"), (self.days, "day")] {
            let mut folded: Vec<_> = folded.into_iter().collect();
            folded.sort_unstable_by_key(|((key, at), _)| (*at, *key));
            let mut tallies = Copy::new(&format!(
                "tally_{step} ({step}, environment_id, cause_id, version_id, n)"
            ));
            let mut reaches = Copy::new(&format!(
                "reach_{step} ({step}, cause_id, environment_id, version_id, users, endpoints, instances)"
            ));
            for ((key, at), reach) in folded {
                tally(&mut tallies, at, key, reach.n);
                flush(&mut tallies, connection).await;
                let list = |numbers: &BTreeSet<i32>| {
                    let numbers: Vec<String> = numbers.iter().map(ToString::to_string).collect();
                    format!("{{{}}}", numbers.join(","))
                };
                reaches.field(at.to_rfc3339());
                reaches.field(key.0);
                reaches.field(key.1);
                reaches.field(key.2);
                reaches.bytes(&reach.users.to_bytes());
                reaches.field(list(&reach.endpoints));
                reaches.last(list(&reach.instances));
                flush(&mut reaches, connection).await;
            }
            tallies.send(connection).await;
            reaches.send(connection).await;
        }
        let mut copy =
            Copy::new("sighted (cause_id, environment_id, version_id, first_at, last_at, n, uncaught, severity)");
        for ((cause, environment, version), sighted) in self.sighted {
            copy.field(cause);
            copy.field(environment);
            copy.field(version);
            copy.field(sighted.first.to_rfc3339());
            copy.field(sighted.last.to_rfc3339());
            copy.field(sighted.n);
            copy.field(sighted.uncaught);
            copy.last(17);
            flush(&mut copy, connection).await;
        }
        copy.send(connection).await;
    }
}

fn tally(copy: &mut Copy, at: DateTime<Utc>, (cause, environment, version): Key, n: i64) {
    copy.field(at.to_rfc3339());
    copy.field(environment);
    copy.field(cause);
    copy.field(version);
    copy.last(n);
}

async fn flush(copy: &mut Copy, connection: &mut PgConnection) {
    if copy.rows() >= AT_ONCE {
        copy.send(connection).await;
    }
}
