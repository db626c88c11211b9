//! Values of predicates, as they are written.

use chrono::{DateTime, NaiveDate};

use crate::Timestamp;
use crate::query::lex::{Token, What};
use crate::query::{Comparison, Field, Kind, Mistake, Value};

pub(super) type Parsed<T> = Result<T, Mistake>;

pub(crate) fn unexpected(token: &Token, expected: &str, known: &[&str]) -> Mistake {
    let written = match &token.what {
        What::Word(word) => word.clone(),
        What::Quoted(text) => format!("\"{text}\""),
        What::Sign(sign) => (*sign).to_owned(),
        What::Open => "(".to_owned(),
        What::Close => ")".to_owned(),
        What::Comma => ",".to_owned(),
    };
    let meant = closest(&written, known.iter().copied())
        .map(|word| format!("; did you mean `{word}`?"))
        .unwrap_or_default();
    Mistake {
        at: token.at,
        length: token.length,
        message: format!("`{written}` is not expected here: {expected}{meant}"),
    }
}

pub(super) const fn is_text(field: &Field) -> bool {
    matches!(field.kind(), Kind::Text | Kind::Ordered | Kind::Any)
}

pub(super) fn fits(field: &Field, comparison: Comparison, token: &Token) -> Parsed<()> {
    let is_order = !matches!(comparison, Comparison::Equal | Comparison::NotEqual);
    if is_order && field.kind() == Kind::Text {
        let message = format!(
            "`{}` is text without an order: it takes =, !=, in, contains, like",
            field.name()
        );
        return Err(Mistake {
            at: token.at,
            length: token.length,
            message,
        });
    }
    Ok(())
}

pub(super) const fn comparison(sign: &str) -> Comparison {
    match sign.as_bytes() {
        b"!=" => Comparison::NotEqual,
        b"<" => Comparison::Less,
        b"<=" => Comparison::AtMost,
        b">" => Comparison::Greater,
        b">=" => Comparison::AtLeast,
        _ => Comparison::Equal,
    }
}

pub(super) fn value(text: &str, kind: Kind) -> Value {
    let number = text.parse().ok().filter(|number: &f64| number.is_finite());
    Value {
        text: text.to_owned(),
        number: number.or_else(|| duration(text).filter(|_| kind == Kind::Any)),
        time: None,
    }
}

/// `250ms`, `2s`, `5m`, `3h`, `7d` in milliseconds.
pub(crate) fn duration(text: &str) -> Option<f64> {
    const UNITS: &[(&str, f64)] = &[("ms", 1.0), ("s", 1e3), ("m", 6e4), ("h", 3.6e6), ("d", 8.64e7)];
    UNITS.iter().find_map(|(unit, millis)| {
        let number: f64 = text.strip_suffix(unit)?.parse().ok()?;
        (number.is_finite() && number >= 0.0).then_some(number * millis)
    })
}

pub(crate) fn time(text: &str) -> Option<Timestamp> {
    let day = || {
        NaiveDate::parse_from_str(text, "%Y-%m-%d")
            .ok()?
            .and_hms_opt(0, 0, 0)
            .map(|at| at.and_utc())
    };
    let at = DateTime::parse_from_rfc3339(text)
        .map(|at| at.to_utc())
        .ok()
        .or_else(day)?;
    Some(Timestamp::from_millis(at.timestamp_millis()))
}

/// The lowest OTLP severity number of a severity's name.
pub(super) fn severity(name: &str) -> Option<i16> {
    crate::severity::number(name).map(i16::from)
}

/// The known word a slip is closest to.
#[must_use]
pub fn closest<'k>(written: &str, known: impl Iterator<Item = &'k str>) -> Option<&'k str> {
    let written = written.to_lowercase();
    let most = match written.len() {
        0..=2 => 1,
        3..=5 => 2,
        _ => 3,
    };
    known
        .map(|word| (strsim::damerau_levenshtein(&written, word), word))
        .filter(|(distance, word)| *distance <= most && *distance < word.len())
        .min_by_key(|(distance, _)| *distance)
        .map(|(_, word)| word)
}
