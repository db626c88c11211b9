//! One name per fact: older and newer names of the semantic conventions are one attribute, and what
//! follows from what was sent is an attribute too.

use serde_json::{Map, Value, json};

use super::names::HTTP_STATUS;
use crate::telemetry::names::ROBOT;

/// Names of one fact: OpenTelemetry's present one first (semantic conventions 1.38), then those
/// that it had before, and those that loggers write where it has none.
const SAME: &[&[&str]] = &[
    &["http.request.method", "http.method"],
    HTTP_STATUS,
    &["http.route"],
    &["url.full", "http.url"],
    &["url.path", "http.target"],
    &["url.scheme", "http.scheme"],
    &["server.address", "http.server_name", "net.host.name", "http.host"],
    &["server.port", "net.host.port"],
    &["client.address", "http.client_ip"],
    &["network.peer.address", "net.sock.peer.addr", "net.peer.ip"],
    &["network.peer.port", "net.sock.peer.port"],
    &["network.protocol.name", "net.protocol.name"],
    &["network.protocol.version", "net.protocol.version", "http.flavor"],
    &["network.transport", "net.transport"],
    &["user_agent.original", "http.user_agent"],
    &["http.request.body.size", "http.request_content_length"],
    &["http.response.body.size", "http.response_content_length"],
    &["http.request.resend_count", "http.resend_count"],
    &["db.system.name", "db.system"],
    &["db.namespace", "db.name"],
    &["db.query.text", "db.statement"],
    &["db.operation.name", "db.operation"],
    &["db.collection.name", "db.sql.table", "db.mongodb.collection"],
    &["db.response.status_code", "db.cassandra.status_code"],
    &["rpc.system.name", "rpc.system"],
    &["rpc.response.status_code", "rpc.grpc.status_code"],
    &["messaging.destination.name", "messaging.destination"],
    &["messaging.operation.type", "messaging.operation"],
    &["messaging.message.id", "messaging.message_id"],
    &["messaging.message.conversation_id", "messaging.conversation_id"],
    &[
        "messaging.consumer.group.name",
        "messaging.kafka.consumer.group",
        "messaging.kafka.consumer_group",
    ],
    &["code.function.name", "code.function"],
    &["code.file.path", "code.filepath"],
    &["code.line.number", "code.lineno"],
    &["deployment.environment.name", "deployment.environment"],
    &["faas.invoked_name"],
    &["user.id", "enduser.id"],
    &["user_agent.name"],
    &["host.name"],
    &[
        "request.id",
        "http.request.id",
        "request_id",
        "requestId",
        "req_id",
        "reqId",
        "http.request.header.x-request-id",
    ],
];

/// Plain words for facts, by the name they stand for. A sender's own attribute of that word is looked at after it.
const WORDS: &[(&str, &str)] = &[
    ("status", "http.response.status_code"),
    ("method", "http.request.method"),
    ("path", "url.path"),
    ("route", "http.route"),
    ("duration", DURATION),
    ("failed", FAILED),
    ("host", "host.name"),
    ("agent", "user_agent.original"),
    ("robot", ROBOT),
    ("referrer", REFERRER),
];

/// Under which names stood, by the names they have here, what was sent under older ones.
pub const SENT_AS: &str = "outcrop.sent_as";
/// The names of attributes that tell of a call to elsewhere, where the span of the failure is one:
/// they are not the request's.
pub const OF_CALL: &str = "outcrop.of_call";
/// How long the request took, in milliseconds.
pub const DURATION: &str = "outcrop.request.duration_ms";
/// Whether the request failed: by its span's status, or answered 5xx.
pub const FAILED: &str = "outcrop.request.failed";
/// How many bytes a second the answer had, from its first to its last byte.
pub const RATE: &str = "outcrop.request.bytes_per_s";
/// The share of the request's time on the processor, 0 to 1 and beyond where several are used.
pub const CPU_SHARE: &str = "outcrop.request.cpu_share";
/// The page that led here: `own`, `foreign` or `none`.
pub const REFERRER: &str = "outcrop.request.referrer";
/// What an agent says of itself; a program can say anything.
pub const CLAIMED: &[&str] = &[
    "user_agent.name",
    "user_agent.version",
    "user_agent.os.name",
    "user_agent.os.version",
    DEVICE,
    ROBOT,
    REFERRER,
];
const DEVICE: &str = "outcrop.agent.device";
/// The present name of the fact that a name stands for; the name itself where it is no older one.
///
/// # Example
/// ```
/// use outcrop_core::telemetry::facts::present;
/// assert_eq!(present("http.status_code"), "http.response.status_code");
/// assert_eq!(present("season"), "season");
/// ```
#[must_use]
pub fn present(name: &str) -> &str {
    SAME.iter()
        .find(|names| names.contains(&name))
        .map_or(name, |names| names[0])
}

/// All names under which what is asked for by a name may have been stored, the likeliest first: of
/// one fact, or of the fact that a plain word stands for.
///
/// # Example
/// ```
/// use outcrop_core::telemetry::facts::names_of;
/// assert_eq!(names_of("status"), ["http.response.status_code", "http.status_code", "status"]);
/// assert_eq!(names_of("http.status_code"), ["http.response.status_code", "http.status_code"]);
/// assert_eq!(names_of("season"), ["season"]);
/// ```
#[must_use]
pub fn names_of(asked: &str) -> Vec<&str> {
    let word = WORDS.iter().find(|(word, _)| *word == asked).map(|(_, name)| *name);
    let name = word.unwrap_or(asked);
    let mut names: Vec<&str> = match SAME.iter().find(|names| names.contains(&name)) {
        Some(names) => names.to_vec(),
        None => vec![name],
    };
    if !names.contains(&asked) {
        names.push(asked);
    }
    names
}

/// Plain words and names of facts, for completion and slips.
pub fn known() -> impl Iterator<Item = &'static str> {
    WORDS
        .iter()
        .map(|(word, _)| *word)
        .chain(SAME.iter().map(|names| names[0]))
        .chain(CLAIMED.iter().copied())
        .chain([DURATION, RATE, CPU_SHARE])
}

/// What stands under any of a fact's names.
#[must_use]
pub fn value<'a>(attributes: &'a Map<String, Value>, asked: &str) -> Option<&'a Value> {
    names_of(asked).into_iter().find_map(|name| attributes.get(name))
}

/// Gives each attribute its present name, notes what was sent under another, and adds what follows from it.
pub fn settle(attributes: &mut Map<String, Value>) {
    let older: Vec<(String, &'static str)> = attributes
        .keys()
        .filter_map(|name| {
            let names = SAME.iter().find(|names| names.contains(&name.as_str()))?;
            (names[0] != name).then(|| (name.clone(), names[0]))
        })
        .collect();
    let mut sent_as = Map::new();
    for (name, present) in older {
        // What was sent under both stands under the present one, as the conventions' transition has it.
        let Some(value) = attributes.remove(&name) else {
            continue;
        };
        if let Some(there) = attributes.get(present) {
            if *there != value {
                attributes.insert(name, value);
            }
            continue;
        }
        let value = if name == "http.target" {
            path(attributes, value)
        } else {
            value
        };
        attributes.insert(present.to_owned(), value);
        sent_as.insert(present.to_owned(), Value::String(name));
    }
    derive(attributes);
    if !sent_as.is_empty() {
        attributes.insert(SENT_AS.to_owned(), Value::Object(sent_as));
    }
}

/// Notes which attributes are of a call to elsewhere: those of a call's span that the request does not say alike.
pub fn note_call(
    attributes: &mut Map<String, Value>,
    of_call: &Map<String, Value>,
    of_request: Option<&Map<String, Value>>,
) {
    let is_request_s = |name: &str, value: &Value| of_request.is_some_and(|request| request.get(name) == Some(value));
    let names: Vec<Value> = of_call
        .iter()
        .filter(|(name, value)| !is_request_s(name, value))
        .map(|(name, _)| json!(name))
        .collect();
    if !names.is_empty() {
        attributes.insert(OF_CALL.to_owned(), Value::Array(names));
    }
}

/// The path of what was asked for, whose query gets its own attribute.
fn path(attributes: &mut Map<String, Value>, target: Value) -> Value {
    let Some((path, query)) = target.as_str().and_then(|text| text.split_once('?')) else {
        return target;
    };
    attributes.entry("url.query").or_insert_with(|| json!(query));
    json!(path)
}

/// What follows from what was sent: nothing where that is not there.
fn derive(attributes: &mut Map<String, Value>) {
    let number = |attributes: &Map<String, Value>, name: &str| {
        let value = attributes.get(name)?;
        value
            .as_f64()
            .or_else(|| value.as_str()?.trim().parse().ok())
            .filter(|number| number.is_finite() && *number >= 0.0)
    };
    let add = |attributes: &mut Map<String, Value>, name: &str, value: Value| {
        attributes.entry(name).or_insert(value);
    };
    let bytes = number(attributes, "http.response.body.size");
    let (first, last) = (
        number(attributes, "outcrop.request.first_byte_ms"),
        number(attributes, "outcrop.request.last_byte_ms"),
    );
    if let (Some(bytes), Some(first), Some(last)) = (bytes, first, last)
        && last > first
    {
        add(attributes, RATE, json!((bytes / (last - first) * 1_000.0).round()));
    }
    let took = number(attributes, DURATION).or(last).filter(|took| *took > 0.0);
    if let (Some(cpu), Some(took)) = (number(attributes, "outcrop.request.cpu_ms"), took) {
        add(attributes, CPU_SHARE, json!((cpu / took * 1_000.0).round() / 1_000.0));
    }
    if attributes.contains_key("http.request.method")
        && attributes.keys().any(|name| name.starts_with("http.request.header."))
    {
        let owner = super::request::referrer_owner(attributes).unwrap_or("none");
        add(attributes, REFERRER, json!(owner));
    }
    let agent = attributes
        .get("user_agent.original")
        .and_then(Value::as_str)
        .filter(|agent| !agent.is_empty())
        .map(str::to_owned);
    if let Some(agent) = agent {
        for (name, said) in of_agent(&agent) {
            add(attributes, name, said);
        }
    }
}

/// Longest name of an agent that is read: longer ones are made up.
const MAX_AGENT: usize = 512;

/// Words that only robots have in their names.
const ROBOTS: &[&str] = &[
    "bot",
    "crawl",
    "spider",
    "slurp",
    "scrap",
    "monitor",
    "probe",
    "preview",
    "headless",
    "uptime",
    "archiver",
    "feedfetcher",
];

/// What an agent says of itself. Programs that are no browser name themselves first: `curl/8.4.0`.
fn of_agent(agent: &str) -> Vec<(&'static str, Value)> {
    const UNKNOWN: &str = "UNKNOWN";
    let agent = crate::text::prefix(agent, MAX_AGENT);
    let lower = agent.to_ascii_lowercase();
    let is_robot = ROBOTS.iter().any(|word| lower.contains(word));
    let parsed = woothee::parser::Parser::new().parse(agent);
    let is_robot = is_robot || parsed.as_ref().is_some_and(|parsed| parsed.category == "crawler");
    let mut said: Vec<(&'static str, Value)> = vec![(ROBOT, json!(is_robot))];
    let mut say = |name: &'static str, value: &str| {
        if !value.is_empty() && value != UNKNOWN {
            said.push((name, json!(value)));
        }
    };
    // A robot names itself where others name what they are compatible with.
    let own_name = lower.find("compatible; ").and_then(|at| agent.get(at + 12..));
    if let Some((name, rest)) = own_name
        .filter(|_| is_robot)
        .and_then(|rest| rest.split_once(['/', ';', ')']))
    {
        say("user_agent.name", name);
        say(
            "user_agent.version",
            rest.split([';', ')', ' '])
                .next()
                .filter(|version| version.starts_with(|c: char| c.is_ascii_digit()))
                .unwrap_or_default(),
        );
        return said;
    }
    if let Some(parsed) =
        parsed.filter(|parsed| !matches!(parsed.name, UNKNOWN | "HTTP Library") && parsed.category != "crawler")
    {
        say("user_agent.name", parsed.name);
        say("user_agent.version", parsed.version);
        say("user_agent.os.name", parsed.os);
        say("user_agent.os.version", &parsed.os_version);
        let device = match parsed.category {
            "pc" => "computer",
            "smartphone" | "mobilephone" => "phone",
            other => other,
        };
        say(DEVICE, device);
        return said;
    }
    let first = agent.split([' ', ';', '(']).next().unwrap_or_default();
    let (name, version) = first.split_once('/').unwrap_or((first, ""));
    if name != "Mozilla" {
        say("user_agent.name", name);
        say("user_agent.version", version);
    }
    said
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use rstest::rstest;

    use super::*;

    fn settled(sent: Value) -> Map<String, Value> {
        let Value::Object(mut attributes) = sent else {
            panic!("no object")
        };
        settle(&mut attributes);
        attributes
    }

    #[test]
    fn older_names_become_present_ones_and_say_how_they_were_sent() {
        let told = settled(
            json!({"http.status_code": 500, "http.method": "GET", "http.target": "/v1/quotes?deck=car",
                "season": "winter"}),
        );
        let expected = json!({"http.response.status_code": 500, "http.request.method": "GET",
            "url.path": "/v1/quotes", "url.query": "deck=car",
            "season": "winter", "outcrop.sent_as": {"http.response.status_code": "http.status_code",
                "http.request.method": "http.method", "url.path": "http.target"}});
        assert_eq!(Value::Object(told), expected);
    }

    #[test]
    fn what_is_sent_under_both_names_is_one_attribute_unless_they_differ() {
        assert_eq!(
            Value::Object(settled(
                json!({"http.status_code": 500, "http.response.status_code": 500})
            )),
            json!({"http.response.status_code": 500})
        );
        let told = settled(json!({"net.host.name": "gangway", "server.address": "pier-3"}));
        assert_eq!(
            Value::Object(told),
            json!({"net.host.name": "gangway", "server.address": "pier-3"})
        );
    }

    #[test]
    fn times_and_sizes_make_rates_and_shares() {
        let told = settled(
            json!({"http.response.body.size": 5_000, "outcrop.request.first_byte_ms": 100,
                "outcrop.request.last_byte_ms": 600,
            "outcrop.request.cpu_ms": 150.0, "outcrop.request.duration_ms": 600}),
        );
        assert_eq!((&told[RATE], &told[CPU_SHARE]), (&json!(10_000.0), &json!(0.25)));
        // Nothing is made of nothing, of zero or of what is no number.
        let told = settled(
            json!({"http.response.body.size": "many", "outcrop.request.first_byte_ms": 600,
                "outcrop.request.last_byte_ms": 600, "outcrop.request.cpu_ms": -1}),
        );
        assert!(!told.contains_key(RATE) && !told.contains_key(CPU_SHARE));
    }

    #[rstest]
    #[case::phone(
        "Mozilla/5.0 (iPhone; CPU iPhone OS 17_1 like Mac OS X) AppleWebKit/605.1.15 (KHTML, like Gecko) Version/17.1 \
         Mobile/15E148 Safari/604.1",
        "Safari",
        "phone",
        false
    )]
    #[case::computer(
        "Mozilla/5.0 (X11; Linux x86_64; rv:120.0) Gecko/20100101 Firefox/120.0",
        "Firefox",
        "computer",
        false
    )]
    #[case::program("skerry-app/3.2 (build 7)", "skerry-app", "", false)]
    #[case::robot(
        "Mozilla/5.0 (compatible; TideBot/2.1; +https://tide.example/bot)",
        "TideBot",
        "",
        true
    )]
    #[case::nothing("-", "-", "", false)]
    fn an_agent_is_taken_at_its_word(
        #[case] agent: &str,
        #[case] name: &str,
        #[case] device: &str,
        #[case] is_robot: bool,
    ) {
        let told = settled(json!({"http.user_agent": agent}));
        let text = |name: &str| told.get(name).and_then(Value::as_str).unwrap_or_default();
        assert_eq!(
            (text("user_agent.name"), text(DEVICE), &told[ROBOT]),
            (name, device, &json!(is_robot))
        );
    }

    #[test]
    fn every_name_stands_for_one_fact_alone() {
        let all: Vec<&str> = SAME.iter().flat_map(|names| names.iter().copied()).collect();
        let mut once = all.clone();
        once.sort_unstable();
        once.dedup();
        assert_eq!(once.len(), all.len());
    }

    proptest! {
        #[test]
        fn settling_twice_changes_nothing_more(agent in "\\PC{0,80}", status in 0_i64..900, both in any::<bool>()) {
            let mut sent = json!({"http.user_agent": agent, "http.status_code": status});
            if both {
                sent["http.response.status_code"] = json!(503);
            }
            let once = settled(sent);
            prop_assert_eq!(settled(Value::Object(once.clone())), once);
        }
    }
}
