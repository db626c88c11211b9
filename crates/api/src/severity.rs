//! Severities, by their usual names.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// How severe an error is, by OTLP's ranges of severity numbers.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum Severity {
    /// 1 to 4.
    Trace,
    /// 5 to 8.
    Debug,
    /// 9 to 12; also where none is given.
    Info,
    /// 13 to 16.
    Warn,
    /// 17 to 20.
    Error,
    /// 21 to 24.
    Fatal,
}

/// Read by any of its usual names: `warning`, `critical`.
impl<'de> Deserialize<'de> for Severity {
    fn deserialize<D: serde::Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        String::deserialize(deserializer)?
            .parse()
            .map_err(serde::de::Error::custom)
    }
}

impl std::str::FromStr for Severity {
    type Err = String;

    fn from_str(name: &str) -> Result<Self, String> {
        let number = outcrop_core::severity::number(name);
        number.map(|number| Self::of_number(number.into())).ok_or_else(|| {
            format!(
                "`{name}` is no severity; it is one of trace, debug, info, warn (or warning), error, fatal (or \
                critical)"
            )
        })
    }
}

impl Severity {
    /// Reads OTLP's number.
    #[must_use]
    pub const fn of_number(number: i16) -> Self {
        match number {
            1..=4 => Self::Trace,
            5..=8 => Self::Debug,
            13..=16 => Self::Warn,
            17..=20 => Self::Error,
            21.. => Self::Fatal,
            _ => Self::Info,
        }
    }

    /// Reads OTLP's number; `None` where it says nothing.
    #[must_use]
    pub const fn of(number: i16) -> Option<Self> {
        if number > 0 {
            Some(Self::of_number(number))
        } else {
            None
        }
    }

    /// The word, as in JSON.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Trace => "trace",
            Self::Debug => "debug",
            Self::Info => "info",
            Self::Warn => "warn",
            Self::Error => "error",
            Self::Fatal => "fatal",
        }
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::as_written("error", Some(Severity::Error))]
    #[case::warning("warning", Some(Severity::Warn))]
    #[case::critical("critical", Some(Severity::Fatal))]
    #[case::in_capitals("WARN", Some(Severity::Warn))]
    #[case::none("loud", None)]
    #[case::nothing("", None)]
    fn a_severity_is_read_by_its_usual_names(#[case] name: &str, #[case] expected: Option<Severity>) {
        assert_eq!(name.parse::<Severity>().ok(), expected);
        assert_eq!(serde_json::from_value::<Severity>(name.into()).ok(), expected);
    }

    #[test]
    fn a_word_that_is_no_severity_is_answered_with_those_that_are() {
        let said = "loud".parse::<Severity>().unwrap_err();
        assert!(
            said.starts_with("`loud` is no severity; it is one of trace, debug, info, warn"),
            "{said}"
        );
    }

    #[test]
    fn each_number_of_otlp_has_a_severity_that_is_written_and_read_alike() {
        for number in 1..=24 {
            let severity = Severity::of(number).unwrap();
            assert_eq!(severity.word().parse(), Ok(severity));
            assert_eq!(serde_json::to_value(severity).unwrap(), severity.word());
        }
        assert_eq!((Severity::of(0), Severity::of_number(0)), (None, Severity::Info));
    }

    #[test]
    fn severities_are_ordered_as_their_numbers_are() {
        let all: Vec<Severity> = (1..=24).filter_map(Severity::of).collect();
        assert!(all.is_sorted());
    }
}
