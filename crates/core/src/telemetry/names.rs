//! Semantic-convention names, old and new, understood in this one place.
//!
//! Each function tries the stable name first and then the older ones that SDKs still send
//! (OpenTelemetry semantic conventions 1.40 and the migration guides of HTTP, database and deployment).

use super::{Attributes, Resource, Span, SpanKind, Value};

/// What a resource without `service.name` is called, as the SDK specification says.
pub const UNKNOWN_SERVICE: &str = "unknown_service";
/// What is shown where a sender names no environment.
pub const NO_ENVIRONMENT: &str = "unknown";
/// What is shown where a sender names no version.
pub const NO_VERSION: &str = "unknown";

/// The name of the event and the prefix of the attributes that carry an exception.
pub const EXCEPTION_EVENT: &str = "exception";
/// `exception.type`.
pub const EXCEPTION_TYPE: &str = "exception.type";
/// `exception.message`.
pub const EXCEPTION_MESSAGE: &str = "exception.message";
/// `exception.stacktrace`.
pub const EXCEPTION_STACKTRACE: &str = "exception.stacktrace";
/// `exception.escaped`; deprecated, and some SDKs say `False` even where it escaped.
pub const EXCEPTION_ESCAPED: &str = "exception.escaped";

/// Who a resource is.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Identity {
    /// `service.namespace`, or empty.
    pub namespace: String,
    /// `service.name`.
    pub service: String,
    /// `service.version`.
    pub version: String,
    /// `deployment.environment.name`.
    pub environment: String,
}

/// What a failing request touched, worked out from its spans: `database`, `queue`, `rpc` or `http`.
pub const TOUCHES: &str = "outcrop.touches";

/// The statuses of gRPC by their number, 0 to 16 (grpc.io, "Status codes and their use in gRPC").
pub const GRPC: [&str; 17] = [
    "OK",
    "CANCELLED",
    "UNKNOWN",
    "INVALID_ARGUMENT",
    "DEADLINE_EXCEEDED",
    "NOT_FOUND",
    "ALREADY_EXISTS",
    "PERMISSION_DENIED",
    "RESOURCE_EXHAUSTED",
    "FAILED_PRECONDITION",
    "ABORTED",
    "OUT_OF_RANGE",
    "UNIMPLEMENTED",
    "INTERNAL",
    "UNAVAILABLE",
    "DATA_LOSS",
    "UNAUTHENTICATED",
];

/// What a span that ended in error says of it, without an exception: a type and a message. The type
/// is `error.type` where it names one, else the HTTP, gRPC or database status.
#[must_use]
pub fn status(span: &Span) -> (String, String) {
    let text = |names: &[&str]| {
        span.attributes
            .first(names)
            .map(|value| value.to_text().into_owned())
            .filter(|text| !text.is_empty())
    };
    let named = text(&["error.type"]).filter(|name| name != "_OTHER" && name.parse::<u16>().is_err());
    let grpc = || {
        let code = text(&["rpc.grpc.status_code", "rpc.response.status_code"])?;
        let name = code
            .parse::<usize>()
            .ok()
            .and_then(|number| GRPC.get(number).map(|name| (*name).to_owned()))
            .unwrap_or(code);
        Some(format!("gRPC {name}"))
    };
    let http = || http_status(&span.attributes).map(|code| format!("HTTP {code}"));
    let database = || text(&["db.response.status_code"]).map(|code| format!("database {code}"));
    let type_name = named.or_else(grpc).or_else(http).or_else(database).unwrap_or_default();
    let said = span.status_message.trim();
    let message = match (said.is_empty(), type_name.is_empty()) {
        (false, _) => format!("{}: {said}", span.name),
        (true, false) => format!("{} ended with {type_name}", span.name),
        (true, true) => format!("{} ended in error", span.name),
    };
    (type_name, message)
}

/// What a call to elsewhere is to.
#[must_use]
pub fn touches(kind: SpanKind, attributes: &Attributes) -> Option<&'static str> {
    if !matches!(kind, SpanKind::Client | SpanKind::Producer) {
        return None;
    }
    let has = |prefix: &str| attributes.0.iter().any(|(name, _)| name.starts_with(prefix));
    let known = [
        ("db.", "database"),
        ("messaging.", "queue"),
        ("rpc.", "rpc"),
        ("http.", "http"),
        ("url.", "http"),
    ];
    known.iter().find(|(prefix, _)| has(prefix)).map(|(_, what)| *what)
}

/// What a span of a kind and name calls: the kind of [`touches`] and what it is called; `consumed`
/// and the queue for a message that was taken from one.
#[must_use]
pub fn called(kind: SpanKind, name: &str, attributes: &Attributes) -> Option<(&'static str, String)> {
    let kind = if kind == SpanKind::Consumer {
        "consumed"
    } else {
        touches(kind, attributes)?
    };
    let name = match kind {
        "database" => {
            let system = attributes.text(&["db.system.name", "db.system"]).unwrap_or("database");
            let namespace = attributes.text(&["db.namespace", "db.name"]);
            namespace.map_or_else(|| system.to_owned(), |namespace| format!("{system} {namespace}"))
        }
        "queue" | "consumed" => {
            let system = attributes.text(&["messaging.system"]).unwrap_or("queue");
            let queue = attributes
                .text(&["messaging.destination.name", "messaging.destination"])
                .unwrap_or(name);
            format!("{system} {queue}")
        }
        _ => called_host(attributes).or_else(|| attributes.text(&["rpc.service"]).map(str::to_owned))?,
    };
    Some((kind, crate::text::prefix(name.trim(), MAX_NAME_BYTES).to_owned()))
}

/// Host and port of a call.
fn called_host(attributes: &Attributes) -> Option<String> {
    if let Some(host) = attributes
        .text(&["server.address", "net.peer.name", "http.host", "peer.service"])
        .filter(|host| !host.is_empty())
    {
        let port = attributes
            .first(&["server.port", "net.peer.port"])
            .and_then(Value::as_int);
        return Some(
            port.filter(|_| !host.contains(':'))
                .map_or_else(|| host.to_owned(), |port| format!("{host}:{port}")),
        );
    }
    let url = attributes.text(&["url.full", "http.url"])?;
    let (_, rest) = url.split_once("://")?;
    let host = rest.split(['/', '?', '#']).next()?;
    Some(host.rsplit('@').next().unwrap_or(host).to_owned()).filter(|host| !host.is_empty())
}

/// Longest statement told apart, in bytes.
const MAX_STATEMENT_BYTES: usize = 500;

/// The database statement of a span, its values left out.
#[must_use]
pub fn statement(attributes: &Attributes) -> Option<String> {
    let text = attributes.text(&["db.query.summary", "db.query.text", "db.statement"])?;
    // A numbered parameter (`$1`) is no value: which one it is follows from its place.
    let mut statement = crate::grouping::template(text.trim()).replace("${n}", "?");
    crate::text::cut(&mut statement, MAX_STATEMENT_BYTES);
    (!statement.is_empty()).then_some(statement)
}

/// Longest name of a service, version, environment or endpoint in bytes: long enough for any honest one, short enough
/// for a table's row.
pub const MAX_NAME_BYTES: usize = 200;

/// Reads who a resource is.
#[must_use]
pub fn identity(resource: &Resource) -> Identity {
    let named = |names: &[&str], otherwise: &str| {
        let name = resource.attributes.text(names).unwrap_or(otherwise);
        crate::text::prefix(name, MAX_NAME_BYTES).to_owned()
    };
    Identity {
        namespace: named(&["service.namespace"], ""),
        service: named(&["service.name"], UNKNOWN_SERVICE),
        version: named(&["service.version"], NO_VERSION),
        environment: named(
            &["deployment.environment.name", "deployment.environment"],
            NO_ENVIRONMENT,
        ),
    }
}

/// The host's name, if given.
#[must_use]
pub fn host(resource: &Resource) -> Option<&str> {
    resource.attributes.text(&["host.name", "k8s.node.name", "host.id"])
}

/// What tells one running instance of a service from another: its instance id, else host and process.
#[must_use]
pub fn instance(resource: &Resource) -> String {
    let attributes = &resource.attributes;
    if let Some(id) = attributes.text(&["service.instance.id"]) {
        return id.to_owned();
    }
    let place = attributes
        .text(&["k8s.pod.uid", "container.id", "host.name", "host.id"])
        .unwrap_or_default();
    let process = attributes.get("process.pid").map(Value::to_text).unwrap_or_default();
    format!("{place}/{process}")
}

/// The attributes that name a user, the first one there counts: OpenTelemetry's, then those that loggers write.
pub const USER_ATTRIBUTES: [&str; 10] = [
    "user.id",
    "enduser.id",
    "user.name",
    "user.email",
    "user.hash",
    "enduser.pseudo.id",
    "user_id",
    "userId",
    "username",
    "user",
];

/// The user a record speaks of: an id, else a name, else an e-mail address.
#[must_use]
pub fn user(attributes: &Attributes) -> Option<String> {
    let value = attributes.first(&USER_ATTRIBUTES)?;
    Some(value.to_text().into_owned()).filter(|user| !user.is_empty())
}

/// The names of an answer's HTTP status.
pub const HTTP_STATUS: &[&str] = &["http.response.status_code", "http.status_code"];

/// The HTTP status code of a span, if it has one.
#[must_use]
pub fn http_status(attributes: &Attributes) -> Option<u16> {
    let status = attributes.first(HTTP_STATUS)?.as_int()?;
    u16::try_from(status).ok().filter(|code| (100..600).contains(code))
}

/// Whether a span is where a service's work begins: a request served, a message processed, or a run of a job (a root
/// of internal kind).
#[must_use]
pub fn is_entry(span: &Span) -> bool {
    match span.kind {
        SpanKind::Server | SpanKind::Consumer => true,
        SpanKind::Internal => span.parent_id.is_none(),
        SpanKind::Client | SpanKind::Producer => false,
    }
}

/// Whether the agent says that it is a robot.
pub const ROBOT: &str = "outcrop.agent.robot";
