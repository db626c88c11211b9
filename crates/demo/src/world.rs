//! Who there is: services, where they run, what they serve, which versions they had over the week.

/// Length of the history, in minutes.
pub const WEEK: i64 = 7 * 1_440;

/// One service.
pub struct Service {
    pub name: &'static str,
    pub language: &'static str,
    pub sdk: &'static str,
    pub host: &'static str,
    /// Versions with the minute, before now, at which each was put into place; the first one was there before.
    pub versions: &'static [(&'static str, i64)],
    /// Endpoints: method, route, requests per minute at the height of the day, kind.
    pub endpoints: &'static [Endpoint],
}

pub struct Endpoint {
    pub method: &'static str,
    pub route: &'static str,
    pub per_minute: f64,
    pub kind: Kind,
}

/// What an endpoint is.
#[derive(Clone, Copy, PartialEq, Eq)]
pub enum Kind {
    Http,
    /// Messages of a queue.
    Queue,
    /// A run at a minute of the day.
    Nightly(i64),
}

const fn http(method: &'static str, route: &'static str, per_minute: f64) -> Endpoint {
    Endpoint {
        method,
        route,
        per_minute,
        kind: Kind::Http,
    }
}

/// The minute, before now, at which `fares 2.4.0` came.
pub const BAD_DEPLOY: i64 = 26;

/// The minute at which `gangway 5.12.1` brought back what was settled in 5.12.0, and when that was settled.
pub const RETURN_DEPLOY: i64 = 1_300;
pub const SETTLED: i64 = 4_200;
/// The minute at which boarding went back to 3.5.2.
pub const ROLLBACK: i64 = 210;
/// A canary of sailings: its version, when it came, when it ended.
pub const CANARY: (&str, i64, i64) = ("3.4.0", 150, 92);
/// When the mail relay was moved, and when mail went through again.
pub const RELAY_MOVED: (i64, i64) = (185, 70);

pub const SERVICES: &[Service] = &[
    Service {
        name: "gangway",
        language: "nodejs",
        sdk: "opentelemetry",
        host: "pier-1",
        versions: &[("5.11.0", WEEK + 1), ("5.12.0", 4_300), ("5.12.1", RETURN_DEPLOY)],
        endpoints: &[
            http("POST", "/v1/quotes/{sailing}", 5.2),
            http("GET", "/v1/sailings", 6.4),
            http("POST", "/v1/bookings", 1.8),
            http("GET", "/v1/bookings/{booking}", 2.8),
        ],
    },
    Service {
        name: "sailings",
        language: "java",
        sdk: "opentelemetry",
        host: "pier-2",
        versions: &[("3.2.4", WEEK + 1), ("3.3.0", 2_900)],
        endpoints: &[
            http("GET", "/v1/sailings", 6.0),
            http("GET", "/v1/sailings/{sailing}", 2.4),
        ],
    },
    Service {
        name: "fares",
        language: "python",
        sdk: "opentelemetry",
        host: "pier-3",
        versions: &[("2.3.8", WEEK + 1), ("2.3.9", 4_700), ("2.4.0", BAD_DEPLOY)],
        endpoints: &[
            http("POST", "/v1/quotes/{sailing}", 5.2),
            http("GET", "/v1/tariffs/{route}", 1.6),
        ],
    },
    Service {
        name: "stowage",
        language: "go",
        sdk: "opentelemetry",
        host: "pier-3",
        versions: &[("1.17.2", WEEK + 1), ("1.18.0", 3_800)],
        endpoints: &[
            http("GET", "/v1/lists/{sailing}", 2.2),
            http("PUT", "/v1/lists/{sailing}/vehicles", 1.0),
        ],
    },
    Service {
        name: "boarding",
        language: "ruby",
        sdk: "opentelemetry",
        host: "pier-4",
        versions: &[
            ("3.5.1", WEEK + 1),
            ("3.5.2", 5_900),
            ("3.6.0", 700),
            ("3.5.2", ROLLBACK),
        ],
        endpoints: &[http("POST", "/v1/scans", 3.0)],
    },
    Service {
        name: "berths",
        language: "rust",
        sdk: "opentelemetry",
        host: "pier-5",
        versions: &[("1.8.2", WEEK + 1), ("1.9.0", 2_200)],
        endpoints: &[Endpoint {
            method: "process",
            route: "berth_jobs",
            per_minute: 1.4,
            kind: Kind::Queue,
        }],
    },
    Service {
        name: "bulletins",
        language: "php",
        sdk: "opentelemetry",
        host: "pier-5",
        versions: &[("4.0.7", WEEK + 1)],
        endpoints: &[http("POST", "/v1/bulletins", 3.0)],
    },
    Service {
        name: "ledger",
        language: "dotnet",
        sdk: "opentelemetry",
        host: "pier-6",
        versions: &[("7.2.0", WEEK + 1), ("7.3.0", 6_400)],
        endpoints: &[
            http("POST", "/v1/settlements", 0.8),
            Endpoint {
                method: "run",
                route: "nightly settlement",
                per_minute: 0.0,
                kind: Kind::Nightly(135),
            },
        ],
    },
];

impl Service {
    /// The version that serves one more request so many minutes before now: one in ten goes to a canary.
    pub fn serving(&self, minutes_ago: i64, random: &mut fastrand::Rng) -> &'static str {
        let (canary, from, to) = CANARY;
        let is_canary = self.name == "sailings" && (to..=from).contains(&minutes_ago) && random.u8(0..10) == 0;
        if is_canary { canary } else { self.version(minutes_ago) }
    }

    /// The version in place so many minutes before now; negative for after.
    pub fn version(&self, minutes_ago: i64) -> &'static str {
        self.versions
            .iter()
            .rev()
            .find(|(_, from)| minutes_ago <= *from)
            .map_or(self.versions[0].0, |(version, _)| version)
    }
}

/// The course of the day: how much of the height of the day there is at a minute of the day (UTC), 0.18 to 1.
pub fn course(minute_of_day: i64) -> f64 {
    #[expect(clippy::cast_precision_loss, reason = "minutes of a day")]
    let turn = (minute_of_day as f64 - 300.0) / 1_440.0 * std::f64::consts::TAU;
    (0.6 - 0.42 * turn.cos()).clamp(0.18, 1.0)
}
