//! Predicates as conditions: tests of names and of whole errors are answered over small tables.

use std::cmp::Ordering;
use std::collections::HashMap;

use futures_util::TryStreamExt;
use outcrop_core::deploy::FlagKind;
use outcrop_core::grouping::{number_at, place_of};
use outcrop_core::query;
use outcrop_core::query::{Check, Comparison, Field, Predicate, State, Test, Value, dotted_order};
use outcrop_core::question::{Source, is_template, template_of};
use outcrop_core::scrub::Addresses;
use outcrop_core::stack::{base_name, short_path};
use outcrop_core::telemetry::names;
use uuid::Uuid;

use super::chosen::{chosen_attributes, names_slice};
use super::condition::{Condition, USER};
use crate::errors::Summary;
use crate::ids::template_hash;
use crate::people::settings;
use crate::{Database, Scope, StoreError, asking, flags, from_utc, stacks};

/// Resolves the names of a predicate on occurrences for a scope.
pub(crate) async fn resolve(
    database: &Database,
    predicate: &Predicate,
    scope: &Scope,
) -> Result<Condition, StoreError> {
    resolve_for(database, predicate, scope, Source::Occurrences).await
}

/// Resolves the names of a predicate on records of a source for a scope: lines have a template, and numbers in it.
pub(crate) async fn resolve_for(
    database: &Database,
    predicate: &Predicate,
    scope: &Scope,
    source: Source,
) -> Result<Condition, StoreError> {
    let tests = predicate.tests();
    let bare = Scope {
        predicate: None,
        ..scope.clone()
    };
    let summaries = if tests.iter().any(|test| test.field.is_of_error()) {
        asking::list_errors(database, &bare).await?
    } else {
        vec![]
    };
    let mut resolver = Resolver {
        database,
        summaries,
        scope: &bare,
        of_lines: (source == Source::Lines).then(|| template_of(predicate).unwrap_or_default()),
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
    /// Of lines, the template that all of them have, if any.
    of_lines: Option<&'r str>,
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
            Field::File | Field::Function => Condition::Ids("o.stack", self.stacks(&test.field, check).await?),
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
            Field::Attribute(name) => match self.of_lines {
                Some(_) if is_template(&test.field) => self.templates(check).await?,
                Some(template) => place_of(name).and_then(|place| number_at(template, place)).map_or_else(
                    || Condition::Attribute(name.clone(), check.clone()),
                    |number| Condition::NumberOfLine(number.pattern, check.clone()),
                ),
                None => Condition::Attribute(name.clone(), check.clone()),
            },
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

    /// Templates of lines that a check holds for.
    async fn templates(&self, check: &Check) -> Result<Condition, StoreError> {
        if let Check::Is(Comparison::Equal, value) = check {
            return Ok(Condition::Ids("o.template", vec![template_hash(&value.text)]));
        }
        let mut found = vec![];
        let mut stored =
            sqlx::query_as::<_, (Uuid, String)>("SELECT hash, template FROM log_template").fetch(&self.database.pool);
        while let Some((hash, template)) = stored.try_next().await? {
            if check.holds_for_text(&template) {
                found.push(hash);
            }
        }
        Ok(Condition::Ids("o.template", found))
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
                    self.summaries = asking::list_errors(self.database, self.scope).await?;
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
             GROUP BY version.id, version.service_id, version.label ORDER BY version.service_id, min(deployed.first_received_at) NULLS FIRST, version.id",
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
            stacks::unpack_stack(frames).is_some_and(|stack| {
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
            flags::flags(self.database, Some(&numbers), (self.scope.from, self.scope.to)).await?
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
            Field::State(State::Settled) => summary.handling.is_settled(),
            Field::State(State::Quiet) => summary.handling.is_quiet(self.scope.to),
            Field::State(State::Taken) => summary.handling.taken_by.is_some(),
            // Nobody asks: a rule does.
            Field::State(State::Mine) => false,
            Field::State(state) => flags.get(&crate::ids::number(summary.reference)).is_some_and(|flags| {
                let kind = match state {
                    State::New => FlagKind::New,
                    State::Surging => FlagKind::Surging,
                    _ => FlagKind::Returned,
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
        Condition::Ids(
            "o.trace_id",
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
