//! Fields of records as SQL: the joins they need, and the text or number that they hold.

use outcrop_core::query::Field;
use outcrop_core::question::{Group, Question, Source, is_template};
use outcrop_core::stack::short_path;
use sqlx::{Postgres, QueryBuilder};
use uuid::Uuid;

use super::answer::MAX_KEY;
use crate::asking::{number_of_line, parts, within};
use crate::{Database, Scope, StoreError, ids, stacks};

/// Different stacks that are looked at; past these the rest have no own frame.
const MAX_STACKS: i64 = 100_000;

/// What a question needs to know beside its records.
#[derive(Default)]
pub(super) struct Beside {
    /// Whether it asks for the error of an occurrence.
    errors: bool,
    /// Kinds by error.
    kinds: Option<(Vec<i32>, Vec<&'static str>)>,
    /// The innermost own frame by stack: its file, and its function.
    frames: Option<(Vec<Uuid>, Vec<String>, Vec<String>)>,
}

impl Beside {
    /// Reads what a question's fields need.
    pub(super) async fn read(database: &Database, question: &Question, scope: &Scope) -> Result<Self, StoreError> {
        let of_groups = question.by.iter().filter_map(|group| match group {
            Group::Field(field) => Some(field),
            _ => None,
        });
        let fields: Vec<&Field> = (question.measures.iter())
            .filter_map(|measure| measure.field())
            .chain(of_groups)
            .collect();
        let asks = |wanted: &[Field]| fields.iter().any(|field| wanted.contains(field));
        let mut beside = Self {
            errors: asks(&[Field::Error, Field::Title, Field::Kind]),
            ..Self::default()
        };
        if asks(&[Field::Kind]) {
            let errors: Vec<(i32, String, String)> = sqlx::query_as("SELECT id, type, title FROM error_group")
                .fetch_all(&database.pool)
                .await?;
            let kinds = errors
                .into_iter()
                .filter_map(|(id, type_name, title)| Some((id, outcrop_core::failure_kind(&type_name, &title)?)));
            beside.kinds = Some(kinds.unzip());
        }
        if asks(&[Field::File, Field::Function]) {
            beside.frames = Some(frames(database, scope).await?);
        }
        Ok(beside)
    }

    /// Writes the joins after `FROM … o`.
    pub(super) fn join(&self, sql: &mut QueryBuilder<Postgres>) {
        if self.errors {
            sql.push(" JOIN cause ON cause.id = o.cause_id JOIN error_group ON error_group.id = cause.error_id");
        }
        if let Some((errors, kinds)) = &self.kinds {
            sql.push(" LEFT JOIN UNNEST(")
                .push_bind(errors.clone())
                .push("::int[], ")
                .push_bind(kinds.clone())
                .push("::text[]) AS kinds (error_id, kind) ON kinds.error_id = cause.error_id");
        }
        if let Some((hashes, files, functions)) = &self.frames {
            sql.push(" LEFT JOIN UNNEST(")
                .push_bind(hashes.clone())
                .push("::uuid[], ")
                .push_bind(files.clone())
                .push("::text[], ")
                .push_bind(functions.clone())
                .push("::text[]) AS frames (stack, file, function) ON frames.stack = o.stack");
        }
    }
}

/// The innermost own frames of the stacks of a window.
async fn frames(database: &Database, scope: &Scope) -> Result<(Vec<Uuid>, Vec<String>, Vec<String>), StoreError> {
    let mut sql = QueryBuilder::new("SELECT DISTINCT o.stack FROM occurrence o WHERE o.stack IS NOT NULL AND ");
    within(&mut sql, scope);
    sql.push(" LIMIT ").push_bind(MAX_STACKS);
    let hashes: Vec<Uuid> = sql.build_query_scalar().fetch_all(&database.pool).await?;
    let stored: Vec<(Uuid, Vec<u8>)> = sqlx::query_as("SELECT hash, frames FROM stack WHERE hash = ANY($1)")
        .bind(hashes)
        .fetch_all(&database.pool)
        .await?;
    let mut found = (vec![], vec![], vec![]);
    for (hash, packed) in stored {
        let Some(stack) = stacks::unpack_stack(&packed) else {
            continue;
        };
        let own = stack
            .exceptions
            .iter()
            .flat_map(|exception| &exception.frames)
            .find(|frame| frame.own);
        if let Some(frame) = own {
            found.0.push(hash);
            found.1.push(short_path(&frame.file).to_owned());
            found.2.push(frame.function.to_string());
        }
    }
    Ok(found)
}

/// Writes a group's value as text; empty where a record has none.
pub(super) async fn key(
    database: &Database,
    sql: &mut QueryBuilder<Postgres>,
    (question, group): (&Question, &Group),
) -> Result<(), StoreError> {
    sql.push("left(COALESCE(");
    match group {
        Group::HourOfDay => {
            sql.push("to_char(id_time(o.id) AT TIME ZONE 'UTC', 'HH24')");
        }
        Group::DayOfWeek => {
            sql.push("to_char(id_time(o.id) AT TIME ZONE 'UTC', 'ID')");
        }
        Group::Field(field) => text(database, sql, (question, field)).await?,
    }
    sql.push(format!(", ''), {MAX_KEY})"));
    Ok(())
}

/// Writes a field's value as text; NULL where a record has none.
pub(super) async fn text(
    database: &Database,
    sql: &mut QueryBuilder<Postgres>,
    (question, field): (&Question, &Field),
) -> Result<(), StoreError> {
    match field {
        Field::Error => {
            sql.push("cause.error_id::text");
        }
        Field::Title => {
            sql.push("error_group.title");
        }
        Field::Kind => {
            sql.push("kinds.kind");
        }
        Field::File => {
            sql.push("frames.file");
        }
        Field::Function => {
            sql.push("frames.function");
        }
        _ if question.source == Source::Lines && is_template(field) => {
            sql.push("(SELECT template FROM log_template WHERE hash = o.template)");
        }
        _ if let Some(number) = question.number_of(field) => number_of_line(sql, &number.pattern),
        _ => {
            if !parts::expression(database, sql, field).await? {
                sql.push("NULL::text");
            }
        }
    }
    Ok(())
}

/// The reference of an error's number, as [`text`] writes it.
pub(super) fn reference(key: &str) -> String {
    key.parse()
        .map_or_else(|_| key.to_owned(), |number: i32| ids::reference(number).to_string())
}

/// Errors' numbers among the keys that were shown, as they are stored.
pub(super) fn stored(question: &Question, keys: &[Vec<String>]) -> Vec<Vec<String>> {
    let is_error = |at: usize| question.by.get(at) == Some(&Group::Field(Field::Error));
    let mut columns: Vec<Vec<String>> = vec![vec![]; question.by.len()];
    for row in keys {
        for (at, key) in row.iter().enumerate().take(columns.len()) {
            let number = key
                .parse::<outcrop_core::Reference>()
                .map(|reference| ids::number(reference).to_string());
            let kept = if is_error(at) {
                number.unwrap_or_default()
            } else {
                key.clone()
            };
            columns[at].push(kept);
        }
    }
    columns
}
