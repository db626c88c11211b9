//! What a predicate may test.

/// What a predicate can look at.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub enum Field {
    /// The service's name.
    Service,
    /// The service's namespace.
    Namespace,
    /// The deployment environment.
    Environment,
    /// The service's version, in the order of deploys.
    Version,
    /// The endpoint of the request or run.
    Endpoint,
    /// The exception's type.
    Type,
    /// The occurrence's message.
    Message,
    /// The error's title: type and message template.
    Title,
    /// The severity: `trace`, `debug`, `info`, `warn`, `error`, `fatal`.
    Severity,
    /// The user.
    User,
    /// The trace's id.
    Trace,
    /// A file of any frame of the stack.
    File,
    /// A function of any frame of the stack.
    Function,
    /// The error's reference.
    Error,
    /// Occurrences of the error in the window.
    Count,
    /// Users of the error in the window.
    Users,
    /// The error's attention.
    Attention,
    /// When the error was first seen.
    FirstSeen,
    /// When the error was last seen.
    LastSeen,
    /// The version the error was first seen in.
    FirstVersion,
    /// The person or team that took the error.
    TakenBy,
    /// The kind of exception, derived: `timeout`, `connection`, `null`, `parse`, `permission`, `database`, …
    Kind,
    /// What the failing request touched: `database`, `queue`, `rpc`, `http`.
    Touches,
    /// The instance group: the value of the resource attribute chosen for the service.
    Group,
    /// The customer: the value of the attribute chosen for the service.
    Customer,
    /// A slice: a predicate saved under a name.
    Slice,
    /// A state that an error or occurrence is in or not.
    State(State),
    /// Any attribute of the occurrence or its resource, by the name it was sent with.
    Attribute(String),
}

/// States written as one word.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum State {
    /// Neither settled nor quiet.
    Open,
    /// The exception ended a request, job or process.
    Uncaught,
    /// It did not.
    Caught,
    /// Flagged as new.
    New,
    /// Flagged as surging.
    Surging,
    /// Flagged as returned.
    Returned,
    /// Settled in a version.
    Settled,
    /// Quiet until a condition.
    Quiet,
    /// Taken by somebody.
    Taken,
    /// Taken by whoever asks; [`Predicate::asked_by`](super::Predicate::asked_by) says who that is.
    Mine,
}

/// What kind of values a field holds: decides which checks it takes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Kind {
    /// Text: equal, in a list, contains, like.
    Text,
    /// Text in an order of its own: all checks.
    Ordered,
    /// Numbers: comparisons, ranges, lists.
    Number,
    /// Points in time: comparisons and ranges.
    Time,
    /// Whatever was sent: all checks.
    Any,
    /// It holds or does not: no check.
    State,
}

const FIELDS: &[(&str, Field)] = &[
    ("service", Field::Service),
    ("namespace", Field::Namespace),
    ("environment", Field::Environment),
    ("version", Field::Version),
    ("endpoint", Field::Endpoint),
    ("type", Field::Type),
    ("message", Field::Message),
    ("title", Field::Title),
    ("severity", Field::Severity),
    ("user", Field::User),
    ("trace", Field::Trace),
    ("file", Field::File),
    ("function", Field::Function),
    ("error", Field::Error),
    ("count", Field::Count),
    ("users", Field::Users),
    ("attention", Field::Attention),
    ("first_seen", Field::FirstSeen),
    ("last_seen", Field::LastSeen),
    ("first_version", Field::FirstVersion),
    ("kind", Field::Kind),
    ("touches", Field::Touches),
    ("group", Field::Group),
    ("customer", Field::Customer),
    ("slice", Field::Slice),
];

const STATES: &[(&str, State)] = &[
    ("open", State::Open),
    ("uncaught", State::Uncaught),
    ("caught", State::Caught),
    ("new", State::New),
    ("surging", State::Surging),
    ("returned", State::Returned),
    ("settled", State::Settled),
    ("quiet", State::Quiet),
    ("taken", State::Taken),
    ("mine", State::Mine),
];

impl Field {
    /// The field of a name. A name that is none of these is an attribute's.
    #[must_use]
    pub fn of(name: &str) -> Self {
        let known = FIELDS
            .iter()
            .find(|(known, _)| *known == name)
            .map(|(_, field)| field.clone());
        let state = || {
            STATES
                .iter()
                .find(|(known, _)| *known == name)
                .map(|(_, state)| Self::State(*state))
        };
        known.or_else(state).unwrap_or_else(|| Self::Attribute(name.to_owned()))
    }

    /// All names that are no attributes': fields, then states, then `taken by`.
    pub fn names() -> impl Iterator<Item = &'static str> {
        FIELDS
            .iter()
            .map(|(name, _)| *name)
            .chain(STATES.iter().map(|(name, _)| *name))
            .chain(["taken by"])
    }

    /// Its name as it is written.
    #[must_use]
    pub fn name(&self) -> &str {
        match self {
            Self::Attribute(name) => name,
            Self::TakenBy => "taken by",
            Self::State(state) => STATES
                .iter()
                .find(|(_, known)| known == state)
                .map_or("", |(name, _)| name),
            _ => FIELDS
                .iter()
                .find(|(_, known)| known == self)
                .map_or("", |(name, _)| name),
        }
    }

    /// What kind of values it holds.
    #[must_use]
    pub const fn kind(&self) -> Kind {
        match self {
            Self::Version | Self::FirstVersion | Self::Severity => Kind::Ordered,
            Self::Count | Self::Users | Self::Attention => Kind::Number,
            Self::FirstSeen | Self::LastSeen => Kind::Time,
            Self::Attribute(_) => Kind::Any,
            Self::State(_) => Kind::State,
            _ => Kind::Text,
        }
    }

    /// Whether a log line has it: a line has a sender, a severity, a message, a trace and attributes.
    #[must_use]
    pub const fn is_of_line(&self) -> bool {
        matches!(
            self,
            Self::Service
                | Self::Namespace
                | Self::Environment
                | Self::Version
                | Self::Message
                | Self::Severity
                | Self::User
                | Self::Trace
                | Self::Group
                | Self::Customer
                | Self::Attribute(_)
        )
    }

    /// Whether a request has it: a request has a sender, an endpoint, a user and attributes.
    #[must_use]
    pub const fn is_of_request(&self) -> bool {
        matches!(
            self,
            Self::Service
                | Self::Namespace
                | Self::Environment
                | Self::Version
                | Self::Endpoint
                | Self::User
                | Self::Group
                | Self::Customer
                | Self::Attribute(_)
        )
    }

    /// Whether it is a property of the error in the window, not of a single occurrence.
    #[must_use]
    pub const fn is_of_error(&self) -> bool {
        matches!(
            self,
            Self::Error
                | Self::Title
                | Self::Kind
                | Self::Count
                | Self::Users
                | Self::Attention
                | Self::FirstSeen
                | Self::LastSeen
                | Self::FirstVersion
                | Self::TakenBy
                | Self::State(
                    State::Open
                        | State::New
                        | State::Surging
                        | State::Returned
                        | State::Settled
                        | State::Quiet
                        | State::Taken
                        | State::Mine
                )
        )
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_field_is_read_by_the_name_it_is_written_with() {
        for name in Field::names().filter(|name| *name != "taken by") {
            let field = Field::of(name);
            assert_eq!(field.name(), name);
            assert!(!matches!(field, Field::Attribute(_)), "{name} is no attribute");
        }
        assert_eq!(Field::TakenBy.name(), "taken by");
        let sent = Field::of("skerry.season");
        assert_eq!(
            (sent.name(), sent.kind(), sent.is_of_error()),
            ("skerry.season", Kind::Any, false)
        );
    }

    #[test]
    fn states_take_no_check_and_are_of_the_error_but_for_how_it_was_caught() {
        for (name, state) in STATES {
            let field = Field::State(*state);
            assert_eq!(field.kind(), Kind::State, "{name}");
            let is_of_occurrence = matches!(state, State::Uncaught | State::Caught);
            assert_eq!(field.is_of_error(), !is_of_occurrence, "{name}");
        }
    }

    #[test]
    fn what_is_counted_of_an_error_is_no_property_of_an_occurrence() {
        for name in [
            "count",
            "users",
            "attention",
            "first_seen",
            "last_seen",
            "first_version",
            "kind",
            "error",
        ] {
            assert!(Field::of(name).is_of_error(), "{name}");
        }
        for name in [
            "service", "version", "endpoint", "user", "trace", "file", "touches", "group", "message",
        ] {
            assert!(!Field::of(name).is_of_error(), "{name}");
        }
    }
}
