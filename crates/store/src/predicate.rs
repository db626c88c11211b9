//! Predicates as conditions on occurrences.
//!
//! A test of a name (service, version, endpoint, …) or of a whole error is answered here first, over small tables, and
//! becomes a list of numbers; what varies from occurrence to occurrence becomes SQL with bound values.

use std::cmp::Ordering;
use std::collections::{BTreeMap, HashMap};

use futures_util::TryStreamExt;
use outcrop_core::query::{self, Check, Comparison, Field, Predicate, State, Test, Value, dotted_order};
use outcrop_core::scrub::Addresses;
use outcrop_core::stack::{base_name, short_path};
use outcrop_core::telemetry::{facts, names};
use sqlx::{Postgres, QueryBuilder};
use uuid::Uuid;

use crate::errors::Summary;
use crate::settings::ServiceSetting;
use crate::{Database, StoreError, deploys, from_utc, occurrences, settings};
use crate::{Scope, errors};

/// A predicate whose names are resolved, in the form of the one it was made of.
pub(crate) enum Condition {
    All(Vec<Self>),
    Any(Vec<Self>),
    Not(Box<Self>),
    Numbers(&'static str, Vec<i32>),
    Causes(Vec<i64>),
    Stacks(Vec<Uuid>),
    Uncaught(bool),
    /// A column of text.
    Text(&'static str, Check),
    Severity(Check),
    Trace(Vec<Uuid>),
    Attribute(String, Check),
    /// Holds for nothing.
    Nothing,
}

/// What a user is called in attributes, by the conventions of now and of before.
pub(crate) const USER: &str = "COALESCE(o.attributes ->> 'user.id', o.attributes ->> 'enduser.id', o.attributes ->> \
    'user.name', \
    o.attributes ->> 'user.email', o.attributes ->> 'user.hash', o.attributes ->> 'enduser.pseudo.id', o.attributes \
    ->> 'user_id', \
    o.attributes ->> 'userId', o.attributes ->> 'username', o.attributes ->> 'user')";

/// Resolves the names of a predicate for a scope.
pub(crate) async fn resolve(
    database: &Database,
    predicate: &Predicate,
    scope: &Scope,
) -> Result<Condition, StoreError> {
    let tests = predicate.tests();
    let bare = Scope {
        predicate: None,
        ..scope.clone()
    };
    let summaries = if tests.iter().any(|test| test.field.is_of_error()) {
        errors::list(database, &bare).await?
    } else {
        vec![]
    };
    let mut resolver = Resolver {
        database,
        summaries,
        scope: &bare,
    };
    resolver.condition(predicate).await
}

/// The same check of the pseudonyms of the addresses in it, where it compares with any: an address is stored as one or
/// the other, as its service says.
fn hidden(check: &Check, addresses: &Addresses) -> Option<Check> {
    let hide = |value: &Value| Value {
        text: addresses.in_text(&value.text).into_owned(),
        ..value.clone()
    };
    let hidden = match check {
        Check::Is(comparison @ (Comparison::Equal | Comparison::NotEqual), value) => {
            Check::Is(*comparison, hide(value))
        }
        Check::OneOf(values) => Check::OneOf(values.iter().map(hide).collect()),
        _ => return None,
    };
    (hidden != *check).then_some(hidden)
}

struct Resolver<'r> {
    database: &'r Database,
    summaries: Vec<Summary>,
    scope: &'r Scope,
}

impl Resolver<'_> {
    async fn condition(&mut self, predicate: &Predicate) -> Result<Condition, StoreError> {
        Ok(match predicate {
            Predicate::All(parts) => Condition::All(self.conditions(parts).await?),
            Predicate::Any(parts) => Condition::Any(self.conditions(parts).await?),
            Predicate::Not(part) => Condition::Not(Box::new(Box::pin(self.condition(part)).await?)),
            Predicate::Test(test) => self.test(test).await?,
        })
    }

    async fn conditions(&mut self, parts: &[Predicate]) -> Result<Vec<Condition>, StoreError> {
        let mut conditions = Vec::with_capacity(parts.len());
        for part in parts {
            conditions.push(Box::pin(self.condition(part)).await?);
        }
        Ok(conditions)
    }

    async fn test(&mut self, test: &Test) -> Result<Condition, StoreError> {
        let check = &test.check;
        Ok(match &test.field {
            Field::Service => {
                self.named("o.service_id", "SELECT id, name FROM service", check)
                    .await?
            }
            Field::Namespace => {
                self.named(
                    "o.service_id",
                    "SELECT id, namespace FROM service WHERE namespace <> ''",
                    check,
                )
                .await?
            }
            Field::Environment => {
                self.named("o.environment_id", "SELECT id, name FROM environment", check)
                    .await?
            }
            Field::Endpoint => {
                self.named("o.endpoint_id", "SELECT id, name FROM endpoint", check)
                    .await?
            }
            Field::Version => Condition::Numbers("o.version_id", self.versions(check).await?),
            Field::Type => Condition::Text("o.type", check.clone()),
            Field::Message => Condition::Text("o.message", check.clone()),
            Field::User => {
                let of_user = Condition::Text(USER, check.clone());
                match hidden(check, &settings::addresses(self.database).await?) {
                    None => of_user,
                    Some(hidden) if matches!(check, Check::Is(Comparison::NotEqual, _)) => {
                        Condition::All(vec![of_user, Condition::Text(USER, hidden)])
                    }
                    Some(hidden) => Condition::Any(vec![of_user, Condition::Text(USER, hidden)]),
                }
            }
            Field::Severity => Condition::Severity(check.clone()),
            Field::Trace => trace(check),
            Field::File | Field::Function => Condition::Stacks(self.stacks(&test.field, check).await?),
            Field::Touches => Condition::Attribute(names::TOUCHES.to_owned(), check.clone()),
            Field::Group | Field::Customer => {
                let chosen = chosen_attributes(&settings::all(self.database).await?, &test.field);
                let of = |(name, services): (String, Condition)| {
                    Condition::All(vec![services, Condition::Attribute(name, check.clone())])
                };
                Condition::Any(chosen.into_iter().map(of).collect())
            }
            Field::Slice => self.slices(check).await?,
            Field::State(State::Uncaught) => Condition::Uncaught(true),
            Field::State(State::Caught) => Condition::Uncaught(false),
            Field::Attribute(name) => Condition::Attribute(name.clone(), check.clone()),
            _ => {
                let holding: Vec<i32> = self.errors(test).await?;
                let causes: Vec<(i64,)> = sqlx::query_as("SELECT id FROM cause WHERE error_id = ANY($1)")
                    .bind(holding)
                    .fetch_all(&self.database.pool)
                    .await?;
                Condition::Causes(causes.into_iter().map(|(id,)| id).collect())
            }
        })
    }

    /// The saved predicates whose names a check holds for; any of them may hold.
    async fn slices(&mut self, check: &Check) -> Result<Condition, StoreError> {
        let mut any = vec![];
        for slice in settings::slices(self.database)
            .await?
            .iter()
            .filter(|slice| check.holds_for_text(&slice.name))
        {
            // Saved slices hold no other slices: they end.
            if let Some(predicate) = query::parse(&slice.predicate)
                .ok()
                .filter(|predicate| !names_slice(predicate))
            {
                if self.summaries.is_empty() && predicate.tests().iter().any(|test| test.field.is_of_error()) {
                    self.summaries = errors::list(self.database, self.scope).await?;
                }
                any.push(Box::pin(self.condition(&predicate)).await?);
            }
        }
        Ok(Condition::Any(any))
    }

    async fn named(
        &self,
        column: &'static str,
        statement: &'static str,
        check: &Check,
    ) -> Result<Condition, StoreError> {
        let names: Vec<(i32, String)> = sqlx::query_as(statement).fetch_all(&self.database.pool).await?;
        Ok(Condition::Numbers(
            column,
            names
                .into_iter()
                .filter(|(_, name)| check.holds_for_text(name))
                .map(|(id, _)| id)
                .collect(),
        ))
    }

    /// Versions that a check holds for, in the order of their deploys; a version never seen is put
    /// in by its dotted numbers.
    async fn versions(&self, check: &Check) -> Result<Vec<i32>, StoreError> {
        let orders = self.orders().await?;
        Ok(orders
            .values()
            .flat_map(|order| {
                order
                    .labels
                    .iter()
                    .filter(|(_, label)| order.holds(check, label))
                    .map(|(id, _)| *id)
            })
            .collect())
    }

    async fn orders(&self) -> Result<HashMap<i32, Order>, StoreError> {
        let rows: Vec<(i32, i32, String)> = sqlx::query_as(
            "SELECT version.service_id, version.id, version.label FROM version LEFT JOIN deployed ON \
             deployed.version_id = version.id \
             GROUP BY version.id ORDER BY version.service_id, min(deployed.first_received_at) NULLS FIRST, version.id",
        )
        .fetch_all(&self.database.pool)
        .await?;
        let mut orders: HashMap<i32, Order> = HashMap::new();
        for (service, id, label) in rows {
            orders.entry(service).or_default().labels.push((id, label));
        }
        Ok(orders)
    }

    /// Stacks with a frame whose file or function a check holds for: each stored stack is looked at
    /// once, as it comes, so that all of them never lie in memory together.
    async fn stacks(&self, field: &Field, check: &Check) -> Result<Vec<Uuid>, StoreError> {
        let holds = |frames: &[u8]| {
            occurrences::unpack_stack(frames).is_some_and(|stack| {
                stack
                    .exceptions
                    .iter()
                    .flat_map(|exception| &exception.frames)
                    .any(|frame| {
                        if *field == Field::File {
                            let file = frame.file.as_ref();
                            [file, short_path(file), base_name(file)]
                                .into_iter()
                                .any(|file| check.holds_for_text(file))
                        } else {
                            check.holds_for_text(&frame.function)
                                || check.holds_for_text(&format!("{}.{}", frame.module, frame.function))
                        }
                    })
            })
        };
        let mut found = vec![];
        let mut stored =
            sqlx::query_as::<_, (Uuid, Vec<u8>)>("SELECT hash, frames FROM stack").fetch(&self.database.pool);
        while let Some((hash, frames)) = stored.try_next().await? {
            if holds(&frames) {
                found.push(hash);
            }
        }
        Ok(found)
    }

    async fn errors(&self, test: &Test) -> Result<Vec<i32>, StoreError> {
        let orders = if test.field == Field::FirstVersion {
            self.orders().await?
        } else {
            HashMap::new()
        };
        let flags = if matches!(test.field, Field::State(State::New | State::Surging | State::Returned)) {
            let numbers: Vec<i32> = self
                .summaries
                .iter()
                .map(|summary| crate::ids::number(summary.reference))
                .collect();
            deploys::flags(self.database, &numbers, self.scope.from, self.scope.to).await?
        } else {
            HashMap::new()
        };
        let check = &test.check;
        let number = |n: i64| {
            #[expect(clippy::cast_precision_loss, reason = "counts beyond 2^53 do not occur")]
            check.holds_for_number(n as f64)
        };
        let now = from_utc(self.scope.to);
        let holds = |summary: &Summary| match &test.field {
            Field::Error => check.holds_for_text(&summary.reference.to_string()),
            Field::Title => check.holds_for_text(&summary.title),
            Field::Kind => summary.kind().is_some_and(|kind| check.holds_for_text(kind)),
            Field::Count => number(summary.count),
            Field::Users => number(summary.users),
            Field::Attention => number(summary.attention(self.scope.to).score.into()),
            Field::FirstSeen => check.holds_for_time(from_utc(summary.first_seen), now),
            Field::LastSeen => check.holds_for_time(from_utc(summary.last_seen), now),
            Field::FirstVersion => orders
                .get(&summary.service_id)
                .is_some_and(|order| order.holds(check, &summary.first_version)),
            Field::TakenBy => summary
                .handling
                .taken_by
                .as_ref()
                .is_some_and(|who| check.holds_for_text(who)),
            Field::State(State::Open) => summary.handling.is_open(self.scope.to),
            Field::State(State::Settled) => summary.handling.settled_in.is_some(),
            Field::State(State::Quiet) => summary.handling.is_quiet(self.scope.to),
            Field::State(State::Taken) => summary.handling.taken_by.is_some(),
            Field::State(state) => flags.get(&crate::ids::number(summary.reference)).is_some_and(|flags| {
                let kind = match state {
                    State::New => "new",
                    State::Surging => "surging",
                    _ => "returned",
                };
                flags.iter().any(|flag| flag.kind == kind)
            }),
            _ => false,
        };
        Ok(self
            .summaries
            .iter()
            .filter(|summary| holds(summary))
            .map(|summary| crate::ids::number(summary.reference))
            .collect())
    }
}

/// Whether a predicate asks for a slice.
#[must_use]
pub(crate) fn names_slice(predicate: &Predicate) -> bool {
    predicate.tests().iter().any(|test| test.field == Field::Slice)
}

/// The attributes chosen for instance groups or customers, each with the services it was chosen for.
pub(crate) fn chosen_attributes(
    settings: &HashMap<Option<i32>, ServiceSetting>,
    field: &Field,
) -> Vec<(String, Condition)> {
    let chosen = |setting: &ServiceSetting| {
        if *field == Field::Group {
            setting.instance_group.clone()
        } else {
            setting.customer.clone()
        }
    };
    let mut by_attribute: BTreeMap<String, Vec<i32>> = BTreeMap::new();
    for (service, setting) in settings {
        if let (Some(service), Some(name)) = (service, chosen(setting)) {
            by_attribute.entry(name).or_default().push(*service);
        }
    }
    let with_own: Vec<i32> = by_attribute.values().flatten().copied().collect();
    let of = |services: Vec<i32>| Condition::Numbers("o.service_id", services);
    let for_all = settings
        .get(&None)
        .and_then(chosen)
        .map(|name| (name, Condition::Not(Box::new(of(with_own)))));
    by_attribute
        .into_iter()
        .map(|(name, services)| (name, of(services)))
        .chain(for_all)
        .collect()
}

/// A service's versions in the order they were deployed.
#[derive(Default)]
struct Order {
    labels: Vec<(i32, String)>,
}

impl Order {
    fn holds(&self, check: &Check, label: &str) -> bool {
        let compare = |value: &Value| self.compare(label, &value.text);
        match check {
            Check::Is(comparison, value) => comparison.holds(compare(value)),
            Check::Between(from, to) => compare(from) != Ordering::Less && compare(to) != Ordering::Greater,
            other => other.holds_for_text(label),
        }
    }

    fn compare(&self, label: &str, other: &str) -> Ordering {
        let position = |wanted: &str| self.labels.iter().position(|(_, label)| label == wanted);
        match (position(label), position(other)) {
            _ if label == other => Ordering::Equal,
            (Some(one), Some(other)) => one.cmp(&other),
            _ => dotted_order(label, other),
        }
    }
}

fn trace(check: &Check) -> Condition {
    let ids = |values: &[&Value]| {
        Condition::Trace(
            values
                .iter()
                .filter_map(|value| Uuid::try_parse(&value.text).ok())
                .collect(),
        )
    };
    match check {
        Check::Is(Comparison::Equal, value) => ids(&[value]),
        Check::Is(Comparison::NotEqual, value) => Condition::Not(Box::new(ids(&[value]))),
        Check::OneOf(values) => ids(&values.iter().collect::<Vec<_>>()),
        _ => Condition::Nothing,
    }
}

impl Condition {
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
            Self::Stacks(stacks) => {
                sql.push("COALESCE(o.stack = ANY(")
                    .push_bind(stacks.clone())
                    .push("), false)");
            }
            Self::Trace(ids) => {
                sql.push("COALESCE(o.trace_id = ANY(")
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

/// A check of an attribute of the record, else of its resource. Numbers compare as numbers, also
/// where they were sent as text.
fn attribute(sql: &mut QueryBuilder<Postgres>, name: &str, check: &Check) {
    let sent = |sql: &mut QueryBuilder<Postgres>| sent(sql, name, "->");
    let as_text = |sql: &mut QueryBuilder<Postgres>| {
        sql.push("(");
        sent(sql);
        sql.push(" #>> '{}')");
    };
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
    match range {
        Some((comparison, bound, to)) => {
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
        None if *check == Check::IsSet => {
            sql.push("(");
            sent(sql);
            sql.push(" IS NOT NULL)");
        }
        None => {
            sql.push("COALESCE(");
            text(sql, &as_text, check);
            sql.push(", false)");
        }
    }
}

/// Errors with the occurrences of a window that a condition holds for.
#[derive(sqlx::FromRow)]
pub(crate) struct Matched {
    pub error_id: i32,
    pub count: i64,
    pub environments: Vec<i32>,
    pub versions: Vec<i32>,
    pub users: i64,
}

/// Where occurrences (as `o`) lie: the window and the scope's service, environment and version.
pub(crate) fn within(sql: &mut QueryBuilder<Postgres>, scope: &Scope) {
    sql.push("o.id >= first_id_at(")
        .push_bind(scope.from)
        .push(") AND o.id < first_id_at(")
        .push_bind(scope.to)
        .push(")");
    scope.narrow(sql, "o");
}

/// Counts matching occurrences per error.
pub(crate) async fn count(
    database: &Database,
    scope: &Scope,
    condition: &Condition,
) -> Result<Vec<Matched>, StoreError> {
    let mut sql = QueryBuilder::new(
        "SELECT cause.error_id, count(*) AS count, array_agg(DISTINCT o.environment_id) AS environments, \
         array_agg(DISTINCT o.version_id) AS versions, count(DISTINCT o.user_hash) AS users \
         FROM occurrence o JOIN cause ON cause.id = o.cause_id WHERE ",
    );
    within(&mut sql, scope);
    sql.push(" AND ");
    condition.write(&mut sql);
    sql.push(" GROUP BY cause.error_id");
    Ok(sql.build_query_as().fetch_all(&database.pool).await?)
}

#[cfg(test)]
mod tests {
    use outcrop_core::query::{Case, parse};
    use proptest::prelude::*;
    use proptest::strategy::ValueTree;
    use serde_json::{Map, Value as Json};

    use super::*;
    use crate::testing::{database, logs, now, of, resource_of, store, text, writer};

    /// What an occurrence of the test is made of.
    #[derive(Clone, Debug)]
    struct Sent {
        service: &'static str,
        namespace: &'static str,
        environment: &'static str,
        message: String,
        severity: u8,
        season: Option<&'static str>,
        pier: Option<&'static str>,
        host: &'static str,
    }

    fn sent() -> impl Strategy<Value = Sent> {
        let season = prop::option::of(prop::sample::select(vec![
            "winter", "summer", "Winter", "50%_off", "a\\b",
        ]));
        let pier = prop::option::of(prop::sample::select(vec!["3", "12", "12.5", "-1", "north", "1e3", ""]));
        let message = prop::sample::select(vec![
            "no tariff",
            "No Tariff for *",
            "ramp_up 100%",
            "gate 'A' is \"shut\"",
            "ünïcode ⚓",
            "",
        ]);
        let place = (
            prop::sample::select(vec!["fares", "berths"]),
            prop::sample::select(vec!["", "skerry"]),
        );
        let rest = (
            prop::sample::select(vec!["production", "staging"]),
            prop::sample::select(vec![9_u8, 13, 17, 21]),
        );
        (
            place,
            rest,
            message,
            season,
            pier,
            prop::sample::select(vec!["pier-3", "pier-4"]),
        )
            .prop_map(
                |((service, namespace), (environment, severity), message, season, pier, host)| Sent {
                    service,
                    namespace,
                    environment,
                    message: message.to_owned(),
                    severity,
                    season,
                    pier,
                    host,
                },
            )
    }

    /// Tests of fields that a single occurrence has, put together by `and`, `or` and `not`.
    fn asked() -> impl Strategy<Value = String> {
        let field = prop::sample::select(vec![
            "service",
            "namespace",
            "environment",
            "message",
            "season",
            "pier",
            "host.name",
            "type",
            "severity",
        ]);
        let value = prop::sample::select(vec![
            "fares",
            "skerry",
            "production",
            "no tariff",
            "tariff",
            "winter",
            "50%_off",
            "a\\\\b",
            "3",
            "12",
            "12.5",
            "-1",
            "1e3",
            "",
            "pier-3",
            "BerthTaken",
            "error",
            "warn",
            "%",
            "_",
            "ünïcode",
            "*",
        ]);
        let test = (field, 0..9_usize, value.clone(), value).prop_map(|(field, form, a, b)| match (form, field) {
            // Severities are words of a list; `contains` and `like` are for texts.
            (_, "severity") => {
                format!(
                    "severity {} {}",
                    ["=", "!=", "<", "<=", ">", ">="][form % 6],
                    ["info", "warn", "error", "fatal"][form % 4]
                )
            }
            (0, _) => format!("{field} = \"{a}\""),
            (1, _) => format!("{field} != \"{a}\""),
            (2, _) => format!("{field} in (\"{a}\", \"{b}\")"),
            (3, _) => format!("{field} not in (\"{a}\", \"{b}\")"),
            (4, _) => format!("{field} contains \"{a}\""),
            (5, _) => format!("{field} like \"*{a}?\""),
            (6, _) => format!("{field} is set"),
            (7, "pier") => format!("pier > {}", ["3", "12", "-1", "0.5"][b.len() % 4]),
            (8, "pier") => format!("pier from {} to 12", ["3", "-1"][b.len() % 2]),
            (7, _) => format!("{field} not like \"{a}*\""),
            _ => format!("{field} is not set"),
        });
        test.prop_recursive(3, 12, 3, |inner| {
            prop_oneof![
                (inner.clone(), inner.clone()).prop_map(|(a, b)| format!("({a} and {b})")),
                (inner.clone(), inner.clone()).prop_map(|(a, b)| format!("({a} or {b})")),
                inner.prop_map(|a| format!("not ({a})")),
            ]
        })
    }

    fn object(entries: &[(&str, Option<&str>)]) -> Map<String, Json> {
        entries
            .iter()
            .filter_map(|(name, value)| Some(((*name).to_owned(), Json::String((*value)?.to_owned()))))
            .collect()
    }

    #[tokio::test]
    async fn a_condition_in_sql_holds_for_what_its_predicate_holds_for() {
        let database = database().await;
        let mut runner = proptest::test_runner::TestRunner::deterministic();
        let sent: Vec<Sent> = (0..60)
            .map(|_| sent().new_tree(&mut runner).unwrap().current())
            .collect();
        let groups = sent.iter().zip(0_u8..).map(|(sent, number)| {
            let resource = [
                ("service.name", sent.service),
                ("service.namespace", sent.namespace),
                ("deployment.environment.name", sent.environment),
                ("host.name", sent.host),
            ];
            let mut record = crate::testing::logged(now(), &sent.message);
            record.severity = sent.severity.into();
            for (name, value) in [
                ("season", sent.season),
                ("pier", sent.pier),
                ("number", Some(number.to_string().as_str())),
            ] {
                record
                    .attributes
                    .0
                    .extend(value.map(|value| (name.to_owned(), text(value))));
            }
            of(resource_of(&resource), vec![record])
        });
        store(&writer(&database), &[logs(groups.collect(), now())]).await;
        let to = chrono::Utc::now() + chrono::TimeDelta::minutes(1);
        let scope = Scope {
            service: None,
            environment: None,
            version: None,
            from: to - chrono::TimeDelta::hours(1),
            to,
            predicate: None,
        };
        let (mut some, mut all) = (0, 0);
        for _ in 0..300 {
            let asked = asked().new_tree(&mut runner).unwrap().current();
            let predicate = parse(&asked).unwrap_or_else(|mistake| panic!("{asked}: {mistake}"));
            let condition = resolve(&database, &predicate, &scope).await.unwrap();
            let mut sql = QueryBuilder::new("SELECT o.attributes ->> 'number' FROM occurrence o WHERE ");
            condition.write(&mut sql);
            let found: Vec<(String,)> = sql.build_query_as().fetch_all(&database.pool).await.unwrap();
            let mut found: Vec<usize> = found.into_iter().map(|(number,)| number.parse().unwrap()).collect();
            found.sort_unstable();
            let expected: Vec<usize> = sent
                .iter()
                .enumerate()
                .filter(|(_, sent)| {
                    predicate.holds(&Case {
                        namespace: sent.namespace,
                        service: sent.service,
                        environment: sent.environment,
                        version: "",
                        type_name: "BerthTaken",
                        message: &sent.message,
                        title: "",
                        severity: sent.severity.into(),
                        trace: "",
                        stack: None,
                        attributes: &object(&[("season", sent.season), ("pier", sent.pier)]),
                        resource: &object(&[("host.name", Some(sent.host))]),
                    })
                })
                .map(|(number, _)| number)
                .collect();
            assert_eq!(found, expected, "{asked}");
            some += usize::from(!found.is_empty() && found.len() < sent.len());
            all += 1;
        }
        assert!(some * 4 > all, "of {all} questions only {some} tell occurrences apart");
    }
}
