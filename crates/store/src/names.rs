//! Names interned as numbers: services, environments, versions, endpoints.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::sync::Mutex;

use outcrop_core::Digest;
use outcrop_core::telemetry::names::Identity;
use sqlx::PgPool;
use uuid::Uuid;

use crate::{StoreError, uuid};

/// The numbers of a resource's names.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub(crate) struct Sender {
    pub service: i32,
    pub environment: i32,
    pub version: i32,
}

/// Endpoints kept by name per service; further ones are counted under [`OTHER_ENDPOINTS`]. A sender that puts ids into
/// its span names would otherwise fill the table.
const MAX_ENDPOINTS: usize = 2_000;
/// The endpoint that stands for all past the limit.
const OTHER_ENDPOINTS: &str = "(other endpoints)";

/// Numbers known to be committed. Filled from the database, so that several instances may share it.
#[derive(Default)]
pub(crate) struct Names {
    known: Mutex<Known>,
}

#[derive(Default)]
struct Known {
    senders: HashMap<Identity, Sender>,
    endpoints: HashMap<(i32, Digest), i32>,
    endpoint_counts: HashMap<i32, usize>,
}

/// Numbers for all names of one batch.
#[derive(Default)]
pub(crate) struct Numbers {
    pub senders: HashMap<Identity, Sender>,
    pub endpoints: HashMap<(i32, Digest), i32>,
}

pub(crate) fn name_hash(name: &str) -> Digest {
    Digest::of([name])
}

impl Names {
    /// Finds or makes the numbers of these senders and their endpoints. Each step commits by itself: what is known here
    /// is never rolled back.
    pub(crate) async fn resolve(&self, pool: &PgPool, wanted: &BTreeMap<&Identity, BTreeSet<&str>>) -> Result<Numbers, StoreError> {
        let mut numbers = Numbers::default();
        for (identity, endpoints) in wanted {
            let cached = self.with(|known| known.senders.get(*identity).copied());
            let sender = match cached {
                Some(sender) => sender,
                None => self.make_sender(pool, identity).await?,
            };
            numbers.senders.insert((*identity).clone(), sender);
            for name in endpoints {
                let key = (sender.service, name_hash(name));
                let cached = self.with(|known| known.endpoints.get(&key).copied());
                let endpoint = match cached {
                    Some(endpoint) => endpoint,
                    None => self.make_endpoint(pool, key, name).await?,
                };
                numbers.endpoints.insert(key, endpoint);
            }
        }
        Ok(numbers)
    }

    fn with<T>(&self, read: impl FnOnce(&mut Known) -> T) -> T {
        read(&mut self.known.lock().unwrap_or_else(std::sync::PoisonError::into_inner))
    }

    async fn make_sender(&self, pool: &PgPool, identity: &Identity) -> Result<Sender, StoreError> {
        let service_hash = uuid(Digest::of([identity.namespace.as_str(), &identity.service]));
        let service = number(
            pool,
            "INSERT INTO service (namespace, name, name_hash) VALUES ($2, $3, $1) ON CONFLICT (name_hash) DO NOTHING",
            "SELECT id FROM service WHERE name_hash = $1",
            &Key { hash: service_hash, service: None, names: &[&identity.namespace, &identity.service] },
        )
        .await?;
        let environment = number(
            pool,
            "INSERT INTO environment (name, name_hash) VALUES ($2, $1) ON CONFLICT (name_hash) DO NOTHING",
            "SELECT id FROM environment WHERE name_hash = $1",
            &Key { hash: uuid(name_hash(&identity.environment)), service: None, names: &[&identity.environment] },
        )
        .await?;
        let version = number(
            pool,
            "INSERT INTO version (label, label_hash, service_id) VALUES ($3, $1, $2) ON CONFLICT (service_id, label_hash) DO NOTHING",
            "SELECT id FROM version WHERE label_hash = $1 AND service_id = $2",
            &Key { hash: uuid(name_hash(&identity.version)), service: Some(service), names: &[&identity.version] },
        )
        .await?;
        let sender = Sender { service, environment, version };
        self.with(|known| known.senders.insert(identity.clone(), sender));
        Ok(sender)
    }

    async fn make_endpoint(&self, pool: &PgPool, key: (i32, Digest), name: &str) -> Result<i32, StoreError> {
        let (service, hash) = key;
        let count = if let Some(count) = self.with(|known| known.endpoint_counts.get(&service).copied()) {
            count
        } else {
            let (count,): (i64,) =
                sqlx::query_as("SELECT count(*) FROM endpoint WHERE service_id = $1").bind(service).fetch_one(pool).await?;
            usize::try_from(count).unwrap_or(usize::MAX)
        };
        let is_over = count >= MAX_ENDPOINTS && name != OTHER_ENDPOINTS && find_endpoint(pool, service, hash).await?.is_none();
        let (name, hash) = if is_over { (OTHER_ENDPOINTS, name_hash(OTHER_ENDPOINTS)) } else { (name, hash) };
        let endpoint = number(
            pool,
            "INSERT INTO endpoint (name, name_hash, service_id) VALUES ($3, $1, $2) ON CONFLICT (service_id, name_hash) DO NOTHING",
            "SELECT id FROM endpoint WHERE name_hash = $1 AND service_id = $2",
            &Key { hash: uuid(hash), service: Some(service), names: &[name] },
        )
        .await?;
        self.with(|known| {
            // Past the limit nothing more is remembered, else this map would grow instead of the table.
            if !is_over {
                known.endpoints.insert(key, endpoint);
                known.endpoint_counts.insert(service, count + 1);
            }
        });
        Ok(endpoint)
    }
}

async fn find_endpoint(pool: &PgPool, service: i32, hash: Digest) -> Result<Option<i32>, StoreError> {
    let found: Option<(i32,)> = sqlx::query_as("SELECT id FROM endpoint WHERE name_hash = $1 AND service_id = $2")
        .bind(uuid(hash))
        .bind(service)
        .fetch_optional(pool)
        .await?;
    Ok(found.map(|(id,)| id))
}

struct Key<'a> {
    hash: Uuid,
    service: Option<i32>,
    names: &'a [&'a str],
}

async fn number(pool: &PgPool, insert: &'static str, select: &'static str, key: &Key<'_>) -> Result<i32, StoreError> {
    for _ in 0..2 {
        let mut query = sqlx::query_as::<_, (i32,)>(select).bind(key.hash);
        if let Some(service) = key.service {
            query = query.bind(service);
        }
        if let Some((id,)) = query.fetch_optional(pool).await? {
            return Ok(id);
        }
        let mut query = sqlx::query(insert).bind(key.hash);
        if let Some(service) = key.service {
            query = query.bind(service);
        }
        for name in key.names {
            query = query.bind(*name);
        }
        query.execute(pool).await?;
    }
    Err(sqlx::Error::RowNotFound.into())
}
