//! The kind of a failure, derived from its type and message: what an engineer would sort it under.

/// Kinds with the signs of each, in lower case, searched in the type without its blanks and in the
/// message; the first kind with a sign wins, so that what is special stands before what is general.
const KINDS: &[(&str, &[&str], &[&str])] = &[
    (
        "timeout",
        &["timeout", "timedout", "deadlineexceeded", "etimedout"],
        &["timed out", "timeout", "deadline exceeded", "etimedout", "time limit"],
    ),
    (
        "memory",
        &["outofmemory", "memoryerror", "allocation"],
        &["out of memory", "cannot allocate", "heap space", "memory limit"],
    ),
    (
        "recursion",
        &["recursionerror", "stackoverflow", "systemstackerror"],
        &[
            "maximum recursion",
            "stack level too deep",
            "stack overflow",
            "call stack size",
        ],
    ),
    (
        "permission",
        &[
            "permission",
            "accessdenied",
            "forbidden",
            "unauthorized",
            "authorization",
            "authentication",
            "security",
        ],
        &[
            "permission denied",
            "access denied",
            "forbidden",
            "not authorized",
            "unauthorized",
            "eacces",
            "eperm",
        ],
    ),
    (
        "connection",
        &[
            "connection",
            "connect",
            "socket",
            "brokenpipe",
            "unknownhost",
            "dns",
            "network",
            "econn",
            "gaierror",
        ],
        &[
            "connection refused",
            "connection reset",
            "econnrefused",
            "econnreset",
            "no route to host",
            "network is unreachable",
            "broken pipe",
            "getaddrinfo",
            "enotfound",
            "unavailable",
        ],
    ),
    (
        "database",
        &[
            "sql",
            "database",
            "integrityerror",
            "operationalerror",
            "programmingerror",
            "deadlock",
            "constraint",
            "dbexception",
            "postgr",
            "mysql",
        ],
        &[
            "sqlstate",
            "duplicate key",
            "constraint",
            "deadlock",
            "relation \"",
            "syntax error at or near",
        ],
    ),
    (
        "parse",
        &[
            "json",
            "parse",
            "decode",
            "syntaxerror",
            "format",
            "unmarshal",
            "xml",
            "yaml",
            "encoding",
        ],
        &[
            "unexpected token",
            "invalid character",
            "cannot parse",
            "could not parse",
            "invalid literal",
            "malformed",
            "unexpected end",
        ],
    ),
    (
        "null",
        &["nullpointer", "nullreference", "nomethoderror", "nonetype"],
        &[
            "nil pointer",
            "null pointer",
            "nonetype",
            "of undefined",
            "of null",
            "for nil",
            "nil value",
            "`none` value",
            "null reference",
            "object reference not set",
        ],
    ),
    (
        "missing",
        &[
            "keyerror",
            "keynotfound",
            "nosuchelement",
            "notfound",
            "attributeerror",
            "nameerror",
            "filenotfound",
            "lookuperror",
        ],
        &[
            "not found",
            "no such file",
            "enoent",
            "missing key",
            "undefined method",
            "key not found",
        ],
    ),
    (
        "bounds",
        &["index", "range", "outofbounds"],
        &["index out of", "out of range", "out of bounds"],
    ),
    (
        "arithmetic",
        &["zerodivision", "arithmetic", "divisionbyzero", "overflow"],
        &["division by zero", "divide by zero", "overflow"],
    ),
    (
        "type",
        &["typeerror", "classcast", "invalidcast", "castexception", "typemismatch"],
        &[
            "interface conversion",
            "cannot be cast",
            "is not a function",
            "wrong type",
        ],
    ),
    (
        "answer",
        &[
            "httperror",
            "upstream",
            "httpexception",
            "badgateway",
            "clientresponse",
            "statuscode",
        ],
        &[
            "answered 5",
            "answered 4",
            "status code",
            "bad gateway",
            "service unavailable",
            "server error",
        ],
    ),
    (
        "argument",
        &["valueerror", "argument", "illegalargument", "validation", "invalid"],
        &["invalid argument", "must be", "expected"],
    ),
    (
        "state",
        &["illegalstate", "invalidoperation", "assertion", "concurrent"],
        &["assertion", "already", "not allowed"],
    ),
];

/// The kind of a failure, or `None` where nothing tells. The type decides, else the message; a type that says little
/// (`TypeError`, `AttributeError`) leaves it to a message that tells of nothing (`null`, `undefined`, `None`, `nil`).
///
/// # Example
/// ```
/// use outcrop_core::failure_kind;
/// assert_eq!(failure_kind("java.net.SocketTimeoutException", "Read timed out"), Some("timeout"));
/// assert_eq!(failure_kind("KeyError", "'2026-11-23'"), Some("missing"));
/// ```
#[must_use]
pub fn failure_kind(type_name: &str, message: &str) -> Option<&'static str> {
    let name = type_name
        .rsplit(['.', '\\'])
        .next()
        .unwrap_or(type_name)
        .replace(['_', ' '], "")
        .to_lowercase();
    let said = crate::text::prefix(message, 400).to_lowercase();
    let by_type = KINDS
        .iter()
        .find(|(_, types, _)| types.iter().any(|sign| name.contains(sign)));
    let by_message = || {
        KINDS
            .iter()
            .find(|(_, _, signs)| signs.iter().any(|sign| said.contains(sign)))
    };
    // Languages without an exception for it say of nothing that it has the wrong type, or lacks an attribute.
    let is_vague = by_type.is_some_and(|(kind, types, _)| {
        *kind == "type" || types.contains(&"attributeerror") && name == "attributeerror"
    });
    let nothing = || by_message().filter(|(kind, _, _)| is_vague && *kind == "null");
    nothing().or(by_type).or_else(by_message).map(|(kind, _, _)| *kind)
}

/// All kinds there are.
pub fn failure_kinds() -> impl Iterator<Item = &'static str> {
    KINDS.iter().map(|(kind, _, _)| *kind)
}
