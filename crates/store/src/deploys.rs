//! Deploys, and what was said after them.

use std::collections::{BTreeMap, HashMap};

use chrono::{DateTime, DurationRound, TimeDelta, Utc};
use outcrop_core::deploy::{Detector, Event, FlagKind, FlagLine, Minute, Said, corrected};
use sqlx::FromRow;

use crate::{Database, StoreError, disturbed};

/// Days of the past that the detector is told when it starts: what it remembers, and a day to learn.
const REPLAYED_DAYS: i64 = 8;
/// Minutes of what it is told after which it knows which errors there are, and how often each occurs.
const KNOWN_ERRORS: Minute = 1_440;
const KNOWN_SURGES: Minute = 4 * 1_440;
/// How long after its end a minute is taken for whole: requests arrive later than errors.
const CLOSED_AFTER_SECS: i64 = 60;

/// A deploy to record.
#[derive(Clone, Debug)]
pub struct NewDeploy {
    /// The service.
    pub service: String,
    /// The environment.
    pub environment: String,
    /// The version.
    pub version: String,
    /// When it began.
    pub at: DateTime<Utc>,
    /// When it was over, or a canary ended.
    pub ended_at: Option<DateTime<Utc>>,
    /// The share of the traffic that a canary takes, 0 to 1.
    pub share: Option<f32>,
    /// The instance group that it goes to.
    pub instance_group: Option<String>,
    /// The commit.
    pub revision: String,
    /// The pipeline's page.
    pub link: String,
    /// Who recorded it.
    pub by: String,
}

/// Records a deploy; of the same version at the same time, what is said last holds.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
pub async fn record(database: &Database, deploy: &NewDeploy) -> Result<(), StoreError> {
    let known = crate::service_names::named(database, &deploy.service).await?;
    let (namespace, service) = known.map_or_else(
        || (String::new(), deploy.service.clone()),
        |service| (service.namespace, service.name),
    );
    let identity = outcrop_core::telemetry::names::Identity {
        namespace,
        service,
        environment: deploy.environment.clone(),
        version: deploy.version.clone(),
    };
    let names = crate::names::Names::default();
    let wanted = [(&identity, (0, std::collections::BTreeSet::new()))].into();
    let numbers = names
        .resolve(
            &database.writing,
            &wanted,
            crate::times::day_number(crate::from_utc(Utc::now())),
        )
        .await?;
    let sender = numbers.senders[&identity];
    sqlx::query(
        "INSERT INTO deploy (service_id, environment_id, version_id, at, ended_at, share, revision, link, by, \
         instance_group) \
         VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10) \
         ON CONFLICT (service_id, environment_id, version_id, at) DO UPDATE SET ended_at = excluded.ended_at, share = \
         excluded.share, \
             instance_group = excluded.instance_group, revision = excluded.revision, link = excluded.link, by = \
             excluded.by",
    )
    .bind(sender.service)
    .bind(sender.environment)
    .bind(sender.version)
    .bind(deploy.at)
    .bind(deploy.ended_at)
    .bind(deploy.share)
    .bind(&deploy.revision)
    .bind(&deploy.link)
    .bind(&deploy.by)
    .bind(&deploy.instance_group)
    .execute(&database.pool)
    .await?;
    Ok(())
}

/// A deploy, announced or seen.
#[derive(Clone, Debug, FromRow)]
pub struct Deploy {
    /// The service's number.
    pub service_id: i32,
    /// The service.
    pub service: String,
    /// The environment's number.
    pub environment_id: i32,
    /// The environment.
    pub environment: String,
    /// The version.
    pub version: String,
    /// When it began: as announced, else its first telemetry.
    pub at: DateTime<Utc>,
    /// When it was over, if that was announced.
    pub ended_at: Option<DateTime<Utc>>,
    /// The share of the traffic of a canary.
    pub share: Option<f32>,
    /// The instance group that it went to.
    pub instance_group: Option<String>,
    /// Whether it was announced; else seen from its first telemetry.
    pub announced: bool,
    /// Whether the version had run there before and another came between.
    pub rollback: bool,
    /// The commit.
    pub revision: String,
    /// The pipeline's page.
    pub link: String,
    /// Who recorded it.
    pub by: String,
    /// Its latest telemetry.
    pub last_event_at: Option<DateTime<Utc>>,
}

/// An announced deploy within an hour of a version's first telemetry is the same one, and began
/// with the earlier of them. The first version of a service in an environment was there before: it
/// is none.
const DEPLOYS: &str = "WITH seen AS (\
         SELECT service_id, environment_id, version_id, first_event_at, last_event_at, \
             rank() OVER (PARTITION BY service_id, environment_id ORDER BY first_event_at) AS place FROM deployed) \
     SELECT all_of.service_id, service.display_name AS service, all_of.environment_id, environment.name AS \
     environment, version.label AS version, \
         at, ended_at, share, instance_group, announced, rollback, revision, link, by, last_event_at FROM (\
         SELECT d.service_id, d.environment_id, d.version_id, \
             CASE WHEN seen.first_event_at BETWEEN d.at - interval '1 hour' AND d.at THEN seen.first_event_at ELSE \
             d.at END AS at, d.ended_at, d.share, d.instance_group, true AS announced, \
             coalesce(seen.first_event_at < d.at - interval '1 hour', false) AND EXISTS (SELECT FROM seen other WHERE \
             other.service_id = d.service_id \
                 AND other.environment_id = d.environment_id AND other.first_event_at > seen.first_event_at AND \
                 other.first_event_at < d.at) \
                 OR EXISTS (SELECT FROM deploy earlier JOIN deploy between_them USING (service_id, environment_id) \
                     WHERE earlier.service_id = d.service_id AND earlier.environment_id = d.environment_id AND \
                     earlier.version_id = d.version_id \
                     AND between_them.version_id <> d.version_id AND between_them.ended_at IS NULL \
                     AND between_them.at > earlier.at AND between_them.at < d.at) AS rollback, d.revision, d.link, \
                     d.by, seen.last_event_at \
         FROM deploy d LEFT JOIN seen USING (service_id, environment_id, version_id) \
         UNION ALL SELECT service_id, environment_id, version_id, first_event_at, NULL, NULL, NULL, false, false, '', \
         '', '', last_event_at FROM seen \
         WHERE place > 1 AND NOT EXISTS (SELECT FROM deploy d WHERE d.service_id = seen.service_id AND \
         d.environment_id = seen.environment_id \
             AND d.version_id = seen.version_id AND d.at BETWEEN seen.first_event_at - interval '1 hour' AND \
             seen.first_event_at + interval '1 hour')) all_of \
     JOIN service ON service.id = all_of.service_id JOIN environment ON environment.id = all_of.environment_id \
     JOIN version ON version.id = all_of.version_id AND version.label <> 'unknown' ";

/// Deploys of a window, the newest first.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
pub async fn list(
    database: &Database,
    (service, environment): (Option<&str>, Option<&str>),
    (from, to): (DateTime<Utc>, DateTime<Utc>),
    limit: i64,
) -> Result<Vec<Deploy>, StoreError> {
    let statement = format!(
        "{DEPLOYS} WHERE at >= $1 AND at < $2 AND ($3::text IS NULL OR service.id IN (SELECT services_named($3))) AND \
         ($4::text IS NULL OR environment.name = $4) \
         ORDER BY at DESC, service.display_name, version.label LIMIT $5"
    );
    Ok(sqlx::query_as(sqlx::AssertSqlSafe(statement))
        .bind(from)
        .bind(to)
        .bind(service)
        .bind(environment)
        .bind(limit)
        .fetch_all(&database.pool)
        .await?)
}

/// The latest deploy of a version, if there was one.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
pub async fn of_version(
    database: &Database,
    service: &str,
    version: &str,
    environment: &str,
) -> Result<Option<Deploy>, StoreError> {
    let Some(service) = crate::service_names::named(database, service).await? else {
        return Ok(None);
    };
    let statement = format!(
        "{DEPLOYS} WHERE service.id = $1 AND version.label = $2 AND environment.name = $3 ORDER BY at DESC LIMIT 1"
    );
    Ok(sqlx::query_as(sqlx::AssertSqlSafe(statement))
        .bind(service.id)
        .bind(version)
        .bind(environment)
        .fetch_optional(&database.pool)
        .await?)
}

/// What was said of an error.
#[derive(Clone, Debug, FromRow)]
pub struct Flag {
    /// The error's number.
    pub error_id: i32,
    /// The error's title.
    pub title: String,
    /// The service.
    pub service: String,
    /// The environment.
    pub environment: String,
    /// `new`, `surging` or `returned`.
    pub kind: String,
    /// The version it is charged to.
    pub version: String,
    /// Whether a deploy stands at its beginning.
    pub by_deploy: bool,
    /// When it began.
    pub since: DateTime<Utc>,
    /// The minute whose data was needed to say so.
    pub said_at: DateTime<Utc>,
    /// When it ended.
    pub ended_at: Option<DateTime<Utc>>,
    /// Occurrences until it was said.
    pub count: i64,
    /// Occurrences to be expected in that time.
    pub expected: f64,
    /// How strongly that speaks against an unchanged rate, in nats.
    pub evidence: f64,
    /// Requests in that time.
    pub requests: Option<i64>,
    /// Why, in sentences, as it was worked out when the flag rose; `None` where it was not.
    pub why: Option<Vec<String>>,
    /// When it was taken back: data that came late showed that it was none.
    pub withdrawn_at: Option<DateTime<Utc>>,
}

/// A [`Flag`]'s columns, out of `flag` and [`FLAG_TABLES`].
pub(crate) const FLAG_COLUMNS: &str = "flag.error_id, error_group.title, service.display_name AS service, \
    environment.name AS environment, flag.kind, flag.version, \
     flag.by_deploy, flag.since, flag.said_at, flag.ended_at, flag.count, flag.expected, flag.evidence, \
     flag.requests, flag.why, flag.withdrawn_at";
pub(crate) const FLAG_TABLES: &str = "JOIN error_group ON error_group.id = flag.error_id JOIN service ON service.id = \
    flag.service_id \
     JOIN environment ON environment.id = flag.environment_id";

/// Selects flags, up to the condition.
fn select_flags(condition: &str) -> sqlx::AssertSqlSafe<String> {
    sqlx::AssertSqlSafe(format!(
        "SELECT {FLAG_COLUMNS} FROM flag {FLAG_TABLES} WHERE {condition}"
    ))
}

/// Flags that stand: of errors that are or were said to be something within a window and did not end before it.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
pub async fn flags(
    database: &Database,
    errors: &[i32],
    from: DateTime<Utc>,
    to: DateTime<Utc>,
) -> Result<HashMap<i32, Vec<Flag>>, StoreError> {
    let statement = select_flags(
        "flag.withdrawn_at IS NULL AND flag.error_id = ANY($1) AND flag.said_at < $3 AND (flag.said_at >= $2 OR \
         flag.kind = 'surging' AND flag.ended_at IS NULL) \
         AND (flag.ended_at IS NULL OR flag.ended_at >= $2) ORDER BY flag.said_at DESC",
    );
    let rows: Vec<Flag> = sqlx::query_as(statement)
        .bind(errors)
        .bind(from)
        .bind(to)
        .fetch_all(&database.pool)
        .await?;
    let mut flags: HashMap<i32, Vec<Flag>> = HashMap::new();
    for row in rows {
        flags.entry(row.error_id).or_default().push(row);
    }
    Ok(flags)
}

/// How long after it rose it is worked out why an error was flagged: what a replay says of days past carries no notice.
const EXPLAINED: TimeDelta = TimeDelta::hours(1);

/// Flags that rose just now and do not say why yet: number, error.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
pub async fn unexplained(database: &Database, now: DateTime<Utc>) -> Result<Vec<(i64, i32)>, StoreError> {
    Ok(sqlx::query_as(
        "SELECT id, error_id FROM flag WHERE why IS NULL AND withdrawn_at IS NULL AND said_at >= $1 \
        ORDER BY id LIMIT 50",
    )
    .bind(now - EXPLAINED)
    .fetch_all(&database.pool)
    .await?)
}

/// Writes down why an error was flagged; what another instance wrote stays.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
pub async fn explain(database: &Database, flag: i64, why: &[String]) -> Result<(), StoreError> {
    sqlx::query("UPDATE flag SET why = $2 WHERE id = $1 AND why IS NULL")
        .bind(flag)
        .bind(why)
        .execute(&database.pool)
        .await?;
    Ok(())
}

/// Flags said since a time that have not ended, in all services, the newest first.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
pub async fn standing(
    database: &Database,
    environment: Option<&str>,
    since: DateTime<Utc>,
    now: DateTime<Utc>,
) -> Result<Vec<Flag>, StoreError> {
    let statement = select_flags(
        "flag.withdrawn_at IS NULL AND flag.said_at >= $1 AND flag.said_at < $2 AND (flag.ended_at IS NULL OR \
         flag.ended_at >= $2) \
         AND ($3::text IS NULL OR environment.name = $3) ORDER BY flag.since DESC, flag.error_id LIMIT 200",
    );
    Ok(sqlx::query_as(statement)
        .bind(since)
        .bind(now)
        .bind(environment)
        .fetch_all(&database.pool)
        .await?)
}

/// Flags of an environment that began within a time, the earliest first.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
pub async fn said_around(
    database: &Database,
    environment: &str,
    (from, to): (DateTime<Utc>, DateTime<Utc>),
) -> Result<Vec<Flag>, StoreError> {
    let statement = select_flags(
        "flag.withdrawn_at IS NULL AND environment.name = $1 AND flag.since >= $2 AND flag.since < $3 AND \
         flag.said_at >= $2 \
         ORDER BY flag.since, flag.error_id LIMIT 50",
    );
    Ok(sqlx::query_as(statement)
        .bind(environment)
        .bind(from)
        .bind(to)
        .fetch_all(&database.pool)
        .await?)
}

/// Flags of an error that were taken back, said within a window, the newest first.
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
pub async fn withdrawn(
    database: &Database,
    error: i32,
    from: DateTime<Utc>,
    to: DateTime<Utc>,
) -> Result<Vec<Flag>, StoreError> {
    let statement = select_flags(
        "flag.withdrawn_at IS NOT NULL AND flag.error_id = $1 AND flag.said_at >= $2 AND flag.said_at < $3 ORDER BY \
         flag.said_at DESC",
    );
    Ok(sqlx::query_as(statement)
        .bind(error)
        .bind(from)
        .bind(to)
        .fetch_all(&database.pool)
        .await?)
}

/// Minutes that are read at once where the past is told: six hours, so that eight days never lie in memory together.
const TOLD_AT_ONCE: Minute = 360;
/// Minutes between two looks at whether something came late, at first and at most; doubled each
/// time that something had.
const LOOK_EVERY: (Minute, Minute) = (1, 60);

/// How many minutes to wait for the next look.
fn next_look(last: Minute, is_late: bool) -> Minute {
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
    next: Option<Minute>,
    /// When it was told the past: a day later it is told anew, so that it never holds more than it looks at.
    begun: Minute,
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

#[derive(FromRow)]
struct Row {
    kind: i32,
    at: DateTime<Utc>,
    service: i32,
    environment: i32,
    version: String,
    error: i32,
    n: i64,
    share: Option<f32>,
}

/// Deploys, then requests, then errors of each minute, then what people settled or opened in it.
/// Services and environments go by their numbers.
const EVENTS: &str = "SELECT 0 AS kind, date_trunc('minute', at) AS at, service_id AS service, environment_id AS \
    environment, version, 0 AS error, 0::bigint AS n, share \
         FROM (DEPLOYS) d WHERE at >= $1 AND at < $2 \
     UNION ALL SELECT 1, minute, t.service_id, environment_id, version.label, 0, sum(requests)::bigint, NULL::real \
     FROM traffic_minute t \
         JOIN version ON version.id = t.version_id WHERE minute >= $1 AND minute < $2 GROUP BY minute, t.service_id, \
         environment_id, version.label \
     UNION ALL SELECT 2, minute, cause.service_id, environment_id, version.label, cause.error_id, sum(n)::bigint, \
     NULL FROM tally_minute t \
         JOIN cause ON cause.id = t.cause_id JOIN version ON version.id = t.version_id WHERE minute >= $1 AND minute \
         < $2 AND n > 0 \
         GROUP BY minute, cause.service_id, environment_id, version.label, cause.error_id \
     UNION ALL SELECT 3, date_trunc('minute', h.at), e.service_id, 0, h.what, h.error_id, (h.verb = \
     'settle')::int::bigint, NULL FROM handling_change h \
         JOIN error_group e ON e.id = h.error_id WHERE h.verb IN ('settle', 'reopen') AND h.at >= $1 AND h.at < $2 \
     ORDER BY at, kind, service, environment, version, error";

/// Errors of the minutes from one on.
const OPEN: &str = "SELECT 2 AS kind, minute AS at, cause.service_id AS service, environment_id AS environment, \
    version.label AS version, \
         cause.error_id AS error, sum(n)::bigint AS n, NULL::real AS share FROM tally_minute t \
         JOIN cause ON cause.id = t.cause_id JOIN version ON version.id = t.version_id WHERE minute >= $1 AND n > 0 \
         GROUP BY minute, cause.service_id, environment_id, version.label, cause.error_id";

impl Watch {
    /// Tells the detector what is whole by now, and writes down what it says. Returns how many
    /// flags were new. Does nothing while another instance is at it; that one's work is told to
    /// this detector when it takes over.
    ///
    /// # Errors
    /// [`StoreError`] when the database does not answer; the detector then starts anew.
    pub async fn round(&mut self, database: &Database, now: DateTime<Utc>) -> Result<u64, StoreError> {
        let mut transaction = database.pool.begin().await?;
        let (is_ours,): (bool,) = sqlx::query_as("SELECT pg_try_advisory_xact_lock(hashtext('outcrop flags'))")
            .fetch_one(&mut *transaction)
            .await?;
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
                     e.id = h.error_id WHERE h.settled_at < $1",
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
            for row in rows {
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
    async fn correct(
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
        let before: Vec<Said> = rows.into_iter().filter_map(SaidRow::said).collect();
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
        let mut flags: Vec<Option<FlagLine>> = flags.into_iter().map(Some).collect();
        Ok(corrected
            .fresh
            .iter()
            .filter_map(|place| flags.get_mut(*place).and_then(Option::take))
            .collect())
    }

    /// Says at once which errors of the minutes that are not whole yet are new or back.
    async fn foretell(&self, connection: &mut sqlx::PgConnection, whole: Minute) -> Result<u64, StoreError> {
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
    async fn disturb(&mut self, connection: &mut sqlx::PgConnection, whole: Minute) -> Result<(), StoreError> {
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
    async fn end(&mut self, connection: &mut sqlx::PgConnection) -> Result<(), StoreError> {
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
    async fn has_late(&self, connection: &mut sqlx::PgConnection, next: Minute) -> Result<bool, StoreError> {
        let hour = |at: DateTime<Utc>| at.duration_trunc(TimeDelta::hours(1)).unwrap_or(at);
        let (from, to) = (hour(time(next - (REPLAYED_DAYS - 1) * 1_440)), hour(time(next)));
        let rows: Vec<(DateTime<Utc>, i64, i64)> = sqlx::query_as(
            "SELECT hour, sum(requests)::bigint, sum(errors)::bigint FROM (\
                 SELECT hour, requests, 0::bigint AS errors FROM traffic_hour WHERE hour >= $1 AND hour < $2 \
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

fn time(minute: Minute) -> DateTime<Utc> {
    DateTime::from_timestamp(minute * 60, 0).unwrap_or_default()
}

/// A flag that was said before.
#[derive(FromRow)]
struct SaidRow {
    id: i64,
    error_id: i32,
    environment_id: i32,
    kind: String,
    version: String,
    since: DateTime<Utc>,
    said_at: DateTime<Utc>,
}

impl SaidRow {
    fn said(self) -> Option<Said> {
        Some(Said {
            id: self.id,
            flag: FlagKind::of(&self.kind)?,
            environment: self.environment_id.to_string(),
            group: self.error_id.to_string(),
            version: self.version,
            since: self.since.timestamp().div_euclid(60),
            at: self.said_at.timestamp().div_euclid(60),
        })
    }
}

impl Row {
    fn event(self) -> Event {
        let (service, environment, count) = (
            self.service.to_string(),
            self.environment.to_string(),
            u64::try_from(self.n).unwrap_or_default(),
        );
        match self.kind {
            0 => {
                let share = self.share.map(f64::from);
                Event::Deploy {
                    at: self.at,
                    service,
                    environment,
                    version: self.version,
                    share,
                    ended_at: None,
                }
            }
            1 => Event::Requests {
                minute: self.at,
                service,
                environment,
                version: self.version,
                count,
            },
            3 => {
                let state = if count > 0 { "settled" } else { "open" }.to_owned();
                Event::State {
                    at: self.at,
                    service,
                    group: self.error.to_string(),
                    state,
                    version: self.version,
                }
            }
            _ => Event::Errors {
                minute: self.at,
                service,
                environment,
                version: self.version,
                group: self.error.to_string(),
                count,
            },
        }
    }
}

async fn write(connection: &mut sqlx::PgConnection, flags: &[FlagLine]) -> Result<u64, StoreError> {
    if flags.is_empty() {
        return Ok(0);
    }
    let number = |text: &str| text.parse::<i32>().unwrap_or_default();
    let said: Vec<(i32, String, String, DateTime<Utc>)> = sqlx::query_as(
        "INSERT INTO flag (error_id, service_id, environment_id, kind, version, by_deploy, since, said_at, count, \
         expected, evidence, requests) \
         SELECT new.* FROM UNNEST($1::int[], $2::int[], $3::int[], $4::text[], $5::text[], $6::bool[], \
         $7::timestamptz[], $8::timestamptz[], $9::bigint[], \
             $10::float8[], $11::float8[], $12::bigint[]) AS new (error, service, environment, kind, version, \
             by_deploy, since, said_at, count, expected, evidence, requests) \
         JOIN error_group ON error_group.id = error WHERE new.kind = 'surging' OR NOT EXISTS (SELECT FROM flag said \
         WHERE said.error_id = error \
             AND said.environment_id = environment AND said.kind = new.kind AND said.version = new.version AND \
             said.withdrawn_at IS NULL \
             AND said.said_at BETWEEN new.said_at - interval '1 hour' AND new.said_at + interval '1 hour') \
         ON CONFLICT (error_id, environment_id, kind, said_at) DO NOTHING RETURNING error_id, kind, version, said_at",
    )
    .bind(flags.iter().map(|flag| number(&flag.group)).collect::<Vec<_>>())
    .bind(flags.iter().map(|flag| number(&flag.service)).collect::<Vec<_>>())
    .bind(flags.iter().map(|flag| number(&flag.environment)).collect::<Vec<_>>())
    .bind(flags.iter().map(|flag| flag.flag.word()).collect::<Vec<_>>())
    .bind(flags.iter().map(|flag| flag.version.clone()).collect::<Vec<_>>())
    .bind(flags.iter().map(|flag| flag.by_deploy).collect::<Vec<_>>())
    .bind(flags.iter().map(|flag| time(flag.since)).collect::<Vec<_>>())
    .bind(flags.iter().map(|flag| time(flag.at)).collect::<Vec<_>>())
    .bind(
        flags
            .iter()
            .map(|flag| i64::try_from(flag.count).unwrap_or(i64::MAX))
            .collect::<Vec<_>>(),
    )
    .bind(flags.iter().map(|flag| flag.expected).collect::<Vec<_>>())
    .bind(flags.iter().map(|flag| flag.evidence).collect::<Vec<_>>())
    .bind(
        flags
            .iter()
            .map(|flag| flag.requests.and_then(|n| i64::try_from(n).ok()))
            .collect::<Vec<_>>(),
    )
    .fetch_all(&mut *connection)
    .await?;
    let count = said.len() as u64;
    let back: Vec<(i32, String, DateTime<Utc>)> = said
        .into_iter()
        .filter(|(_, kind, _, _)| kind == FlagKind::Returned.word())
        .map(|(error, _, version, at)| (error, version, at + TimeDelta::minutes(1)))
        .collect();
    crate::handling::returned(connection, &back).await?;
    Ok(count)
}

/// How long after a deploy flags are charged to it, at most.
pub const CHARGED: TimeDelta = TimeDelta::hours(24);

#[cfg(test)]
mod tests {
    use outcrop_core::deploy::Measured;

    use super::*;
    use crate::testing::{announced, database, failing, of, resource, span, spans, store, trace, writer};

    #[tokio::test]
    async fn a_deploy_is_found_by_its_version_and_recorded_once_per_time() {
        let database = database().await;
        let start = Utc::now() - TimeDelta::minutes(10);
        record(&database, &announced("2.4.0", start)).await.unwrap();
        let deploy = of_version(&database, "fares", "2.4.0", "production")
            .await
            .unwrap()
            .unwrap();
        assert!(deploy.announced && deploy.version == "2.4.0", "{deploy:?}");
        assert!(
            of_version(&database, "fares", "2.4.1", "production")
                .await
                .unwrap()
                .is_none()
        );
        assert!(
            of_version(&database, "nobody", "2.4.0", "production")
                .await
                .unwrap()
                .is_none()
        );
        // Said again of the same time, the last word holds.
        record(
            &database,
            &NewDeploy {
                link: "https://ci.skerry.example/7".to_owned(),
                ..announced("2.4.0", start)
            },
        )
        .await
        .unwrap();
        let window = (start - TimeDelta::hours(1), Utc::now());
        let listed = list(&database, (Some("fares"), None), window, 10).await.unwrap();
        assert_eq!(
            listed.iter().map(|deploy| deploy.link.as_str()).collect::<Vec<_>>(),
            ["https://ci.skerry.example/7"]
        );
    }

    #[test]
    fn data_that_is_late_again_and_again_has_the_past_told_ever_more_rarely() {
        let looks: Vec<Minute> = std::iter::successors(Some(0), |last| Some(next_look(*last, true)))
            .take(9)
            .collect();
        assert_eq!(looks, [0, 1, 2, 4, 8, 16, 32, 60, 60]);
        assert_eq!(next_look(60, false), 1);
    }

    /// Three days of a service: requests every hour, one of them failing as it always did, and a
    /// new failure in the last minutes.
    async fn three_days(database: &Database) -> DateTime<Utc> {
        let now = Utc::now();
        let writer = writer(database);
        for hour in (1..72).rev() {
            let at = crate::from_utc(now - TimeDelta::hours(hour));
            let id = u64::try_from(hour).unwrap() * 10;
            let requests = (1..6).map(|n| span(trace(id + n), id + n, None, at));
            let group = of(
                resource("fares"),
                requests
                    .chain([failing(trace(id), id, None, at, "no tariff")])
                    .collect(),
            );
            store(&writer, &[spans(vec![group], at)]).await;
        }
        let at = crate::from_utc(now - TimeDelta::minutes(5));
        let group = of(
            resource("fares"),
            (2_000..2_040)
                .map(|n| failing(trace(n), n, None, at, "the ramp is up"))
                .collect(),
        );
        store(&writer, &[spans(vec![group], at)]).await;
        now
    }

    async fn said(database: &Database) -> Vec<(String, i64)> {
        sqlx::query_as(
            "SELECT e.title || ' ' || kind, count(*) FROM flag JOIN error_group e ON e.id = error_id GROUP \
            BY 1 ORDER BY 1",
        )
        .fetch_all(&database.pool)
        .await
        .unwrap()
    }

    #[tokio::test]
    async fn two_instances_that_take_turns_say_each_flag_once() {
        let database = database().await;
        let now = three_days(&database).await;
        let (mut one, mut other) = (Watch::default(), Watch::default());
        one.round(&database, now).await.unwrap();
        let first = said(&database).await;
        assert_eq!(first, [("BerthTaken: the ramp is up new".to_owned(), 1)]);
        for minute in 1..5 {
            let watch = if minute % 2 == 0 { &mut one } else { &mut other };
            watch.round(&database, now + TimeDelta::minutes(minute)).await.unwrap();
        }
        assert_eq!(said(&database).await, first);
    }

    #[tokio::test]
    async fn a_late_request_of_a_past_hour_has_the_past_told_anew_once() {
        let database = database().await;
        let now = three_days(&database).await;
        let mut watch = Watch::default();
        watch.round(&database, now).await.unwrap();
        let mut connection = database.pool.acquire().await.unwrap();
        let (begun, next) = (watch.begun, watch.next.unwrap());
        assert!(!watch.has_late(&mut connection, next).await.unwrap());
        let late = crate::from_utc(now - TimeDelta::hours(30));
        store(
            &writer(&database),
            &[spans(
                vec![of(resource("fares"), vec![span(trace(9_000), 9_000, None, late)])],
                late,
            )],
        )
        .await;
        assert!(watch.has_late(&mut connection, next).await.unwrap());
        watch.round(&database, now + TimeDelta::minutes(2)).await.unwrap();
        assert_eq!(watch.begun, begun + 2, "told anew");
        watch.round(&database, now + TimeDelta::minutes(6)).await.unwrap();
        assert_eq!(
            (watch.begun, watch.next),
            (begun + 2, Some(next + 6)),
            "and then only what is new"
        );
        assert_eq!(
            said(&database).await,
            [("BerthTaken: the ramp is up new".to_owned(), 1)]
        );
    }

    #[tokio::test]
    async fn reports_that_cease_are_written_down_until_they_come_again() {
        let database = database().await;
        let now = Utc::now();
        let writer = writer(&database);
        for (id, hours) in [(1, 4), (2, 0)] {
            let at = crate::from_utc(now - TimeDelta::hours(hours));
            store(
                &writer,
                &[spans(
                    vec![of(resource("fares"), vec![span(trace(id), id, None, at)])],
                    at,
                )],
            )
            .await;
        }
        sqlx::query("DELETE FROM traffic_minute WHERE minute > $1")
            .bind(now - TimeDelta::hours(1))
            .execute(&database.pool)
            .await
            .unwrap();
        // A hundred requests a minute, up to half an hour ago.
        let report = "INSERT INTO traffic_minute SELECT minute, service_id, endpoint_id, environment_id, version_id, \
            100, 0, statuses \
             FROM (SELECT * FROM traffic_minute LIMIT 1) one, \
                 generate_series(date_trunc('minute', $1::timestamptz), $2::timestamptz, '1 minute') \
                 minute_of(minute) ON CONFLICT DO NOTHING"
            .replace("SELECT minute,", "SELECT minute_of.minute,");
        let fill = async |from: TimeDelta, until: TimeDelta| {
            sqlx::query(sqlx::AssertSqlSafe(report.clone()))
                .bind(now - from)
                .bind(now - until)
                .execute(&database.pool)
                .await
                .unwrap();
        };
        fill(TimeDelta::hours(4), TimeDelta::minutes(30)).await;
        Watch::default().round(&database, now).await.unwrap();
        let told = disturbed::of_services(&database, now).await.unwrap();
        let [(None, of)] = told.values().next().unwrap().as_slice() else {
            panic!("{told:?}")
        };
        assert!(of.measured == Measured::Missing && of.until.is_none(), "{of:?}");
        assert!((now.timestamp() / 60 - of.from - 29).abs() <= 1, "{of:?}");

        fill(TimeDelta::minutes(9), TimeDelta::zero()).await;
        Watch::default().round(&database, now).await.unwrap();
        let told = disturbed::of_services(&database, now).await.unwrap();
        let [(None, of)] = told.values().next().unwrap().as_slice() else {
            panic!("{told:?}")
        };
        assert!(
            of.until.is_some_and(|until| (until - of.from - 20).abs() <= 1),
            "{of:?}"
        );
        assert!(
            disturbed::of_services(&database, now + TimeDelta::hours(25))
                .await
                .unwrap()
                .is_empty(),
            "told for a day"
        );
    }
}
