//! Causes: one grouping key in one service each, and the error it belongs to.

use std::collections::{BTreeMap, HashMap};
use std::sync::Mutex;

use outcrop_core::Digest;
use outcrop_core::grouping::{ALGORITHM, Grouping};
use sqlx::{PgConnection, PgPool};

use crate::{StoreError, uuid};

/// A grouping key in a service.
pub(crate) type CauseKey = (i32, Digest);

/// Causes remembered; forgotten all at once past this.
const MAX_REMEMBERED: usize = 200_000;

/// Causes known to be committed. A cause's number never changes, whatever error it is moved to.
#[derive(Default)]
pub(crate) struct Causes {
    known: Mutex<HashMap<CauseKey, i64>>,
}

/// What a new error is called.
pub(crate) struct Naming<'a> {
    pub grouping: &'a Grouping,
    pub type_name: &'a str,
}

impl Causes {
    /// Finds or makes the causes of these keys; a new cause gets a new error. Each service's new causes commit by
    /// themselves: an error that then gets no occurrence is shown nowhere.
    pub(crate) async fn resolve(
        &self,
        pool: &PgPool,
        wanted: &BTreeMap<CauseKey, Naming<'_>>,
    ) -> Result<HashMap<CauseKey, i64>, StoreError> {
        let mut found: HashMap<CauseKey, i64> = HashMap::with_capacity(wanted.len());
        let mut missing: BTreeMap<i32, Vec<Digest>> = BTreeMap::new();
        {
            let known = self.known.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
            for key in wanted.keys() {
                match known.get(key) {
                    Some(cause) => drop(found.insert(*key, *cause)),
                    None => missing.entry(key.0).or_default().push(key.1),
                }
            }
        }
        for (service, keys) in missing {
            found.extend(look_up(&mut *pool.acquire().await?, service, &keys).await?);
            let unknown: Vec<Digest> = keys.into_iter().filter(|key| !found.contains_key(&(service, *key))).collect();
            if !unknown.is_empty() {
                found.extend(make(pool, service, &unknown, wanted).await?);
            }
        }
        let mut known = self.known.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        if known.len() + found.len() > MAX_REMEMBERED {
            known.clear();
        }
        known.extend(found.iter().map(|(key, cause)| (*key, *cause)));
        Ok(found)
    }
}

async fn look_up(connection: &mut PgConnection, service: i32, keys: &[Digest]) -> Result<Vec<(CauseKey, i64)>, sqlx::Error> {
    let hashes: Vec<uuid::Uuid> = keys.iter().map(|key| uuid(*key)).collect();
    let rows: Vec<(uuid::Uuid, i64)> = sqlx::query_as("SELECT key, id FROM cause WHERE service_id = $1 AND key = ANY($2)")
        .bind(service)
        .bind(hashes)
        .fetch_all(connection)
        .await?;
    Ok(rows.into_iter().map(|(key, id)| ((service, Digest(*key.as_bytes())), id)).collect())
}

/// Makes causes under a lock per service, so that two writers never give one key two errors.
async fn make(
    pool: &PgPool,
    service: i32,
    keys: &[Digest],
    wanted: &BTreeMap<CauseKey, Naming<'_>>,
) -> Result<Vec<(CauseKey, i64)>, StoreError> {
    let mut transaction = pool.begin().await?;
    sqlx::query("SELECT pg_advisory_xact_lock(hashtext('outcrop cause'), $1)").bind(service).execute(&mut *transaction).await?;
    let mut made = look_up(&mut transaction, service, keys).await?;
    for key in keys {
        if made.iter().any(|((_, known), _)| known == key) {
            continue;
        }
        let naming = &wanted[&(service, *key)];
        // An error that the previous algorithm's releases know stays the same error. Their own cause counts only where it
        // has occurred: the one written below for a release beside this one says nothing of what belongs together.
        let known: Option<(i32,)> = sqlx::query_as(
            "SELECT error_id FROM cause WHERE service_id = $1 AND key = $2 AND algorithm < $3 AND EXISTS (SELECT 1 FROM sighted WHERE cause_id = cause.id)",
        )
        .bind(service)
        .bind(uuid(naming.grouping.previous))
        .bind(ALGORITHM)
        .fetch_optional(&mut *transaction)
        .await?;
        // A key that people's rules made is no algorithm's, and no other release makes another of it.
        let algorithm = if naming.grouping.by_rule { 0 } else { ALGORITHM };
        let error = match known {
            Some((error,)) => error,
            None => name(&mut transaction, service, naming).await?,
        };
        let (cause,): (i64,) =
            sqlx::query_as("INSERT INTO cause (service_id, key, algorithm, error_id) VALUES ($1, $2, $3, $4) RETURNING id")
                .bind(service)
                .bind(uuid(*key))
                .bind(algorithm)
                .bind(error)
                .fetch_one(&mut *transaction)
                .await?;
        if known.is_none() && !naming.grouping.by_rule {
            sqlx::query(
                "INSERT INTO cause (service_id, key, algorithm, error_id) VALUES ($1, $2, $3, $4) ON CONFLICT (service_id, key) DO NOTHING",
            )
            .bind(service)
            .bind(uuid(naming.grouping.previous))
            .bind(ALGORITHM - 1)
            .bind(error)
            .execute(&mut *transaction)
            .await?;
        }
        made.push(((service, *key), cause));
    }
    transaction.commit().await?;
    Ok(made)
}

/// Makes an error.
async fn name(connection: &mut PgConnection, service: i32, naming: &Naming<'_>) -> Result<i32, sqlx::Error> {
    let (error,): (i32,) =
        sqlx::query_as("INSERT INTO error_group (service_id, title, type, own_frame) VALUES ($1, $2, $3, $4) RETURNING id")
            .bind(service)
            .bind(&naming.grouping.title)
            .bind(naming.type_name)
            .bind(&naming.grouping.own_frame)
            .fetch_one(connection)
            .await?;
    Ok(error)
}
