//! Causes: one grouping key in one service each, and the error it belongs to.

use std::collections::{BTreeMap, BTreeSet, HashMap};

use outcrop_core::Digest;
use outcrop_core::completeness::Limit;
use outcrop_core::failure::Report;
use outcrop_core::grouping::{ALGORITHM, Grouping};
use sqlx::{PgConnection, PgPool};

use crate::Remembered;
use crate::StoreError;
use crate::database::locks::Lock;
use crate::grouping::moved;
use crate::grouping::moved::Coming;
use crate::ids::uuid;
use crate::writing::limits::Reached;

/// A grouping key in a service.
pub(crate) type CauseKey = (i32, Digest);

/// Causes remembered; forgotten all at once past this.
const MAX_REMEMBERED: usize = 200_000;
/// Errors of a service that are told apart. Errors are never forgotten, so that none comes back
/// falsely new: a service that makes more than people can look at in years has its further ones
/// counted under one other error, and gets no `clear` from the deploy check.
pub(crate) const MAX_ERRORS: i64 = 10_000;
/// The other error's title.
const OTHER_ERRORS: &str = "(other errors)";

/// The key of a service's other error.
pub(crate) fn other_key() -> Digest {
    Digest::of(["the other error of a service"])
}

/// Causes known to be committed. A cause's number never changes, whatever error it is moved to.
#[derive(Default)]
pub(crate) struct Causes {
    known: Remembered<CauseKey, i64, MAX_REMEMBERED>,
}

/// What a new error is called.
#[derive(Clone, Copy)]
pub(crate) struct Naming<'a> {
    /// The key that the previous algorithm makes; `None` where no algorithm made the key.
    pub previous: Option<Digest>,
    pub title: &'a str,
    pub type_name: &'a str,
    pub own_frame: Option<&'a str>,
    /// A report with this key and the version it came in; `None` where no algorithm made the key.
    pub example: Option<(&'a Report, i32)>,
}

impl<'a> Naming<'a> {
    pub(crate) fn of(report: &'a Report, version: i32) -> Self {
        let grouping: &Grouping = &report.grouping;
        let previous = (!grouping.by_rule).then_some(grouping.previous);
        Self {
            previous,
            title: &grouping.title,
            type_name: &report.type_name,
            own_frame: grouping.own_frame.as_deref(),
            example: previous.map(|_| (report, version)),
        }
    }

    /// A service's other error.
    pub(crate) const fn other() -> Self {
        Self {
            previous: None,
            title: OTHER_ERRORS,
            type_name: "",
            own_frame: None,
            example: None,
        }
    }
}

impl Causes {
    /// Finds or makes the causes of these keys; a new cause gets a new error, or its service's
    /// other error past [`MAX_ERRORS`]. They commit by themselves, in a constant number of
    /// statements: an error that then gets no occurrence is shown nowhere.
    pub(crate) async fn resolve(
        &self,
        pool: &PgPool,
        wanted: &BTreeMap<CauseKey, Naming<'_>>,
    ) -> Result<(HashMap<CauseKey, i64>, Reached), StoreError> {
        let (mut found, mut missing) = (HashMap::with_capacity(wanted.len()), BTreeMap::new());
        for (key, naming) in wanted {
            match self.known.get(key) {
                Some(cause) => drop(found.insert(*key, cause)),
                None => drop(missing.insert(*key, *naming)),
            }
        }
        if missing.is_empty() {
            return Ok((found, Reached::default()));
        }
        let there = look_up(&mut *pool.acquire().await?, missing.keys()).await?;
        missing.retain(|key, _| !there.contains_key(key));
        let (made, reached, surplus) = if missing.is_empty() {
            Default::default()
        } else {
            make(pool, missing).await?
        };
        self.known
            .extend(there.iter().chain(&made).map(|(key, cause)| (*key, *cause)));
        found.extend(there);
        // What is counted under the other error is not remembered: it is without end.
        for key in surplus {
            let other = made.get(&(key.0, other_key())).ok_or(sqlx::Error::RowNotFound)?;
            found.insert(key, *other);
        }
        found.extend(made);
        Ok((found, reached))
    }
}

async fn look_up(
    connection: &mut PgConnection,
    keys: impl Iterator<Item = &CauseKey>,
) -> Result<HashMap<CauseKey, i64>, sqlx::Error> {
    let (services, hashes): (Vec<i32>, Vec<uuid::Uuid>) = keys.map(|(service, key)| (*service, uuid(*key))).unzip();
    let rows: Vec<(i32, uuid::Uuid, i64)> = sqlx::query_as(
        "SELECT cause.service_id, cause.key, cause.id FROM UNNEST($1::int[], $2::uuid[]) AS w (service, key) \
         JOIN cause ON cause.service_id = w.service AND cause.key = w.key",
    )
    .bind(services)
    .bind(hashes)
    .fetch_all(connection)
    .await?;
    Ok(rows
        .into_iter()
        .map(|(service, key, id)| ((service, Digest(*key.as_bytes())), id))
        .collect())
}

/// What was made, the limits reached, and the keys that are counted under their service's other error.
type Made = (HashMap<CauseKey, i64>, Reached, Vec<CauseKey>);

/// Makes causes under a lock, so that two writers never give one key two errors.
async fn make(pool: &PgPool, mut missing: BTreeMap<CauseKey, Naming<'_>>) -> Result<Made, StoreError> {
    let mut transaction = pool.begin().await?;
    Lock::Causes.take(&mut transaction).await?;
    let mut made = look_up(&mut transaction, missing.keys()).await?;
    missing.retain(|key, _| !made.contains_key(key));
    // An error that the previous algorithm's releases know stays the same error.
    let known = of_previous(&mut transaction, &missing).await?;
    let (reached, surplus) = hold(&mut transaction, &mut missing, &known).await?;
    if !surplus.is_empty() {
        let others: Vec<CauseKey> = surplus.iter().map(|key| (key.0, other_key())).collect();
        made.extend(look_up(&mut transaction, others.iter()).await?);
        missing.extend(
            others
                .into_iter()
                .filter(|key| !made.contains_key(key))
                .map(|key| (key, Naming::other())),
        );
    }
    let new: Vec<CauseKey> = missing.keys().filter(|key| !known.contains_key(key)).copied().collect();
    let numbers = name(&mut transaction, &new, &missing).await?;
    let errors: HashMap<CauseKey, i32> = new
        .iter()
        .copied()
        .zip(numbers)
        .chain(known.iter().map(|(key, error)| (*key, *error)))
        .collect();
    // A key that people's rules made is no algorithm's, and no other release makes another of it.
    let mut causes: BTreeMap<CauseKey, (i16, i32)> = BTreeMap::new();
    for (key, naming) in &missing {
        let algorithm = if naming.previous.is_some() { ALGORITHM } else { 0 };
        causes.insert(*key, (algorithm, errors[key]));
    }
    for key in &new {
        if let Some(previous) = missing[key].previous {
            causes.entry((key.0, previous)).or_insert((ALGORITHM - 1, errors[key]));
        }
    }
    sqlx::query(
        "INSERT INTO cause (service_id, key, algorithm, error_id) \
         SELECT * FROM UNNEST($1::int[], $2::uuid[], $3::smallint[], $4::int[]) AS new ORDER BY 1, 2 ON CONFLICT \
         (service_id, key) DO NOTHING",
    )
    .bind(causes.keys().map(|key| key.0).collect::<Vec<_>>())
    .bind(causes.keys().map(|key| uuid(key.1)).collect::<Vec<_>>())
    .bind(causes.values().map(|cause| cause.0).collect::<Vec<_>>())
    .bind(causes.values().map(|cause| cause.1).collect::<Vec<_>>())
    .execute(&mut *transaction)
    .await?;
    made.extend(look_up(&mut transaction, missing.keys()).await?);
    compare(&mut transaction, &missing, &made, &errors, &known).await?;
    transaction.commit().await?;
    Ok((made, reached, surplus))
}

/// Keeps the shapes of new causes, and puts those that are errors of versions before where they belong.
async fn compare(
    connection: &mut PgConnection,
    missing: &BTreeMap<CauseKey, Naming<'_>>,
    made: &HashMap<CauseKey, i64>,
    errors: &HashMap<CauseKey, i32>,
    known: &HashMap<CauseKey, i32>,
) -> Result<(), StoreError> {
    let mut shapes = vec![];
    let mut coming: BTreeMap<i32, Vec<Coming>> = BTreeMap::new();
    for (key, naming) in missing {
        let (Some((report, version)), Some(cause)) = (naming.example, made.get(key)) else {
            continue;
        };
        let Some(shape) = moved::shape(report) else { continue };
        shapes.push((*cause, shape.clone()));
        if !known.contains_key(key) {
            coming.entry(key.0).or_default().push(Coming {
                cause: *cause,
                error: errors[key],
                shape,
                version,
            });
        }
    }
    if shapes.is_empty() {
        return Ok(());
    }
    moved::keep(connection, &shapes).await?;
    for (service, coming) in coming {
        moved::place(connection, service, &coming).await?;
    }
    Ok(())
}

/// Of keys not known: the errors that the previous algorithm's keys belong to. These count only
/// where they have occurred: the one written for a release beside this one says nothing of what
/// belongs together.
async fn of_previous(
    connection: &mut PgConnection,
    missing: &BTreeMap<CauseKey, Naming<'_>>,
) -> Result<HashMap<CauseKey, i32>, sqlx::Error> {
    let previous: Vec<(CauseKey, Digest)> = missing
        .iter()
        .filter_map(|(key, naming)| Some((*key, naming.previous?)))
        .collect();
    let rows: Vec<(i32, uuid::Uuid, i32)> = sqlx::query_as(
        "SELECT w.service, w.key, cause.error_id FROM UNNEST($1::int[], $2::uuid[], $3::uuid[]) AS w (service, key, \
         previous) \
         JOIN cause ON cause.service_id = w.service AND cause.key = w.previous AND cause.algorithm < $4 \
         WHERE EXISTS (SELECT 1 FROM sighted WHERE cause_id = cause.id)",
    )
    .bind(previous.iter().map(|(key, _)| key.0).collect::<Vec<_>>())
    .bind(previous.iter().map(|(key, _)| uuid(key.1)).collect::<Vec<_>>())
    .bind(previous.iter().map(|(_, previous)| uuid(*previous)).collect::<Vec<_>>())
    .bind(ALGORITHM)
    .fetch_all(connection)
    .await?;
    Ok(rows
        .into_iter()
        .map(|(service, key, error)| ((service, Digest(*key.as_bytes())), error))
        .collect())
}

/// Leaves out keys for which their service has no room. The other error itself always has.
async fn hold(
    connection: &mut PgConnection,
    missing: &mut BTreeMap<CauseKey, Naming<'_>>,
    known: &HashMap<CauseKey, i32>,
) -> Result<(Reached, Vec<CauseKey>), sqlx::Error> {
    let services: BTreeSet<i32> = missing.keys().map(|key| key.0).collect();
    let counts: Vec<(i32, i64)> =
        sqlx::query_as("SELECT service_id, count(*) FROM error_group WHERE service_id = ANY($1) GROUP BY 1")
            .bind(services.into_iter().collect::<Vec<_>>())
            .fetch_all(connection)
            .await?;
    let mut counts: HashMap<i32, i64> = counts.into_iter().collect();
    let mut reached = Reached::default();
    let mut surplus = vec![];
    missing.retain(|key, _| {
        let count = counts.entry(key.0).or_default();
        if known.contains_key(key) || key.1 == other_key() {
            return true;
        }
        *count += 1;
        if *count > MAX_ERRORS {
            reached.add(key.0, Limit::Errors, 1);
            surplus.push(*key);
        }
        *count <= MAX_ERRORS
    });
    Ok((reached, surplus))
}

/// Makes an error for each key; returns their numbers in the same order.
async fn name(
    connection: &mut PgConnection,
    keys: &[CauseKey],
    naming: &BTreeMap<CauseKey, Naming<'_>>,
) -> Result<Vec<i32>, sqlx::Error> {
    let numbers: Vec<(i32,)> =
        sqlx::query_as("SELECT nextval(pg_get_serial_sequence('error_group', 'id'))::int FROM generate_series(1, $1)")
            .bind(i32::try_from(keys.len()).unwrap_or(i32::MAX))
            .fetch_all(&mut *connection)
            .await?;
    let numbers: Vec<i32> = numbers.into_iter().map(|(number,)| number).collect();
    sqlx::query(
        "INSERT INTO error_group (id, service_id, title, type, own_frame) OVERRIDING SYSTEM VALUE \
         SELECT * FROM UNNEST($1::int[], $2::int[], $3::text[], $4::text[], $5::text[]) AS new",
    )
    .bind(&numbers)
    .bind(keys.iter().map(|key| key.0).collect::<Vec<_>>())
    .bind(keys.iter().map(|key| naming[key].title).collect::<Vec<_>>())
    .bind(keys.iter().map(|key| naming[key].type_name).collect::<Vec<_>>())
    .bind(keys.iter().map(|key| naming[key].own_frame).collect::<Vec<_>>())
    .execute(connection)
    .await?;
    Ok(numbers)
}
