//! The batch writer: many requests, one transaction, exact counts.

use std::collections::BTreeMap;
use std::panic::AssertUnwindSafe;
use std::sync::{Arc, Mutex};

use futures_util::FutureExt;
use outcrop_core::Timestamp;
use outcrop_core::completeness::Limit;
use sqlx::{Acquire, PgConnection};

use super::batch::Prepared;
use super::bodies::BODIES_PER_MINUTE;
use super::counters::{sample, sampling, tallies, uses};
use super::receipts::receipts;
use super::submission::{Outcome, Renderer, Submission};
use super::work::Work;
use super::{apply, batch, bodies, lines, points, spans, states};
use crate::boxed;
use crate::database::partitions::Partitions;
use crate::times::day_number;
use crate::upkeep::space::Full;
use crate::writing::dictionary::causes::Causes;
use crate::writing::dictionary::interned::Interned;
use crate::writing::dictionary::names::Names;
use crate::{Database, StoreError, to_utc};

/// Writes batches. Several may write at the same time, also in other processes on the same database.
pub struct Writer {
    database: Database,
    render: Renderer,
    names: Names,
    series: points::KnownSeries,
    causes: Causes,
    interned: Interned,
    partitions: Arc<Partitions>,
    bodies: bodies::Bodies,
    /// Whether any span that was sampled has come.
    sampled: std::sync::atomic::AtomicBool,
    thinning: sample::Thinning,
    watch: spans::Watch,
    templates: lines::Templates,
    /// Days for which log lines are kept.
    log_days: i64,
    /// What has no room for now.
    full: Mutex<Full>,
    /// The hot tables known to be there.
    hot: Mutex<std::collections::BTreeSet<chrono::DateTime<chrono::Utc>>>,
    /// Deployed versions as written last: (first event, last event) in milliseconds.
    deployed: tallies::Deployed,
}

/// Tries of a batch that another transaction stood in the way of.
const MAX_TRIES: usize = 5;

impl Writer {
    /// Makes a writer on a database.
    #[must_use]
    pub fn new(database: Database, render: Renderer) -> Self {
        Self {
            database,
            render,
            names: Names::default(),
            series: points::KnownSeries::default(),
            causes: Causes::default(),
            interned: Interned::default(),
            partitions: Arc::default(),
            bodies: bodies::Bodies::new(BODIES_PER_MINUTE),
            sampled: std::sync::atomic::AtomicBool::default(),
            thinning: sample::Thinning::default(),
            watch: spans::Watch::default(),
            templates: lines::Templates::default(),
            log_days: crate::retention::LOG_DAYS,
            full: Mutex::default(),
            hot: Mutex::default(),
            deployed: Mutex::default(),
        }
    }

    /// Keeps log lines for another number of days: older ones are not stored.
    #[must_use]
    pub fn keeping_logs(self, days: i64) -> Self {
        Self { log_days: days, ..self }
    }

    /// Keeps the exact data of another number of occurrences per error, version and minute before it is sampled.
    #[must_use]
    pub fn keeping_bodies(self, per_minute: u32) -> Self {
        Self {
            bodies: bodies::Bodies::new(per_minute),
            ..self
        }
    }

    /// Reads anew what close-ups may take, so that nothing of it is sampled.
    ///
    /// # Errors
    /// [`StoreError`] when the database does not answer; what was read last holds on.
    #[boxed]
    pub async fn read_close_ups(&self) -> Result<(), StoreError> {
        self.bodies.watch(crate::close_ups::watched(&self.database).await?);
        Ok(())
    }

    /// Says of what nothing more is kept for now.
    pub fn set_full(&self, full: Full) {
        *self.full.lock().unwrap_or_else(std::sync::PoisonError::into_inner) = full;
    }

    /// Of what nothing more is kept for now.
    pub fn full(&self) -> Full {
        *self.full.lock().unwrap_or_else(std::sync::PoisonError::into_inner)
    }

    /// Makes today's and tomorrow's partitions, ahead of the first request that needs them.
    ///
    /// # Errors
    /// [`StoreError`] when the database refuses.
    #[boxed]
    pub async fn prepare(&self, now: Timestamp) -> Result<(), StoreError> {
        self.partitions
            .ensure(
                &self.database.writing,
                &crate::database::partitions::days_ahead(to_utc(now)),
                now.day(),
            )
            .await?;
        spans::make_tables(&self.database.writing, spans::slots_ahead(now), &self.hot).await?;
        Ok(())
    }

    /// Reads anew from when on requests are slow.
    ///
    /// # Errors
    /// [`StoreError`] when the database does not answer; what was read last holds on.
    #[boxed]
    pub async fn read_thresholds(&self) -> Result<(), StoreError> {
        let slow = crate::traffic::thresholds(&self.database).await?;
        *self
            .watch
            .slow
            .lock()
            .unwrap_or_else(std::sync::PoisonError::into_inner) = slow;
        Ok(())
    }

    /// Stops counting on partitions that upkeep has removed.
    pub fn forget_days_before(&self, oldest: Timestamp) {
        self.partitions.forget_before(oldest.day());
    }

    /// Commits the batch; on return every request of it is durable or named unusable. `outcomes[i]` belongs to
    /// `batch[i]`. A request that the database refuses, that takes too long or that makes the
    /// writer panic never fails its neighbours: the batch is halved until it is found.
    ///
    /// # Errors
    /// [`StoreError::Away`] and others that are not the data's fault: nothing is known to be
    /// stored, and all may be sent again, since receipts tell what was.
    #[boxed]
    pub async fn write(&self, batch: &[Submission]) -> Result<Vec<Outcome>, StoreError> {
        let mut outcomes: Vec<Option<Outcome>> = vec![None; batch.len()];
        let mut parts = vec![(0, batch.len())];
        while let Some((from, to)) = parts.pop() {
            let written = AssertUnwindSafe(self.write_repeating(&batch[from..to]))
                .catch_unwind()
                .await;
            let written = written.unwrap_or_else(|panic| {
                self.bodies.forget();
                Err(StoreError::Unusable(said_in_panic(&*panic)))
            });
            match written {
                Ok(done) => {
                    for (slot, outcome) in outcomes[from..to].iter_mut().zip(done) {
                        *slot = Some(outcome);
                    }
                }
                Err(error @ (StoreError::Data(_) | StoreError::Unusable(_))) if to - from == 1 => {
                    tracing::error!(%error, "a request cannot be stored; its sender is told so");
                    outcomes[from] = Some(Outcome::Unusable("the data cannot be stored".to_owned()));
                }
                Err(StoreError::Data(_) | StoreError::Unusable(_) | StoreError::TooLong(_)) if to - from > 1 => {
                    let middle = from.midpoint(to);
                    parts.extend([(middle, to), (from, middle)]);
                }
                Err(other) => return Err(other),
            }
        }
        Ok(outcomes.into_iter().flatten().collect())
    }

    async fn write_repeating(&self, batch: &[Submission]) -> Result<Vec<Outcome>, StoreError> {
        let mut tries = 0;
        loop {
            tries += 1;
            let outcome = self.write_once(batch).await;
            if outcome.is_err() {
                self.bodies.forget();
            }
            match outcome {
                Err(StoreError::Repeat(error)) if tries < MAX_TRIES => {
                    tracing::debug!(%error, tries, "a batch is repeated");
                }
                outcome => return outcome,
            }
        }
    }

    /// One transaction. Tables are taken in one fixed order and keys sorted within each, so that writers never wait for
    /// each other in a circle.
    async fn write_once(&self, batch: &[Submission]) -> Result<Vec<Outcome>, StoreError> {
        let (mut prepared, lines) = self.prepare_batch(batch).await?;
        let day = day_number(prepared.received());
        let (called, reached) = self
            .names
            .called(&self.database.writing, &uses::called(&prepared), day)
            .await?;
        prepared.reached.extend(reached);
        let (series, reached) = self.series.resolve(&self.database.writing, &prepared, day).await?;
        prepared.reached.extend(reached);
        let mut connection = self.database.writing.acquire().await?;
        let mut transaction = connection.begin().await?;
        let (fresh, outcomes) = receipts(&mut transaction, batch).await?;
        let mut work = Work::default();
        states::decide(&mut transaction, &prepared, &fresh, &mut work).await?;
        apply::store(&mut transaction, &mut work, self.payloads(), &self.sampled).await?;
        let deployed = tallies::store(&mut transaction, &work, &self.deployed).await?;
        clocks(&mut transaction, &prepared, &fresh).await?;
        sampling::store(&mut transaction, &work, &prepared, &fresh).await?;
        sample::store(&mut transaction, &work, &self.thinning).await?;
        let kept = spans::requests(&mut transaction, &work, &self.watch).await?;
        spans::statuses(&mut transaction, &work, &kept).await?;
        spans::latencies(&mut transaction, &work).await?;
        spans::groups(&mut transaction, &work).await?;
        spans::origins_due(&mut transaction, &work).await?;
        spans::chunks(&mut transaction, &prepared, &fresh, &self.watch).await?;
        lines::store(&mut transaction, &lines, &fresh).await?;
        points::write(&mut transaction, &prepared, &fresh, &series).await?;
        uses::calls(&mut transaction, &prepared, &fresh, &called).await?;
        uses::instances(&mut transaction, &prepared, &fresh, &mut work.reached).await?;
        uses::platform_events(&mut transaction, &prepared, &fresh).await?;
        if fresh.contains(&true) {
            work.reached.extend(std::mem::take(&mut prepared.reached));
            work.reached.store(&mut transaction, prepared.received()).await?;
        }
        transaction.commit().await?;
        self.deployed
            .lock()
            .unwrap_or_else(std::sync::PoisonError::into_inner)
            .extend(deployed);
        Ok(outcomes)
    }

    fn payloads(&self) -> apply::Payloads<'_> {
        apply::Payloads {
            bodies: &self.bodies,
            render: self.render,
            is_full: self.full().bodies,
        }
    }

    /// Everything that commits by itself before the batch's own transaction: names, causes, interned rows, partitions.
    async fn prepare_batch<'a>(
        &self,
        batch: &'a [Submission],
    ) -> Result<(Prepared<'a>, Vec<lines::Line<'a>>), StoreError> {
        let pool = &self.database.writing;
        let received = batch
            .iter()
            .map(|submission| submission.received)
            .max()
            .unwrap_or_default();
        let today = day_number(received);
        let numbers = self.names.resolve(pool, &batch::names(batch), today).await?;
        let (causes, reached) = self.causes.resolve(pool, &batch::causes(batch, &numbers)).await?;
        let mut prepared = Prepared::new(batch, numbers, &causes);
        prepared.reached.extend(reached);
        let (mut lines, templates, reached) = lines::number(&prepared, &self.templates, self.log_days);
        if self.full().log_lines {
            for line in std::mem::take(&mut lines) {
                prepared.reached.add(line.service(), Limit::LogLines, 1);
            }
        }
        prepared.reached.extend(reached);
        prepared.intern_templates(templates);
        let to_intern = prepared.take_to_intern(|hash| self.interned.is_known(hash, today));
        self.interned.store(pool, to_intern, today).await?;
        self.partitions.ensure(pool, &prepared.days(), received.day()).await?;
        if batch.iter().any(|submission| !submission.found.chunks.is_empty()) {
            spans::make_tables(
                pool,
                spans::slots(batch.iter().map(|submission| submission.received)),
                &self.hot,
            )
            .await?;
        }
        Ok((prepared, lines))
    }
}

/// What a panic said.
fn said_in_panic(panic: &(dyn std::any::Any + Send)) -> String {
    let text = panic
        .downcast_ref::<&str>()
        .copied()
        .or_else(|| panic.downcast_ref::<String>().map(String::as_str));
    format!("the writer panicked: {}", text.unwrap_or("without a word"))
}

/// Notes whose clocks are ahead, so that it can be said on the service's line.
async fn clocks(connection: &mut PgConnection, prepared: &Prepared<'_>, fresh: &[bool]) -> Result<(), StoreError> {
    let fresh = prepared.submissions.iter().zip(fresh).filter(|(_, fresh)| **fresh);
    let clocks = fresh.flat_map(|(submission, _)| &submission.found.clocks_ahead);
    let ahead: BTreeMap<i32, i64> = clocks
        .map(|(identity, ms)| (prepared.sender(identity).service, *ms))
        .collect();
    if ahead.is_empty() {
        return Ok(());
    }
    let (services, millis): (Vec<i32>, Vec<i64>) = ahead.into_iter().unzip();
    sqlx::query(
        "INSERT INTO clock_ahead (service_id, ms, at) SELECT service, ms, now() FROM UNNEST($1::int[], $2::bigint[]) \
         AS new (service, ms) ORDER BY 1 \
         ON CONFLICT (service_id) DO UPDATE SET ms = excluded.ms, at = excluded.at",
    )
    .bind(services)
    .bind(millis)
    .execute(connection)
    .await?;
    Ok(())
}
