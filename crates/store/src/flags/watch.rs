//! Tells the detector what happened, minute by minute, and keeps what it says.

use std::collections::{BTreeMap, HashMap};

use chrono::{DateTime, DurationRound, TimeDelta, Utc};
use outcrop_core::deploy::{Detector, FlagKind, FlagLine, Minute, Said, corrected};

use super::events::{EVENTS, Row, time};
use super::write::{SaidRow, write};
use crate::boxed;
use crate::database::locks::Lock;
use crate::deployed::DEPLOYS;
use crate::flags::disturbed;
use crate::flags::events::OPEN;
use crate::{Database, StoreError};

/// Events told without letting other work in.
const AT_A_TIME: usize = 500;

/// Days of the past that the detector is told when it starts: what it remembers, and a day to learn.
const REPLAYED_DAYS: i64 = 8;

/// Minutes of what it is told after which it knows which errors there are, and how often each occurs.
const KNOWN_ERRORS: Minute = 1_440;

const KNOWN_SURGES: Minute = 4 * 1_440;

/// How long after its end a minute is taken for whole: requests arrive later than errors.
const CLOSED_AFTER_SECS: i64 = 60;

/// Minutes that are read at once where the past is told: six hours, so that eight days never lie in memory together.
const TOLD_AT_ONCE: Minute = 360;

/// Minutes between two looks at whether something came late, at first and at most; doubled each
/// time that something had.
const LOOK_EVERY: (Minute, Minute) = (1, 60);

/// How many minutes to wait for the next look.
pub(super) fn next_look(last: Minute, is_late: bool) -> Minute {
    if is_late {
        (last * 2).clamp(LOOK_EVERY.0, LOOK_EVERY.1)
    } else {
        LOOK_EVERY.0
    }
}

/// The detector on live data: told the past when it starts, then each minute once it is whole.
#[derive(Default)]
pub struct Watch {
    detector: Detector,
    /// The first minute that it was not told.
    pub(super) next: Option<Minute>,
    /// When it was told the past: a day later it is told anew, so that it never holds more than it looks at.
    pub(super) begun: Minute,
    /// How many times people had settled or opened errors, or announced deploys, by then.
    states: i64,
    /// Requests and occurrences that it was told, by the hour: what comes later shows in the difference.
    told: BTreeMap<DateTime<Utc>, (i64, i64)>,
    /// Whether it is told the past anew since some of it came late.
    is_corrected: bool,
    /// The minute from which on it looks again whether something came late, and how many minutes
    /// lie between two looks: a sender whose data is always late must not have eight days told anew
    /// every few seconds.
    look_again: Minute,
    look_every: Minute,
    /// Flags that a past told anew says at another minute than they were said at: error,
    /// environment and that minute, with what tells the flag apart.
    elsewhere: HashMap<(String, String, Minute), i64>,
    /// The disturbed times that are written down.
    disturbed: Option<Vec<disturbed::Known>>,
}

impl Watch {
    /// Tells the detector what is whole by now, and writes down what it says. Returns how many
    /// flags were new. Does nothing while another instance is at it; that one's work is told to
    /// this detector when it takes over.
    ///
    /// # Errors
    /// [`StoreError`] when the database does not answer; the detector then starts anew.
    #[boxed]
    pub async fn round(&mut self, database: &Database, now: DateTime<Utc>) -> Result<u64, StoreError> {
        let mut transaction = database.pool.begin().await?;
        let is_ours = Lock::Flags.try_take(&mut transaction).await?;
        if !is_ours {
            *self = Self::default();
            return Ok(0);
        }
        let whole = (now.timestamp() - CLOSED_AFTER_SECS).div_euclid(60);
        if let Some(next) = self.next {
            let is_late = whole >= self.look_again && self.has_late(&mut transaction, next).await?;
            if whole >= self.look_again {
                self.look_every = next_look(self.look_every, is_late);
                self.look_again = whole + self.look_every;
            }
            if is_late || whole - self.begun > 1_440 || states_before(&mut transaction, next).await? != self.states {
                tracing::debug!(
                    "flags are worked out anew: a day has passed, or requests or errors of past hours came late"
                );
                *self = Self {
                    is_corrected: is_late,
                    look_again: self.look_again,
                    look_every: self.look_every,
                    ..Self::default()
                };
            }
        }
        let from = if let Some(next) = self.next {
            next
        } else {
            self.begun = whole;
            let from = whole - REPLAYED_DAYS * 1_440;
            self.detector = Detector::default();
            self.states = states_before(&mut transaction, whole).await?;
            let known: Vec<(i32, i32, i32)> = sqlx::query_as(
                "SELECT DISTINCT cause.service_id, sighted.environment_id, cause.error_id FROM sighted JOIN cause \
                     ON cause.id = sighted.cause_id \
                     WHERE sighted.first_at < $1",
            )
            .bind(time(from))
            .fetch_all(&mut *transaction)
            .await?;
            for (service, environment, error) in known {
                self.detector
                    .know(&service.to_string(), &environment.to_string(), &error.to_string());
            }
            let settled: Vec<Row> = sqlx::query_as(
                "SELECT 3 AS kind, date_trunc('minute', h.settled_at) AS at, e.service_id AS service, 0 AS \
                 environment, h.settled_in AS version, \
                     h.error_id AS error, 1::bigint AS n, NULL::real AS share FROM handling h JOIN error_group e ON \
                     e.id = h.error_id WHERE h.settled_at < $1 AND h.settled_in IS NOT NULL",
            )
            .bind(time(from))
            .fetch_all(&mut *transaction)
            .await?;
            for row in settled {
                drop(self.detector.push(&row.event()));
            }
            from
        };
        if from >= whole {
            let said = self.foretell(&mut transaction, whole).await?;
            transaction.commit().await?;
            return Ok(said);
        }
        self.states = states_before(&mut transaction, whole).await?;
        // Until it went well, a failure begins anew.
        self.next = None;
        let mut flags: Vec<FlagLine> = vec![];
        let mut part = from;
        while part < whole {
            let until = whole.min(part + TOLD_AT_ONCE);
            let rows: Vec<Row> = sqlx::query_as(sqlx::AssertSqlSafe(EVENTS.replace("DEPLOYS", DEPLOYS)))
                .bind(time(part))
                .bind(time(until))
                .fetch_all(&mut *transaction)
                .await?;
            for (number, row) in rows.into_iter().enumerate() {
                // Weeks told anew are minutes of work: others must come in between.
                if number % AT_A_TIME == 0 {
                    tokio::task::yield_now().await;
                }
                let hour = row.at.duration_trunc(TimeDelta::hours(1)).unwrap_or(row.at);
                let sums = self.told.entry(hour).or_default();
                match row.kind {
                    1 => sums.0 += row.n,
                    2 => sums.1 += row.n,
                    _ => {}
                }
                flags.extend(self.detector.push(&row.event()));
            }
            part = until;
        }
        flags.extend(self.detector.finish_until(whole));
        if self.begun == whole {
            flags = self.correct(&mut transaction, flags, (from, whole)).await?;
        }
        let said = write(&mut transaction, &flags).await? + self.foretell(&mut transaction, whole).await?;
        self.end(&mut transaction).await?;
        self.disturb(&mut transaction, whole).await?;
        transaction.commit().await?;
        self.next = Some(whole);
        Ok(said)
    }
}

impl Watch {
    /// Holds what is said of a past that was told anew against what was said of it before: returns
    /// what was not said yet. What is not said any more is taken back, where some of the past came
    /// late, and it is told so much of what was before that its rates are known as they were.
    pub(super) async fn correct(
        &mut self,
        connection: &mut sqlx::PgConnection,
        flags: Vec<FlagLine>,
        (from, until): (Minute, Minute),
    ) -> Result<Vec<FlagLine>, StoreError> {
        let rows: Vec<SaidRow> = sqlx::query_as(
            "SELECT id, error_id, environment_id, kind, version, since, said_at FROM flag \
             WHERE withdrawn_at IS NULL AND said_at >= $1 AND said_at < $2 ORDER BY id",
        )
        .bind(time(from))
        .bind(time(until))
        .fetch_all(&mut *connection)
        .await?;
        let before: Vec<Said> = rows.into_iter().map(SaidRow::said).collect();
        let corrected = corrected(&before, &flags);
        self.elsewhere = (corrected.same.iter())
            .filter_map(|(place, id)| {
                flags
                    .get(*place)
                    .map(|flag| ((flag.group.clone(), flag.environment.clone(), flag.at), *id))
            })
            .collect();
        if self.is_corrected {
            let is_known = |said: &&Said| {
                said.at
                    >= from
                        + if said.flag == FlagKind::Surging {
                            KNOWN_SURGES
                        } else {
                            KNOWN_ERRORS
                        }
            };
            let withdrawn: Vec<i64> = before
                .iter()
                .filter(is_known)
                .map(|said| said.id)
                .filter(|id| corrected.withdrawn.contains(id))
                .collect();
            sqlx::query("UPDATE flag SET withdrawn_at = now() WHERE id = ANY($1)")
                .bind(&withdrawn)
                .execute(connection)
                .await?;
            if !withdrawn.is_empty() {
                tracing::info!(
                    flags = withdrawn.len(),
                    "flags are taken back: data that came late showed that they were none"
                );
            }
        }
        let began_earlier = corrected.same.iter().filter_map(|(place, id)| {
            let flag = flags.get(*place).filter(|flag| flag.flag == FlagKind::New)?;
            let said = before.iter().find(|said| said.id == *id)?;
            (flag.at < said.at).then_some(*place)
        });
        let to_write: Vec<usize> = corrected.fresh.iter().copied().chain(began_earlier).collect();
        let mut flags: Vec<Option<FlagLine>> = flags.into_iter().map(Some).collect();
        Ok(to_write
            .iter()
            .filter_map(|place| flags.get_mut(*place).and_then(Option::take))
            .collect())
    }

    /// Says at once which errors of the minutes that are not whole yet are new or back.
    pub(super) async fn foretell(&self, connection: &mut sqlx::PgConnection, whole: Minute) -> Result<u64, StoreError> {
        let rows: Vec<Row> = sqlx::query_as(sqlx::AssertSqlSafe(format!(
            "{OPEN} ORDER BY minute, cause.error_id, version.label"
        )))
        .bind(time(whole))
        .fetch_all(&mut *connection)
        .await?;
        let mut said: Vec<FlagLine> = vec![];
        for flag in rows.into_iter().filter_map(|row| self.detector.foretell(&row.event())) {
            if !said
                .iter()
                .any(|other| other.group == flag.group && other.environment == flag.environment)
            {
                said.push(flag);
            }
        }
        write(connection, &said).await
    }

    /// Writes down in which times of the last day what services report could not be taken as it
    /// was, where more is known of them.
    pub(super) async fn disturb(
        &mut self,
        connection: &mut sqlx::PgConnection,
        whole: Minute,
    ) -> Result<(), StoreError> {
        let known = self
            .detector
            .disturbed()
            .filter(|(_, _, of)| of.until.is_none_or(|until| whole - until <= 1_440));
        let number = |name: &str| name.parse::<i32>().unwrap_or_default();
        let known: Vec<disturbed::Known> = known
            .map(|(service, environment, of)| (number(service), number(environment), of))
            .collect();
        if self.disturbed.as_ref() != Some(&known) {
            disturbed::write(connection, &known).await?;
            self.disturbed = Some(known);
        }
        Ok(())
    }

    /// Writes down which surges are over.
    pub(super) async fn end(&mut self, connection: &mut sqlx::PgConnection) -> Result<(), StoreError> {
        for ended in self.detector.take_ends() {
            let id = self
                .elsewhere
                .get(&(ended.group.clone(), ended.environment.clone(), ended.said));
            sqlx::query(
                "UPDATE flag SET ended_at = $4 WHERE ended_at IS NULL AND kind = 'surging' \
                 AND (id = $5 OR $5 IS NULL AND error_id = $1 AND environment_id = $2 AND said_at = $3)",
            )
            .bind(ended.group.parse::<i32>().unwrap_or_default())
            .bind(ended.environment.parse::<i32>().unwrap_or_default())
            .bind(time(ended.said))
            .bind(time(ended.at))
            .bind(id)
            .execute(&mut *connection)
            .await?;
        }
        Ok(())
    }

    /// Whether whole hours that the detector was told hold something else by now. Hours about to
    /// leave what is replayed are not looked at.
    pub(super) async fn has_late(&self, connection: &mut sqlx::PgConnection, next: Minute) -> Result<bool, StoreError> {
        let hour = |at: DateTime<Utc>| at.duration_trunc(TimeDelta::hours(1)).unwrap_or(at);
        let (from, to) = (hour(time(next - (REPLAYED_DAYS - 1) * 1_440)), hour(time(next)));
        let rows: Vec<(DateTime<Utc>, i64, i64)> = sqlx::query_as(
            "SELECT hour, sum(requests)::bigint, sum(errors)::bigint FROM (\
                 SELECT hour, requests, 0::bigint AS errors FROM served_hour WHERE hour >= $1 AND hour < $2 \
                 UNION ALL SELECT hour, 0, n FROM tally_hour WHERE hour >= $1 AND hour < $2) sums GROUP BY hour",
        )
        .bind(from)
        .bind(to)
        .fetch_all(connection)
        .await?;
        Ok(rows
            .into_iter()
            .any(|(hour, requests, errors)| self.told.get(&hour).copied().unwrap_or_default() != (requests, errors)))
    }
}

/// How many times people settled or opened errors before a minute, and how many deploys they announced.
async fn states_before(connection: &mut sqlx::PgConnection, minute: Minute) -> Result<i64, StoreError> {
    let (count,): (i64,) = sqlx::query_as(
        "SELECT (SELECT count(*) FROM handling_change WHERE verb IN ('settle', \
        'reopen') AND at < $1) + (SELECT count(*) FROM deploy WHERE at < $1)",
    )
    .bind(time(minute))
    .fetch_one(connection)
    .await?;
    Ok(count)
}
