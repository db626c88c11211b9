//! Conditions on occurrences, as SQL with bound values.

use outcrop_core::query::{Check, Comparison, Value};
use outcrop_core::telemetry::facts;
use sqlx::{Postgres, QueryBuilder};
use uuid::Uuid;

/// A predicate whose names are resolved, in the form of the one it was made of.
pub(crate) enum Condition {
    All(Vec<Self>),
    Any(Vec<Self>),
    Not(Box<Self>),
    Numbers(&'static str, Vec<i32>),
    Causes(Vec<i64>),
    Ids(&'static str, Vec<Uuid>),
    Uncaught(bool),
    /// A column of text.
    Text(&'static str, Check),
    Severity(Check),
    Attribute(String, Check),
    /// A number of a line, by the expression that finds it.
    NumberOfLine(String, Check),
    /// Holds for nothing.
    Nothing,
}

/// What a user is called in attributes, by the conventions of now and of before.
pub(crate) const USER: &str = "COALESCE(o.attributes ->> 'user.id', o.attributes ->> 'enduser.id', o.attributes ->> \
    'user.name', \
    o.attributes ->> 'user.email', o.attributes ->> 'user.hash', o.attributes ->> 'enduser.pseudo.id', o.attributes \
    ->> 'user_id', \
    o.attributes ->> 'userId', o.attributes ->> 'username', o.attributes ->> 'user')";

impl Condition {
    /// Whether it holds for all that a service sent; `None` where that depends on more than the service.
    pub(super) fn of_service(&self, service: i32) -> Option<bool> {
        match self {
            Self::All(parts) => parts
                .iter()
                .try_fold(true, |all, part| Some(all & part.of_service(service)?)),
            Self::Any(parts) => parts
                .iter()
                .try_fold(false, |any, part| Some(any | part.of_service(service)?)),
            Self::Not(part) => part.of_service(service).map(|holds| !holds),
            Self::Numbers("o.service_id", services) => Some(services.contains(&service)),
            _ => None,
        }
    }

    /// Writes it as a condition on an occurrence, as `o`: true or false, never NULL.
    pub(crate) fn write(&self, sql: &mut QueryBuilder<Postgres>) {
        let joined = |sql: &mut QueryBuilder<Postgres>, parts: &[Self], word: &str, none: &str| {
            sql.push("(");
            for (at, part) in parts.iter().enumerate() {
                if at > 0 {
                    sql.push(word);
                }
                part.write(sql);
            }
            if parts.is_empty() {
                sql.push(none);
            }
            sql.push(")");
        };
        match self {
            Self::All(parts) => joined(sql, parts, " AND ", "true"),
            Self::Any(parts) => joined(sql, parts, " OR ", "false"),
            Self::Not(part) => {
                sql.push("NOT ");
                part.write(sql);
            }
            Self::Numbers(column, numbers) => {
                sql.push("COALESCE(")
                    .push(*column)
                    .push(" = ANY(")
                    .push_bind(numbers.clone())
                    .push("), false)");
            }
            Self::Causes(causes) => {
                sql.push("(o.cause_id = ANY(").push_bind(causes.clone()).push("))");
            }
            Self::Ids(column, ids) => {
                sql.push("COALESCE(")
                    .push(*column)
                    .push(" = ANY(")
                    .push_bind(ids.clone())
                    .push("), false)");
            }
            Self::Uncaught(uncaught) => {
                sql.push("(o.uncaught = ").push_bind(*uncaught).push(")");
            }
            Self::Severity(check) => severity(sql, check),
            Self::Text(column, check) => {
                sql.push("COALESCE(");
                let operand = |sql: &mut QueryBuilder<Postgres>| {
                    sql.push(*column);
                };
                text(sql, &operand, check);
                sql.push(", false)");
            }
            Self::Attribute(name, check) => attribute(sql, name, check),
            Self::NumberOfLine(pattern, check) => value(sql, &|sql| number_of_line(sql, pattern), check),
            Self::Nothing => {
                sql.push("false");
            }
        }
    }
}

/// Severities are compared by their names: `error` is 17 to 20.
fn severity(sql: &mut QueryBuilder<Postgres>, check: &Check) {
    let numbers: Vec<i16> = (1..=24).filter(|number| check.holds_for_severity(*number)).collect();
    sql.push("(o.severity = ANY(").push_bind(numbers).push("))");
}

type Write<'w> = &'w dyn Fn(&mut QueryBuilder<Postgres>);

const fn sign(comparison: Comparison) -> &'static str {
    match comparison {
        Comparison::Equal => " = ",
        Comparison::NotEqual => " <> ",
        Comparison::Less => " < ",
        Comparison::AtMost => " <= ",
        Comparison::Greater => " > ",
        Comparison::AtLeast => " >= ",
    }
}

/// A check of a text; NULL where the text is.
fn text(sql: &mut QueryBuilder<Postgres>, operand: Write<'_>, check: &Check) {
    match check {
        Check::Is(comparison, value) => {
            operand(sql);
            sql.push(" COLLATE \"C\"")
                .push(sign(*comparison))
                .push_bind(value.text.clone());
        }
        Check::Between(from, to) => {
            operand(sql);
            sql.push(" COLLATE \"C\" BETWEEN ")
                .push_bind(from.text.clone())
                .push(" AND ")
                .push_bind(to.text.clone());
        }
        Check::OneOf(values) => {
            operand(sql);
            sql.push(" = ANY(")
                .push_bind(values.iter().map(|value| value.text.clone()).collect::<Vec<_>>())
                .push(")");
        }
        Check::Contains(part) => {
            sql.push("position(lower(").push_bind(part.clone()).push(") IN lower(");
            operand(sql);
            sql.push(")) > 0");
        }
        Check::Like(pattern) => {
            operand(sql);
            sql.push(" LIKE ").push_bind(like(pattern));
        }
        Check::IsSet => {
            operand(sql);
            sql.push(" <> ''");
        }
    }
}

/// A pattern of the language as one of SQL.
fn like(pattern: &str) -> String {
    let mut made = String::with_capacity(pattern.len());
    for c in pattern.chars() {
        match c {
            '*' => made.push('%'),
            '?' => made.push('_'),
            '%' | '_' | '\\' => made.extend(['\\', c]),
            c => made.push(c),
        }
    }
    made
}

/// What was sent as an attribute of the record, else of its resource, under any of the names of its
/// fact; by `->` or `->>`.
pub(crate) fn sent(sql: &mut QueryBuilder<Postgres>, name: &str, arrow: &'static str) {
    sql.push("COALESCE(");
    for name in facts::names_of(name) {
        sql.push("o.attributes ")
            .push(arrow)
            .push(" ")
            .push_bind(name.to_owned())
            .push(", ");
    }
    for (at, name) in facts::names_of(name).into_iter().enumerate() {
        sql.push(if at > 0 { ", " } else { "" });
        sql.push("(SELECT body FROM resource WHERE hash = o.resource) ")
            .push(arrow)
            .push(" ")
            .push_bind(name.to_owned());
    }
    sql.push(")");
}

/// Writes the number of a line that an expression finds, as text; durations in milliseconds.
pub(crate) fn number_of_line(sql: &mut QueryBuilder<Postgres>, pattern: &str) {
    sql.push("number_of_line(o.message, ")
        .push_bind(pattern.to_owned())
        .push(")");
}

/// A check of an attribute of the record, else of its resource.
fn attribute(sql: &mut QueryBuilder<Postgres>, name: &str, check: &Check) {
    let sent = |sql: &mut QueryBuilder<Postgres>| sent(sql, name, "->");
    if *check == Check::IsSet {
        sql.push("(");
        sent(sql);
        sql.push(" IS NOT NULL)");
        return;
    }
    let as_text = |sql: &mut QueryBuilder<Postgres>| {
        sql.push("(");
        sent(sql);
        sql.push(" #>> '{}')");
    };
    value(sql, &as_text, check);
}

/// A check of a value, given as text. Numbers compare as numbers, also where they were sent as text.
fn value(sql: &mut QueryBuilder<Postgres>, as_text: Write<'_>, check: &Check) {
    let number = |value: &Value| value.number;
    let range = match check {
        Check::Is(comparison, value) if number(value).is_some() => {
            number(value).map(|bound| (*comparison, bound, None))
        }
        Check::Between(from, to) => number(from)
            .zip(number(to))
            .map(|(from, to)| (Comparison::AtLeast, from, Some(to))),
        _ => None,
    };
    let Some((comparison, bound, to)) = range else {
        sql.push("COALESCE(");
        text(sql, as_text, check);
        sql.push(", false)");
        return;
    };
    sql.push("COALESCE(CASE WHEN ");
    as_text(sql);
    // As outcrop_core::query::number_in reads numbers. Nothing else is cast: a text that is
    // none is never less or greater than one.
    sql.push(" ~ '^-?[0-9]{1,15}([.][0-9]{1,15})?$' THEN ");
    as_text(sql);
    sql.push("::float8").push(sign(comparison)).push_bind(bound);
    if let Some(to) = to {
        sql.push(" AND ");
        as_text(sql);
        sql.push("::float8 <= ").push_bind(to);
    }
    sql.push(" ELSE ");
    if comparison == Comparison::NotEqual {
        as_text(sql);
        sql.push(" IS NOT NULL");
    } else {
        sql.push("false");
    }
    sql.push(" END, false)");
}
