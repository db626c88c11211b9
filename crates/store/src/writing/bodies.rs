//! The exact data sent: kept of every occurrence while there are few, sampled once there are many, and always of the
//! first, the latest and the fullest of each version.

use std::collections::BTreeMap;
use std::sync::{PoisonError, RwLock};

use outcrop_core::Timestamp;
use outcrop_core::failure::OccurrenceId;
use sqlx::PgConnection;

use super::batch::Numbered;
use crate::Remembered;
use crate::StoreError;
use crate::close_ups::Watched;
use crate::ids::id_uuid;

/// Occurrences of one cause and version in a minute whose exact data is kept before sampling
/// begins, where nothing else is said.
pub const BODIES_PER_MINUTE: u32 = 20;
/// Past that, one in so many is kept.
const KEPT_ONE_IN: u32 = 50;
/// Of a cause and version that a close-up may take, so many of a minute are all kept: ten times as many as one takes.
const WATCHED_PER_MINUTE: u32 = 10 * outcrop_core::close_up::MOST;
/// Minutes counted, and causes remembered, at once; forgotten all together past this.
const MAX_REMEMBERED: usize = 50_000;

/// Which occurrence of a cause in a version is kept though sampling left it out.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
enum Which {
    First,
    Latest,
    Fullest,
}

impl Which {
    const fn word(self) -> &'static str {
        match self {
            Self::First => "first",
            Self::Latest => "latest",
            Self::Fullest => "fullest",
        }
    }
}

type Of = (i64, i32);

/// What is known of a cause in a version, so that the database is asked only where something may change.
#[derive(Clone, Copy)]
struct Known {
    first: OccurrenceId,
    fullest: u32,
}

impl Known {
    /// What is known once one more occurrence is kept.
    fn with(known: Option<Self>, id: OccurrenceId, fullness: u32) -> Self {
        known.map_or(
            Self {
                first: id,
                fullest: fullness,
            },
            |known| Self {
                first: known.first.min(id),
                fullest: known.fullest.max(fullness),
            },
        )
    }
}

/// Decides by what this process has seen alone: two instances keep twice as many.
pub(super) struct Bodies {
    per_minute: u32,
    counts: Remembered<(i64, i32, i64), u32, MAX_REMEMBERED>,
    known: Remembered<Of, Option<Known>, MAX_REMEMBERED>,
    watched: RwLock<Watched>,
}

impl Bodies {
    pub(super) fn new(per_minute: u32) -> Self {
        Self {
            per_minute,
            counts: Remembered::default(),
            known: Remembered::default(),
            watched: RwLock::default(),
        }
    }

    /// Says what close-ups may take: of that nothing is sampled.
    pub(super) fn watch(&self, watched: Watched) {
        *self.watched.write().unwrap_or_else(PoisonError::into_inner) = watched;
    }

    /// Whether to keep the exact data of one more occurrence of a service.
    pub(super) fn takes(&self, service: i32, (cause, version): Of, at: Timestamp) -> bool {
        let of_minute = (cause, version, at.minute().millis());
        let count = self.counts.change(of_minute, u32::default, |count| {
            *count = count.saturating_add(1);
            *count
        });
        let is_watched = || self.watched.read().unwrap_or_else(PoisonError::into_inner).has(service);
        count <= self.per_minute || count.is_multiple_of(KEPT_ONE_IN) || count <= WATCHED_PER_MINUTE && is_watched()
    }

    /// Forgets what was to be kept: a batch was not committed.
    pub(super) fn forget(&self) {
        self.known.forget();
    }

    /// What of a batch must be kept though sampling left it out.
    fn wanted<'w, 'a>(&self, left_out: &'w [&'w Numbered<'a>]) -> BTreeMap<(Of, Which), &'w Numbered<'a>> {
        let mut wanted: BTreeMap<(Of, Which), &Numbered<'_>> = BTreeMap::new();
        for numbered in left_out {
            let of = (numbered.cause, numbered.sender.version);
            let (id, fullness) = (numbered.report.facts.id, numbered.report.fullness());
            let before = self
                .known
                .change(of, || None, |known| known.replace(Known::with(*known, id, fullness)));
            if before.is_none_or(|known| id < known.first) {
                wanted.insert((of, Which::First), numbered);
            }
            if before.is_none_or(|known| fullness > known.fullest) {
                wanted.insert((of, Which::Fullest), numbered);
            }
            let latest = wanted.entry((of, Which::Latest)).or_insert(numbered);
            if latest.report.facts.id < id {
                *latest = numbered;
            }
        }
        wanted
    }

    /// Notes what is kept by sampling, so that only something earlier or fuller is kept beside it.
    fn note(&self, kept: &[&Numbered<'_>]) {
        for numbered in kept {
            let of = (numbered.cause, numbered.sender.version);
            let (id, fullness) = (numbered.report.facts.id, numbered.report.fullness());
            self.known
                .change(of, || None, |known| *known = Some(Known::with(*known, id, fullness)));
        }
    }

    /// Keeps the first, latest and fullest of what sampling left out. `pack` renders and compresses.
    pub(super) async fn store(
        &self,
        connection: &mut PgConnection,
        kept: &[&Numbered<'_>],
        left_out: &[&Numbered<'_>],
        pack: impl Fn(&Numbered<'_>) -> Result<Vec<u8>, StoreError>,
    ) -> Result<(), StoreError> {
        self.note(kept);
        let wanted = self.wanted(left_out);
        if wanted.is_empty() {
            return Ok(());
        }
        let bodies = wanted
            .values()
            .map(|numbered| pack(numbered))
            .collect::<Result<Vec<_>, _>>()?;
        sqlx::query(
            "INSERT INTO kept_body AS k (cause_id, version_id, which, occurrence_id, fullness, body) \
             SELECT * FROM UNNEST($1::bigint[], $2::int[], $3::text[], $4::uuid[], $5::int[], $6::bytea[]) AS new (a, \
             b, c, d, e, f) ORDER BY 1, 2, 3 \
             ON CONFLICT (cause_id, version_id, which) DO UPDATE SET occurrence_id = excluded.occurrence_id, fullness \
             = excluded.fullness, body = excluded.body \
             WHERE CASE k.which WHEN 'first' THEN excluded.occurrence_id < k.occurrence_id WHEN 'latest' THEN \
             excluded.occurrence_id > k.occurrence_id \
                 ELSE excluded.fullness > k.fullness END",
        )
        .bind(wanted.keys().map(|(of, _)| of.0).collect::<Vec<_>>())
        .bind(wanted.keys().map(|(of, _)| of.1).collect::<Vec<_>>())
        .bind(wanted.keys().map(|(_, which)| which.word()).collect::<Vec<_>>())
        .bind(
            wanted
                .values()
                .map(|numbered| id_uuid(numbered.report.facts.id))
                .collect::<Vec<_>>(),
        )
        .bind(
            wanted
                .values()
                .map(|numbered| i32::try_from(numbered.report.fullness()).unwrap_or(i32::MAX))
                .collect::<Vec<_>>(),
        )
        .bind(bodies)
        .execute(connection)
        .await?;
        Ok(())
    }
}
