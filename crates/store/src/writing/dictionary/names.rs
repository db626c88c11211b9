//! Names interned as numbers: services, environments, versions, endpoints, and what services call.
//!
//! Each kind is looked up, and made where it is missing, by one statement for a whole batch,
//! however many names that holds. Past its limit a kind counts what comes further under one "other"
//! name; names that nobody has used for a while make room.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::hash::Hash;

use outcrop_core::Digest;
use outcrop_core::completeness::Limit;
use outcrop_core::telemetry::names::Identity;
use sqlx::{AssertSqlSafe, PgPool};
use uuid::Uuid;

use crate::Remembered;
use crate::StoreError;
use crate::ids::{OTHER_VERSIONS, uuid};
use crate::retention::KEPT_DAYS;
use crate::writing::limits::Reached;

/// The numbers of a resource's names.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub(crate) struct SenderIds {
    pub service: i32,
    pub environment: i32,
    pub version: i32,
}

/// Services that one sender key may make: ten times the largest fleets of the people this is for.
pub(crate) const MAX_SERVICES: i64 = 2_000;
/// Environments that one sender key may make; previews of branches are many.
pub(crate) const MAX_ENVIRONMENTS: i64 = 500;
/// Versions of a service that were used in the last [`KEPT_DAYS`]: one every twenty minutes.
pub(crate) const MAX_VERSIONS: i64 = 2_000;
/// Endpoints of a service. A sender that puts ids into its span names would otherwise fill the table.
pub(crate) const MAX_ENDPOINTS: i64 = 2_000;
/// Places called per service and kind, and statements. Some put ids into host names or statements.
pub(crate) const MAX_CALLED: i64 = 1_000;

/// Names remembered per kind; forgotten all at once past this, which costs one look at the database.
const MAX_REMEMBERED: usize = 100_000;

const OTHER_SERVICES: &str = "(other services)";
const OTHER_ENVIRONMENTS: &str = "(other environments)";
const OTHER_ENDPOINTS: &str = "(other endpoints)";
const OTHER_CALLED: &str = "(others)";

/// Numbers known to be committed, with the day of use noted last. Filled from the database, so that
/// several instances may share it.
#[derive(Default)]
pub(crate) struct Names {
    services: Known<Digest>,
    environments: Known<Digest>,
    versions: Known<(i32, Digest)>,
    endpoints: Known<(i32, Digest)>,
    called: Known<(i32, Digest)>,
}

/// Numbers for all names of one batch.
#[derive(Default)]
pub(crate) struct Numbers {
    pub senders: HashMap<Identity, SenderIds>,
    pub endpoints: HashMap<(i32, Digest), i32>,
    /// Limits reached.
    pub reached: Reached,
}

/// Who sent, by which key, and the endpoints that served.
pub(crate) type Wanted<'a> = BTreeMap<&'a Identity, (i32, BTreeSet<&'a str>)>;

pub(crate) fn name_hash(name: &str) -> Digest {
    Digest::of([name])
}

fn service_hash(namespace: &str, service: &str) -> Digest {
    Digest::of([namespace, service])
}

impl Names {
    /// Finds or makes the numbers of these senders and their endpoints on a day. Each step commits
    /// by itself: what is known here is never rolled back.
    pub(crate) async fn resolve(&self, pool: &PgPool, wanted: &Wanted<'_>, day: i32) -> Result<Numbers, StoreError> {
        let of_identity = |identity: &Identity| service_hash(&identity.namespace, &identity.service);
        let services = wanted.iter().map(|(identity, (key, _))| {
            (
                of_identity(identity),
                Name {
                    owner: *key,
                    space: &identity.namespace,
                    said: &identity.service,
                },
            )
        });
        let other = |_: &Digest, _: &Name<'_>| (service_hash("", OTHER_SERVICES), Name::plain(0, OTHER_SERVICES));
        let services = self
            .services
            .resolve(pool, &SERVICES, services.collect(), other, day)
            .await?;
        let environments = wanted.iter().map(|(identity, (key, _))| {
            (
                name_hash(&identity.environment),
                Name::plain(*key, &identity.environment),
            )
        });
        let other = |_: &Digest, _: &Name<'_>| (name_hash(OTHER_ENVIRONMENTS), Name::plain(0, OTHER_ENVIRONMENTS));
        let environments = self
            .environments
            .resolve(pool, &ENVIRONMENTS, environments.collect(), other, day)
            .await?;
        let versions = wanted.keys().map(|identity| {
            let service = services.numbers[&of_identity(identity)];
            (
                (service, name_hash(&identity.version)),
                Name::plain(service, &identity.version),
            )
        });
        let versions = self
            .versions
            .resolve(pool, &VERSIONS, versions.collect(), other_of(OTHER_VERSIONS), day)
            .await?;
        let mut numbers = Numbers::default();
        let mut endpoints = BTreeMap::new();
        for (identity, (_, served)) in wanted {
            let (of_service, of_environment) = (of_identity(identity), name_hash(&identity.environment));
            let service = services.numbers[&of_service];
            let of_version = (service, name_hash(&identity.version));
            let sender = SenderIds {
                service,
                environment: environments.numbers[&of_environment],
                version: versions.numbers[&of_version],
            };
            numbers.senders.insert((*identity).clone(), sender);
            for (limit, is_reached) in [
                (Limit::Services, services.others.contains(&of_service)),
                (Limit::Environments, environments.others.contains(&of_environment)),
                (Limit::Versions, versions.others.contains(&of_version)),
            ] {
                if is_reached {
                    numbers.reached.add(service, limit, 1);
                }
            }
            endpoints.extend(
                served
                    .iter()
                    .map(|name| ((service, name_hash(name)), Name::plain(service, name))),
            );
        }
        let endpoints = self
            .endpoints
            .resolve(pool, &ENDPOINTS, endpoints, other_of(OTHER_ENDPOINTS), day)
            .await?;
        for (service, _) in &endpoints.others {
            numbers.reached.add(*service, Limit::Endpoints, 1);
        }
        numbers.endpoints = endpoints.numbers;
        Ok(numbers)
    }

    /// Finds or makes the numbers of what services call: service, kind and name.
    pub(crate) async fn called(
        &self,
        pool: &PgPool,
        wanted: &BTreeSet<(i32, &'static str, &str)>,
        day: i32,
    ) -> Result<(HashMap<(i32, Digest), i32>, Reached), StoreError> {
        let names = wanted.iter().map(|(service, kind, name)| {
            (
                (*service, called_hash(kind, name)),
                Name {
                    owner: *service,
                    space: kind,
                    said: name,
                },
            )
        });
        let other = |key: &(i32, Digest), name: &Name<'_>| {
            let kind = KINDS
                .iter()
                .find(|kind| **kind == name.space)
                .copied()
                .unwrap_or_default();
            (
                (key.0, called_hash(kind, OTHER_CALLED)),
                Name {
                    owner: key.0,
                    space: kind,
                    said: OTHER_CALLED,
                },
            )
        };
        let found = self.called.resolve(pool, &CALLED, names.collect(), other, day).await?;
        let mut reached = Reached::default();
        for (service, _) in &found.others {
            reached.add(*service, Limit::Called, 1);
        }
        Ok((found.numbers, reached))
    }
}

/// The kinds of what is called.
const KINDS: [&str; 6] = ["database", "queue", "consumed", "rpc", "http", "statement"];

/// The hash under which something called is known in its service.
pub(crate) fn called_hash(kind: &str, name: &str) -> Digest {
    Digest::of([kind, name])
}

/// What stands for all names of a service past the limit.
fn other_of(name: &'static str) -> impl Fn(&(i32, Digest), &Name<'_>) -> ((i32, Digest), Name<'static>) {
    move |key, _| {
        (
            (key.0, name_hash(name)),
            Name {
                owner: key.0,
                space: "",
                said: name,
            },
        )
    }
}

/// A name, and what it is counted under: its sender key or its service, and for what is called its kind.
#[derive(Clone, Copy)]
struct Name<'a> {
    owner: i32,
    /// The namespace of a service, the kind of what is called.
    space: &'a str,
    said: &'a str,
}

impl<'a> Name<'a> {
    /// A name without a namespace.
    const fn plain(owner: i32, said: &'a str) -> Self {
        Self { owner, space: "", said }
    }
}

/// A table of names.
struct Table {
    relation: &'static str,
    owner: &'static str,
    hash: &'static str,
    space: Option<&'static str>,
    name: &'static str,
    /// Whether the hash alone tells names apart, whoever made them.
    is_global: bool,
    /// Names per owner, and per space where `is_by_space`.
    limit: i64,
    is_by_space: bool,
}

const SERVICES: Table = Table {
    relation: "service",
    owner: "key_id",
    hash: "name_hash",
    space: Some("namespace"),
    name: "name",
    is_global: true,
    limit: MAX_SERVICES,
    is_by_space: false,
};
const ENVIRONMENTS: Table = Table {
    relation: "environment",
    space: None,
    limit: MAX_ENVIRONMENTS,
    ..SERVICES
};
const ENDPOINTS: Table = Table {
    relation: "endpoint",
    owner: "service_id",
    is_global: false,
    limit: MAX_ENDPOINTS,
    ..ENVIRONMENTS
};
const VERSIONS: Table = Table {
    relation: "version",
    hash: "label_hash",
    name: "label",
    limit: MAX_VERSIONS,
    ..ENDPOINTS
};
const CALLED: Table = Table {
    relation: "called",
    hash: "hash",
    space: Some("kind"),
    limit: MAX_CALLED,
    is_by_space: true,
    ..ENDPOINTS
};

impl Table {
    /// Looks up names, makes what is missing while there is room, and notes the day of use: owners,
    /// hashes, spaces, names, limit, day. Names of which nothing is kept any more take no room.
    /// Returns what is there then. Rows go in by the order of their keys, so that two writers wait
    /// in one direction.
    fn statement(&self) -> String {
        let Self {
            relation: table,
            owner,
            hash,
            name,
            ..
        } = self;
        let space = self.space.map_or(String::new(), |space| format!("{space}, "));
        let given = if self.space.is_some() { "space, " } else { "" };
        let (of_row, of_wanted) = match self.space.filter(|_| self.is_by_space) {
            Some(space) => (space, "w.space"),
            None => ("''", "''"),
        };
        let same = if self.is_global {
            String::new()
        } else {
            format!("AND t.{owner} = w.owner")
        };
        let unique = if self.is_global {
            (*hash).to_owned()
        } else {
            format!("{owner}, {hash}")
        };
        format!(
            "WITH wanted AS (SELECT * FROM UNNEST($1::int[], $2::uuid[], $3::text[], $4::text[]) AS w (owner, hash, \
             space, name)), \
             known AS (SELECT t.id, t.used_day, w.owner, w.hash FROM wanted w JOIN {table} t ON t.{hash} = w.hash \
             {same}), \
             noted AS (UPDATE {table} t SET used_day = $6 FROM known WHERE t.id = known.id AND known.used_day < $6), \
             counted AS (SELECT {owner} AS owner, {of_row} AS space, count(*) AS n FROM {table} \
                 WHERE {owner} IN (SELECT owner FROM wanted) AND used_day >= $6 - {KEPT_DAYS} GROUP BY 1, 2), \
             fresh AS (SELECT w.*, row_number() OVER (PARTITION BY w.owner, {of_wanted} ORDER BY w.hash) + \
             coalesce(c.n, 0) AS place \
                 FROM wanted w LEFT JOIN counted c ON c.owner = w.owner AND c.space = {of_wanted} \
                 WHERE NOT EXISTS (SELECT FROM known k WHERE k.owner = w.owner AND k.hash = w.hash)), \
             made AS (INSERT INTO {table} AS t ({owner}, {hash}, {space}{name}, used_day) \
                 SELECT owner, hash, {given}name, $6 FROM fresh WHERE place <= $5 ORDER BY 1, 2 \
                 ON CONFLICT ({unique}) DO UPDATE SET used_day = greatest(t.used_day, excluded.used_day) \
                 RETURNING t.id, t.{owner} AS owner, t.{hash} AS hash) \
             SELECT owner, hash, id FROM known UNION ALL SELECT owner, hash, id FROM made"
        )
    }
}

/// What a key of a kind is made of: global names go by their hash, others by their service as well.
pub(crate) trait Key: Copy + Ord + Hash {
    fn of_row(owner: i32, hash: Digest) -> Self;
    fn name_hash(&self) -> Digest;
}

impl Key for Digest {
    fn of_row(_: i32, hash: Digest) -> Self {
        hash
    }

    fn name_hash(&self) -> Digest {
        *self
    }
}

impl Key for (i32, Digest) {
    fn of_row(owner: i32, hash: Digest) -> Self {
        (owner, hash)
    }

    fn name_hash(&self) -> Digest {
        self.1
    }
}

/// Numbers of one kind, each with the day of use that was noted last.
struct Known<K: Key>(Remembered<K, (i32, i32), MAX_REMEMBERED>);

impl<K: Key> Default for Known<K> {
    fn default() -> Self {
        Self(Remembered::default())
    }
}

/// Numbers of the names asked for, and which of them are counted under "other".
struct Found<K> {
    numbers: HashMap<K, i32>,
    others: BTreeSet<K>,
}

impl<K: Key> Known<K> {
    async fn resolve<'a>(
        &self,
        pool: &PgPool,
        table: &Table,
        wanted: BTreeMap<K, Name<'a>>,
        other: impl Fn(&K, &Name<'a>) -> (K, Name<'static>),
        day: i32,
    ) -> Result<Found<K>, StoreError> {
        let mut found = Found {
            numbers: self.remembered(wanted.keys(), day),
            others: BTreeSet::new(),
        };
        let missing: BTreeMap<K, Name<'a>> = wanted
            .into_iter()
            .filter(|(key, _)| !found.numbers.contains_key(key))
            .collect();
        if missing.is_empty() {
            return Ok(found);
        }
        let made = ask(pool, table, &missing, table.limit, day).await?;
        self.remember(&made, day);
        found.numbers.extend(made);
        let surplus: Vec<(K, (K, Name<'static>))> = missing
            .iter()
            .filter(|(key, _)| !found.numbers.contains_key(key))
            .map(|(key, name)| (*key, other(key, name)))
            .collect();
        if surplus.is_empty() {
            return Ok(found);
        }
        let others: BTreeMap<K, Name<'static>> = surplus.iter().map(|(_, other)| *other).collect();
        let made = ask(pool, table, &others, i64::MAX, day).await?;
        // What is past the limit is not remembered, else this map would grow instead of the table.
        for (key, (other, _)) in surplus {
            found
                .numbers
                .insert(key, *made.get(&other).ok_or(sqlx::Error::RowNotFound)?);
            found.others.insert(key);
        }
        Ok(found)
    }

    fn remembered<'k>(&self, keys: impl Iterator<Item = &'k K>, day: i32) -> HashMap<K, i32>
    where
        K: 'k,
    {
        keys.filter_map(|key| {
            let (number, noted) = self.0.get(key)?;
            (noted >= day).then_some((*key, number))
        })
        .collect()
    }

    fn remember(&self, made: &HashMap<K, i32>, day: i32) {
        self.0.extend(made.iter().map(|(key, number)| (*key, (*number, day))));
    }
}

async fn ask<K: Key>(
    pool: &PgPool,
    table: &Table,
    names: &BTreeMap<K, Name<'_>>,
    limit: i64,
    day: i32,
) -> Result<HashMap<K, i32>, StoreError> {
    let rows: Vec<(i32, Uuid, i32)> = sqlx::query_as(AssertSqlSafe(table.statement()))
        .bind(names.values().map(|name| name.owner).collect::<Vec<_>>())
        .bind(names.keys().map(|key| uuid(key.name_hash())).collect::<Vec<_>>())
        .bind(names.values().map(|name| name.space).collect::<Vec<_>>())
        .bind(names.values().map(|name| name.said).collect::<Vec<_>>())
        .bind(limit)
        .bind(day)
        .fetch_all(pool)
        .await?;
    Ok(rows
        .into_iter()
        .map(|(owner, hash, id)| (K::of_row(owner, Digest(*hash.as_bytes())), id))
        .collect())
}
