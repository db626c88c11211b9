//! What occurs when: drawn from one seed.

use chrono::{DateTime, TimeDelta, Utc};

use super::size::{DAYS, Size};

/// Users of all services.
const USERS: u64 = 100_000;
/// Of so many errors one began within the last day.
const YOUNG: u64 = 10;
/// The larger, the less the most frequent errors stand out: the frequency of the error of rank r is 1 / (r + this).
const FLATNESS: f64 = 20.0;

const TYPES: [&str; 8] = [
    "ZeroDivisionError",
    "TimeoutError",
    "KeyError",
    "java.lang.NullPointerException",
    "TypeError",
    "ConnectionResetError",
    "java.sql.SQLTransientConnectionException",
    "IndexError",
];

/// One occurrence, with numbers in the place of names.
pub(super) struct Occurrence {
    pub(super) number: u32,
    pub(super) error: u32,
    pub(super) service: u32,
    /// 0 production, 1 staging.
    pub(super) environment: u32,
    /// The day of its version, from the oldest.
    pub(super) day: u32,
    pub(super) endpoint: u32,
    pub(super) instance: u32,
    pub(super) user: Option<i64>,
    pub(super) uncaught: bool,
    pub(super) at: DateTime<Utc>,
}

impl Occurrence {
    /// 48 bits of milliseconds, then a hash.
    pub(super) fn id(&self) -> String {
        let low = mixed(1, u64::from(self.number));
        let id = u128::from(self.at.timestamp_millis().unsigned_abs()) << 80 | u128::from(low) << 16 >> 1;
        format!("{id:032x}")
    }
}

pub(super) struct Draws {
    size: Size,
    now: DateTime<Utc>,
    /// Of each error the chance that an occurrence is of it or of one before it.
    up_to: Vec<f64>,
}

/// A well mixed 64-bit number (the finalizer of `SplitMix64`, G. Steele et al., 2014).
pub(super) fn mixed(salt: u64, number: u64) -> u64 {
    let mut bits = (salt << 48 ^ number).wrapping_mul(0x9e37_79b9_7f4a_7c15);
    bits = (bits ^ (bits >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
    bits = (bits ^ (bits >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
    bits ^ (bits >> 31)
}

/// Evenly from 0 to 1.
fn even(salt: u64, number: u64) -> f64 {
    (mixed(salt, number) >> 11) as f64 / (1_u64 << 53) as f64
}

/// Evenly below a number.
fn below(salt: u64, number: u64, bound: u64) -> u32 {
    u32::try_from(mixed(salt, number) % bound.max(1)).expect("bounds are small")
}

impl Draws {
    pub(super) fn new(size: Size, now: DateTime<Utc>) -> Self {
        let mut sum = 0.0;
        let mut up_to: Vec<f64> = (0..size.errors)
            .map(|rank| {
                sum += 1.0 / (f64::from(rank) + FLATNESS);
                sum
            })
            .collect();
        for chance in &mut up_to {
            *chance /= sum;
        }
        Self { size, now, up_to }
    }

    pub(super) fn in_order_of_time(&self) -> Vec<DateTime<Utc>> {
        let length = TimeDelta::days(DAYS.into()).as_seconds_f64() * 1_000.0;
        #[expect(clippy::cast_possible_truncation, reason = "a week of milliseconds")]
        let mut all: Vec<DateTime<Utc>> = (0..self.size.occurrences)
            .map(|number| self.now - TimeDelta::milliseconds((even(2, number.into()) * length) as i64))
            .collect();
        all.sort_unstable();
        all
    }

    /// The service of an error: the first have more errors than the last.
    pub(super) fn service(&self, error: u32) -> u32 {
        let chance = even(3, error.into());
        #[expect(
            clippy::cast_possible_truncation,
            clippy::cast_sign_loss,
            reason = "below the number of services"
        )]
        let service = (chance * chance * f64::from(self.size.services)) as u32;
        service.min(self.size.services - 1)
    }

    fn began(&self, error: u32) -> DateTime<Utc> {
        if mixed(4, error.into()).is_multiple_of(YOUNG) {
            self.now - TimeDelta::minutes(below(5, error.into(), 1_440).into())
        } else {
            self.now - TimeDelta::days((DAYS + 1).into())
        }
    }

    pub(super) fn occurrence(&self, number: u32, at: DateTime<Utc>) -> Occurrence {
        let key = u64::from(number);
        let chance = even(6, key);
        let mut error = u32::try_from(self.up_to.partition_point(|up_to| *up_to < chance)).expect("few errors");
        error = error.min(self.size.errors - 1);
        while self.began(error) > at {
            error = (error + 1) % self.size.errors;
        }
        let service = self.service(error);
        let age = (self.now - at).num_days().unsigned_abs();
        // An error is of one endpoint in two of three cases, else of up to four.
        let endpoints = if mixed(7, error.into()).is_multiple_of(3) { 4 } else { 1 };
        Occurrence {
            number,
            error,
            service,
            environment: u32::from(mixed(8, key).is_multiple_of(7)),
            day: DAYS - 1 - u32::try_from(age).unwrap_or_default().min(DAYS - 1),
            endpoint: (below(9, error.into(), 10) + below(10, key, endpoints)) % 10,
            instance: below(11, key, 4),
            user: (!mixed(12, key).is_multiple_of(3)).then(|| {
                let user = mixed(13, key) % USERS;
                i64::from_ne_bytes(mixed(14, user).to_ne_bytes())
            }),
            uncaught: !mixed(15, error.into()).is_multiple_of(3),
            at,
        }
    }
}

pub(super) fn type_name(error: u32) -> &'static str {
    TYPES[error as usize % TYPES.len()]
}

/// What is named by a uuid.
#[derive(Clone, Copy)]
pub(super) enum Named {
    Trace = 20,
    Stack = 21,
    Instance = 22,
}

/// The uuid of a thing by its number.
pub(super) fn uuid(named: Named, number: u64) -> String {
    let salt = named as u64;
    format!("{:016x}{:016x}", mixed(salt, number), mixed(salt + 20, number))
}

/// What varies from occurrence to occurrence, as the intake stores it.
pub(super) fn attributes(drawn: &Occurrence) -> String {
    let number = drawn.number;
    serde_json::json!({
        "http.request.method": "GET",
        "http.route": format!("/v1/berths/{}/{{row}}", drawn.endpoint),
        "url.path": format!("/v1/berths/{}/{}", drawn.endpoint, number % 4_001),
        "http.response.status_code": 500,
        "user_agent.original": "Skerry ticket machine 4.1 (ramp)",
        "client.address": format!("203.0.113.{}", number % 200),
        "server.address": format!("harbour-{:03}.skerry.example", drawn.service),
        "skerry.sailing": format!("s-{}", number % 300),
    })
    .to_string()
}
