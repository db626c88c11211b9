//! What fails: the steady noise of every day, and the one story for a newcomer to find.

use crate::stacks;
use crate::world::{BAD_DEPLOY, CANARY, Endpoint, RELAY_MOVED};

/// A failure of one request.
pub struct Failure {
    pub type_name: &'static str,
    pub message: String,
    pub stack: String,
    /// What its frames held, as `outcrop.frames` takes it; empty where the service does not tell.
    pub frames: &'static str,
    /// Whether the request failed in a call to its database.
    pub in_database: bool,
    /// Whether it ends the request.
    pub uncaught: bool,
    /// Whether it is told by a log record too, or by one alone.
    pub told: Told,
}

#[derive(Clone, Copy, PartialEq, Eq)]
pub enum Told {
    OnSpan,
    SpanAndLog,
    InLog,
}

/// What the quote's frames held when it divided by nothing.
const DIVISION_FRAMES: &str = r#"[{"function": "quote", "variables": {"season": "winter", "metres": "Decimal('0')", "rate": "Decimal('4.20')", "api_token": "sk-made-up-token-of-skerry-line"},
"source": {"first": 89, "lines": ["def quote(sailing, vehicle, season):", "    rate = rates_of(sailing)[season]", "    metres = vehicle.metres - FREE_METRES[season]", "    return Quote(rate, per_metre=total(rate) / metres)", "", "", "def total(rate):"]}},
{"function": "create", "variables": {"sailing": "4110", "vehicle": "<Vehicle van>"}}]"#;

const VESSELS: &[&str] = &["Tern", "Gannet", "Eider", "Petrel", "Kittiwake"];

/// What fails in a request of this service and endpoint at this time, if anything does.
pub fn of_request(
    service: &str,
    endpoint: &Endpoint,
    (version, ago): (&str, i64),
    random: &mut fastrand::Rng,
) -> Option<Failure> {
    let (fault, share): (fn(&str, &mut fastrand::Rng) -> Failure, f64) = match (service, endpoint.route) {
        ("fares", "/v1/quotes/{sailing}") if version == "2.4.0" => (division, 0.3),
        ("fares", "/v1/tariffs/{route}") => (missing_season, 0.012),
        // Settled in 5.12.0, and back.
        ("gangway", "/v1/bookings") if version != "5.12.0" => (crew, 0.008),
        ("sailings", _) if version == CANARY.0 => (no_tide, 0.4),
        ("sailings", "/v1/sailings/{sailing}") => (no_vessel, if version == "3.3.0" { 0.006 } else { 0.02 }),
        ("stowage", "/v1/lists/{sailing}") => (pool, 0.011),
        ("stowage", _) => (overweight, 0.03),
        ("boarding", _) if version == "3.6.0" => (no_leg, 0.02),
        ("boarding", _) => (expired_ticket, 0.004),
        ("berths", _) => (berth_taken, 0.02),
        ("bulletins", _) if (RELAY_MOVED.1..=RELAY_MOVED.0).contains(&ago) => (mailbox_full, 0.5),
        ("bulletins", _) => (mailbox_full, 0.04),
        ("ledger", "/v1/settlements") => (bad_amount, 0.015),
        ("ledger", _) => (port_silent, 0.5),
        _ => return None,
    };
    (random.f64() < share).then(|| fault(version, random))
}

/// How long a request takes, in tenths of what is usual: reading a booking is slower since gangway 5.12.1.
pub fn slower(service: &str, route: &str, version: &str) -> u64 {
    match (service, route, version) {
        ("gangway", "/v1/bookings/{booking}", "5.12.1") => 22,
        _ => 10,
    }
}

/// What the edge makes of a quote that failed.
pub fn upstream(version: &str) -> Failure {
    Failure {
        type_name: "UpstreamError",
        frames: "",
        in_database: false,
        message: "fares answered 500".to_owned(),
        stack: stacks::node(
            "UpstreamError: fares answered 500",
            &[
                ("quoteFor", "lib/upstream.js", 14),
                ("QuoteRoute.post", "lib/quotes.js", 41),
            ],
            version,
        ),
        uncaught: true,
        told: Told::SpanAndLog,
    }
}

/// Whether the bad deploy is in place.
pub const fn is_story(minutes_ago: i64) -> bool {
    minutes_ago <= BAD_DEPLOY
}

fn division(version: &str, _: &mut fastrand::Rng) -> Failure {
    let frames = [("create", "app/quotes.py", 41), ("quote", "app/tariff.py", 88)];
    Failure {
        type_name: "decimal.DivisionByZero",
        frames: DIVISION_FRAMES,
        in_database: false,
        message: "division by zero".to_owned(),
        stack: stacks::python("decimal.DivisionByZero: division by zero", &frames, version),
        uncaught: true,
        told: Told::SpanAndLog,
    }
}

fn missing_season(version: &str, random: &mut fastrand::Rng) -> Failure {
    let day = format!("2026-{:02}-{:02}", random.u8(1..=12), random.u8(1..=28));
    Failure {
        type_name: "KeyError",
        frames: "",
        in_database: false,
        message: format!("'{day}'"),
        stack: stacks::python(
            &format!("KeyError: '{day}'"),
            &[("tariff", "app/tariffs.py", 27), ("season_of", "app/season.py", 52)],
            version,
        ),
        uncaught: false,
        told: Told::InLog,
    }
}

fn crew(version: &str, _: &mut fastrand::Rng) -> Failure {
    let message = "Cannot read properties of undefined (reading 'crew')";
    Failure {
        type_name: "TypeError",
        frames: "",
        in_database: false,
        message: message.to_owned(),
        stack: stacks::node(
            &format!("TypeError: {message}"),
            &[
                ("crewOf", "lib/bookings.js", 88),
                ("BookingRoute.post", "lib/bookings.js", 31),
            ],
            version,
        ),
        uncaught: true,
        told: Told::OnSpan,
    }
}

fn no_vessel(version: &str, random: &mut fastrand::Rng) -> Failure {
    let message = format!("sailing {} has no vessel", random.u32(1_000..9_000));
    let stack = stacks::java(
        &format!("example.skerry.sailings.TimetableException: {message}"),
        "example.skerry.sailings",
        &[
            ("Timetable.assign", "Timetable.java", 204),
            ("SailingResource.get", "SailingResource.java", 61),
        ],
        version,
    );
    Failure {
        type_name: "example.skerry.sailings.TimetableException",
        frames: "",
        in_database: false,
        message,
        stack,
        uncaught: true,
        told: Told::OnSpan,
    }
}

fn no_tide(version: &str, random: &mut fastrand::Rng) -> Failure {
    let message = format!("no tide table for {}", VESSELS[random.usize(..VESSELS.len())]);
    let stack = stacks::java(
        &format!("example.skerry.sailings.TideMissing: {message}"),
        "example.skerry.sailings",
        &[
            ("Tides.at", "Tides.java", 88),
            ("SailingResource.list", "SailingResource.java", 47),
        ],
        version,
    );
    Failure {
        type_name: "example.skerry.sailings.TideMissing",
        frames: "",
        in_database: false,
        message,
        stack,
        uncaught: true,
        told: Told::OnSpan,
    }
}

fn pool(version: &str, random: &mut fastrand::Rng) -> Failure {
    let message = format!("no connection within {} s", random.u8(5..=6));
    let stack = stacks::go(
        &[
            ("skerry.example/stowage/store.(*Lists).Load", "store/lists.go", 141),
            ("skerry.example/stowage/api.(*Handler).List", "api/lists.go", 58),
        ],
        version,
    );
    Failure {
        type_name: "*store.PoolTimeout",
        frames: "",
        in_database: true,
        message,
        stack,
        uncaught: true,
        told: Told::OnSpan,
    }
}

fn overweight(version: &str, random: &mut fastrand::Rng) -> Failure {
    let message = format!(
        "vehicle of {} kg exceeds deck {}",
        random.u32(3_600..9_000),
        random.u8(1..=4)
    );
    let stack = stacks::go(
        &[
            ("skerry.example/stowage/plan.(*Deck).Place", "plan/deck.go", 77),
            ("skerry.example/stowage/api.(*Handler).PutVehicles", "api/lists.go", 102),
        ],
        version,
    );
    Failure {
        type_name: "*plan.Overweight",
        frames: "",
        in_database: false,
        message,
        stack,
        uncaught: false,
        told: Told::OnSpan,
    }
}

fn no_leg(version: &str, _: &mut fastrand::Rng) -> Failure {
    let message = "undefined method `leg' for nil:NilClass".to_owned();
    let stack = stacks::ruby(
        &format!("{message} (NoMethodError)"),
        &[("scan", "lib/gate.rb", 25), ("call", "lib/scans.rb", 12)],
        version,
    );
    Failure {
        type_name: "NoMethodError",
        frames: "",
        in_database: false,
        message,
        stack,
        uncaught: true,
        told: Told::OnSpan,
    }
}

fn expired_ticket(version: &str, random: &mut fastrand::Rng) -> Failure {
    let message = format!("ticket SK{} expired", random.u32(100_000..999_999));
    let stack = stacks::ruby(
        &format!("{message} (TicketExpired)"),
        &[("check", "lib/ticket.rb", 40), ("scan", "lib/gate.rb", 19)],
        version,
    );
    Failure {
        type_name: "TicketExpired",
        frames: "",
        in_database: false,
        message,
        stack,
        uncaught: false,
        told: Told::OnSpan,
    }
}

fn berth_taken(version: &str, random: &mut fastrand::Rng) -> Failure {
    let message = format!(
        "berth {} is taken until {:02}:{:02}",
        random.u8(1..=12),
        random.u8(0..24),
        random.u8(0..60)
    );
    Failure {
        type_name: "BerthTaken",
        frames: "",
        in_database: false,
        stack: stacks::rust(
            &[
                ("berths::assign::assign", "src/assign.rs", 42),
                ("berths::worker::run", "src/worker.rs", 71),
            ],
            version,
        ),
        message,
        uncaught: true,
        told: Told::OnSpan,
    }
}

fn mailbox_full(version: &str, random: &mut fastrand::Rng) -> Failure {
    let message = format!("mailbox of guest{}@skerry.example is full", random.u16(1..2_000));
    Failure {
        type_name: "MailboxFull",
        frames: "",
        in_database: false,
        stack: stacks::php(
            &message,
            &[
                ("Sender->send", "src/Sender.php", 96),
                ("BulletinRoute->post", "src/BulletinRoute.php", 33),
            ],
            version,
        ),
        message,
        uncaught: false,
        told: Told::InLog,
    }
}

fn bad_amount(version: &str, random: &mut fastrand::Rng) -> Failure {
    let message = format!(
        "The input string '{},{:02}' was not in a correct format.",
        random.u16(10..900),
        random.u8(0..100)
    );
    Failure {
        type_name: "System.FormatException",
        frames: "",
        in_database: false,
        stack: stacks::dotnet(
            &format!("System.FormatException: {message}"),
            &[
                ("Skerry.Ledger.Amounts.Parse(String text)", "Amounts.cs", 31),
                (
                    "Skerry.Ledger.Settlements.Post(Settlement settlement)",
                    "Settlements.cs",
                    64,
                ),
            ],
            version,
        ),
        message,
        uncaught: true,
        told: Told::OnSpan,
    }
}

fn port_silent(version: &str, random: &mut fastrand::Rng) -> Failure {
    let message = format!(
        "port of {} did not answer within 30 s",
        VESSELS[random.usize(..VESSELS.len())]
    );
    Failure {
        type_name: "System.TimeoutException",
        frames: "",
        in_database: false,
        stack: stacks::dotnet(
            &format!("System.TimeoutException: {message}"),
            &[
                ("Skerry.Ledger.Ports.Settle(Port port)", "Ports.cs", 118),
                ("Skerry.Ledger.Nightly.Run()", "Nightly.cs", 22),
            ],
            version,
        ),
        message,
        uncaught: true,
        told: Told::OnSpan,
    }
}
