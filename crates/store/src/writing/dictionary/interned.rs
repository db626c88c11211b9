//! Resources and stacks, interned by content hash: what repeats is stored once.

use std::collections::BTreeMap;

use outcrop_core::Digest;
use sqlx::PgPool;
use uuid::Uuid;

use crate::ids::uuid;
use crate::{Remembered, StoreError};

/// Hashes remembered; past this each forgotten one costs one look at the database.
const MAX_REMEMBERED: usize = 200_000;

/// Content hashes known to be stored, with the day of use written last.
#[derive(Default)]
pub(crate) struct Interned {
    known: Remembered<Digest, i32, MAX_REMEMBERED>,
}

/// What a batch needs interned.
#[derive(Default)]
pub(crate) struct ToIntern {
    pub resources: BTreeMap<Digest, String>,
    pub stacks: BTreeMap<Digest, Vec<u8>>,
    pub templates: BTreeMap<Digest, String>,
}

impl Interned {
    pub(crate) fn is_known(&self, hash: Digest, day: i32) -> bool {
        self.known.get(&hash).is_some_and(|written| written >= day)
    }

    /// Stores what is not there, in order of the hashes, and notes the day of use. Commits by itself.
    pub(crate) async fn store(&self, pool: &PgPool, wanted: ToIntern, day: i32) -> Result<(), StoreError> {
        let hashes: Vec<Digest> = wanted
            .resources
            .keys()
            .chain(wanted.stacks.keys())
            .chain(wanted.templates.keys())
            .copied()
            .collect();
        if hashes.is_empty() {
            return Ok(());
        }
        if !wanted.resources.is_empty() {
            let (keys, bodies): (Vec<Uuid>, Vec<String>) = wanted
                .resources
                .into_iter()
                .map(|(hash, body)| (uuid(hash), body))
                .unzip();
            sqlx::query(
                "INSERT INTO resource (hash, body, used_day) SELECT hash, body::jsonb, $3 FROM UNNEST($1::uuid[], \
                 $2::text[]) AS new (hash, body) \
                 ORDER BY hash ON CONFLICT (hash) DO UPDATE SET used_day = excluded.used_day WHERE resource.used_day \
                 < excluded.used_day",
            )
            .bind(keys)
            .bind(bodies)
            .bind(day)
            .execute(pool)
            .await?;
        }
        if !wanted.stacks.is_empty() {
            let (keys, bodies): (Vec<Uuid>, Vec<Vec<u8>>) =
                wanted.stacks.into_iter().map(|(hash, body)| (uuid(hash), body)).unzip();
            sqlx::query(
                "INSERT INTO stack (hash, frames, used_day) SELECT hash, frames, $3 FROM UNNEST($1::uuid[], \
                 $2::bytea[]) AS new (hash, frames) \
                 ORDER BY hash ON CONFLICT (hash) DO UPDATE SET used_day = excluded.used_day WHERE stack.used_day < \
                 excluded.used_day",
            )
            .bind(keys)
            .bind(bodies)
            .bind(day)
            .execute(pool)
            .await?;
        }
        if !wanted.templates.is_empty() {
            let (keys, texts): (Vec<Uuid>, Vec<String>) = wanted
                .templates
                .into_iter()
                .map(|(hash, text)| (uuid(hash), text))
                .unzip();
            sqlx::query(
                "INSERT INTO log_template (hash, template, used_day) SELECT hash, template, $3 FROM \
                 UNNEST($1::uuid[], $2::text[]) AS new (hash, template) \
                 ORDER BY hash ON CONFLICT (hash) DO UPDATE SET used_day = excluded.used_day WHERE \
                 log_template.used_day < excluded.used_day",
            )
            .bind(keys)
            .bind(texts)
            .bind(day)
            .execute(pool)
            .await?;
        }
        self.known.extend(hashes.into_iter().map(|hash| (hash, day)));
        Ok(())
    }
}
