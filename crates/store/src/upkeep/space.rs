//! How much room each kind of data takes, and what happens when that is more than it may: the
//! oldest days are emptied; where today's alone is too much, the kind is full and nothing more of
//! it is kept until there is room; where the disk itself runs out, nothing is taken at all.

use std::path::Path;

use sqlx::{AssertSqlSafe, PgConnection};

use super::lifetimes::{Kept, Lifetime, TABLES};
use crate::boxed;
use crate::database::locks::Lock;
use crate::database::partitions;
use crate::retention::Policy;
use crate::{Database, StoreError};

/// A kind of data, as people set how long and how much of it is kept.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Kind {
    /// Spans of the last 45 minutes, before it is decided which are kept.
    Spans,
    /// Traces that are kept.
    Traces,
    /// Log lines.
    LogLines,
    /// Bodies of occurrences: attributes, stacks and variables in full.
    Bodies,
    /// Occurrences, requests and counts by the minute.
    Occurrences,
    /// Counts by hour and day.
    Counts,
    /// Metrics that services send.
    Metrics,
    /// All else: names, errors, what people did.
    Rest,
}

impl Kind {
    /// All kinds, in the order in which they are listed.
    pub const ALL: [Self; 8] = [
        Self::Spans,
        Self::Traces,
        Self::LogLines,
        Self::Bodies,
        Self::Occurrences,
        Self::Counts,
        Self::Metrics,
        Self::Rest,
    ];

    /// Its name.
    #[must_use]
    pub const fn name(self) -> &'static str {
        match self {
            Self::Spans => "spans of the last 45 minutes",
            Self::Traces => "kept traces",
            Self::LogLines => "log lines",
            Self::Bodies => "bodies of occurrences",
            Self::Occurrences => "occurrences, requests and counts by the minute",
            Self::Counts => "counts by hour and day",
            Self::Metrics => "metrics",
            Self::Rest => "names, errors and what people did",
        }
    }

    fn of(table: &str) -> Self {
        if table.starts_with("hot_") {
            return Self::Spans;
        }
        match TABLES
            .iter()
            .find(|(name, _)| *name == table)
            .map(|(_, lifetime)| *lifetime)
        {
            _ if table.starts_with("metric_") => Self::Metrics,
            _ if table == "payload" || table == "kept_body" => Self::Bodies,
            Some(Lifetime::Days(Kept::Traces) | Lifetime::Time(_, Kept::Traces)) => Self::Traces,
            Some(Lifetime::Days(Kept::Logs)) => Self::LogLines,
            Some(Lifetime::Days(_)) => Self::Occurrences,
            Some(Lifetime::Time(_, Kept::Counts | Kept::Occurrences) | Lifetime::Id(..)) => Self::Counts,
            _ => Self::Rest,
        }
    }
}

/// What a kind of data takes.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Held {
    /// The kind.
    pub kind: Kind,
    /// Bytes of the database, with indexes.
    pub bytes: i64,
    /// For how many days it is kept; `None` for less than a day, or for good.
    pub days: Option<i64>,
    /// How many bytes it may take; `None` for as many as there are.
    pub max_bytes: Option<i64>,
}

/// What each kind of data takes, in the order of [`Kind::ALL`].
///
/// # Errors
/// [`StoreError`] when the database does not answer in time.
#[boxed]
pub async fn held(database: &Database, policy: &Policy) -> Result<Vec<Held>, StoreError> {
    let tables: Vec<(String, i64)> = sqlx::query_as(
        "SELECT relname::text, pg_total_relation_size(oid) FROM pg_class WHERE relkind = 'r' AND relnamespace = \
         'public'::regnamespace",
    )
    .fetch_all(&database.pool)
    .await?;
    let sum = |kind: Kind| -> i64 {
        let of_kind = tables.iter().filter(|(name, _)| Kind::of(without_day(name)) == kind);
        of_kind.map(|(_, bytes)| bytes).sum()
    };
    Ok(Kind::ALL
        .into_iter()
        .map(|kind| {
            let (days, max_bytes) = match kind {
                Kind::Spans => (None, Some(policy.hot_bytes)),
                Kind::Traces => (Some(policy.trace_days), policy.trace_bytes),
                Kind::LogLines => (Some(policy.log_days), policy.log_bytes),
                Kind::Bodies => (Some(policy.occurrence_days), policy.body_bytes),
                Kind::Occurrences => (Some(policy.occurrence_days), None),
                Kind::Counts => (Some(policy.count_days), None),
                Kind::Metrics => (Some(policy.metric_days), None),
                Kind::Rest => (None, None),
            };
            Held {
                kind,
                bytes: sum(kind),
                days,
                max_bytes,
            }
        })
        .collect())
}

/// A partition's name without its day: `occurrence_20261123`.
fn without_day(name: &str) -> &str {
    match name.rsplit_once('_') {
        Some((table, day)) if day.len() == 8 && day.bytes().all(|byte| byte.is_ascii_digit()) => table,
        _ => name,
    }
}

/// The kinds of which nothing more is kept for now.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Full {
    /// Traces.
    pub traces: bool,
    /// Log lines.
    pub log_lines: bool,
    /// Bodies of occurrences.
    pub bodies: bool,
}

/// Empties the oldest days of kinds that take more than they may, and says which are full though
/// only today is left. Returns the names of the partitions that were emptied too.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn hold_to(database: &Database, policy: &Policy, today: i64) -> Result<(Full, Vec<String>), StoreError> {
    let mut connection = database.pool.acquire().await?;
    let is_ours = Lock::Space.try_hold(&mut connection).await?;
    let held = held_to(&mut connection, policy, today, is_ours).await;
    if is_ours && Lock::Space.release(&mut connection).await.is_err() {
        // The lock goes with the connection.
        drop(connection.detach());
    }
    held
}

async fn held_to(
    connection: &mut PgConnection,
    policy: &Policy,
    today: i64,
    may_empty: bool,
) -> Result<(Full, Vec<String>), StoreError> {
    let mut emptied = vec![];
    let mut is_full = [false; 3];
    let kinds = [
        ("kept_chunk", policy.trace_bytes),
        ("log_record", policy.log_bytes),
        ("payload", policy.body_bytes),
    ];
    for ((table, max_bytes), full) in kinds.into_iter().zip(&mut is_full) {
        let Some(max_bytes) = max_bytes else { continue };
        let mut days: Vec<(String, i64)> = sqlx::query_as(
            "SELECT relname::text, pg_total_relation_size(oid) FROM pg_class WHERE relkind = 'r' AND relnamespace = \
             'public'::regnamespace \
             AND relname ~ ('^' || $1 || '_[0-9]{8}$') ORDER BY 1",
        )
        .bind(table)
        .fetch_all(&mut *connection)
        .await?;
        let mut all: i64 = days.iter().map(|(_, bytes)| bytes).sum();
        // Before today: what is written to now would hold everybody up.
        days.retain(|(name, _)| partitions::day_of_partition(name).is_some_and(|day| day < today));
        for (name, bytes) in days {
            // An empty partition has its indexes' first pages.
            if all <= max_bytes || !may_empty || bytes <= EMPTY {
                continue;
            }
            match empty(connection, &name).await {
                Ok(()) => {
                    all -= bytes;
                    emptied.push(name);
                }
                Err(error) => {
                    tracing::warn!(%name, %error, "the oldest day could not be emptied; tried again with the next \
                        round");
                }
            }
        }
        *full = all > max_bytes;
    }
    let [traces, log_lines, bodies] = is_full;
    Ok((
        Full {
            traces,
            log_lines,
            bodies,
        },
        emptied,
    ))
}

/// The most that an empty partition takes, in bytes: a page and two for each index.
const EMPTY: i64 = 128 * 1024;

/// Empties a partition, which stays: writers go on to know it. Needs no room to speak of, whatever it held.
async fn empty(connection: &mut PgConnection, name: &str) -> Result<(), StoreError> {
    let mut transaction = sqlx::Connection::begin(connection).await?;
    sqlx::query("SET LOCAL lock_timeout = '200ms'")
        .execute(&mut *transaction)
        .await?;
    sqlx::query(AssertSqlSafe(format!("TRUNCATE {name}")))
        .execute(&mut *transaction)
        .await?;
    transaction.commit().await?;
    Ok(())
}

/// Room that the database has.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Room {
    /// Bytes that it takes.
    pub used: i64,
    /// Bytes free on its disk; `None` where that cannot be seen: it is on another host, or does not
    /// say where its data lies.
    pub free: Option<i64>,
}

/// Looks how much room the database takes and has.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
#[boxed]
pub async fn room(database: &Database) -> Result<Room, StoreError> {
    let (used, is_here): (i64, bool) = sqlx::query_as(
        "SELECT pg_database_size(current_database()), coalesce(inet_server_addr() <<= '127.0.0.0/8' OR \
         inet_server_addr() = '::1', true)",
    )
    .fetch_one(&database.checking)
    .await?;
    let folder: Option<String> = sqlx::query_scalar("SELECT setting FROM pg_settings WHERE name = 'data_directory'")
        .fetch_optional(&database.checking)
        .await?;
    let free = folder
        .filter(|_| is_here)
        .and_then(|folder| free_at(Path::new(&folder)));
    Ok(Room { used, free })
}

/// Bytes free where a folder lies, for those who are not root.
fn free_at(folder: &Path) -> Option<i64> {
    let there = rustix::fs::statvfs(folder).ok()?;
    i64::try_from(there.f_bavail.saturating_mul(there.f_frsize)).ok()
}

/// Why nothing is taken for lack of room, if so. Once closed it opens again when there is a quarter
/// more room than the least: else it would open and close with each request.
#[must_use]
pub fn closed(room: Room, policy: &Policy, was_closed: bool) -> Option<String> {
    let least = if was_closed {
        policy.min_free_bytes + policy.min_free_bytes / 4
    } else {
        policy.min_free_bytes
    };
    if let Some(free) = room.free.filter(|free| *free < least) {
        return Some(format!(
            "the database's disk has {} free, less than the {} that must stay: nothing is taken until there is more; \
             lower what is kept, or give it more room",
            size(free),
            size(policy.min_free_bytes)
        ));
    }
    let max = policy.database_bytes?;
    let bound = if was_closed { max - max / 20 } else { max };
    (room.used > bound).then(|| {
        format!(
            "the database takes {} of the {} it may: nothing is taken until it takes less; lower what is kept, or \
             raise --database-bytes",
            size(room.used),
            size(max)
        )
    })
}

fn size(bytes: i64) -> String {
    #[expect(clippy::cast_precision_loss, reason = "shown with one decimal")]
    let of = |unit: i64| bytes as f64 / unit as f64;
    if bytes >= 1 << 30 {
        format!("{:.1} GiB", of(1 << 30))
    } else {
        format!("{:.0} MiB", of(1 << 20))
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;
    use crate::testing::{database, failing, now, number, of, resource, spans, store, trace, writer};

    #[tokio::test]
    async fn the_oldest_days_are_emptied_first_and_a_kind_with_today_alone_is_full() {
        let database = database().await;
        let writer = writer(&database);
        for (number, days) in [(1, 3), (2, 2), (3, 0)] {
            let at = now().plus_millis(-days * 86_400_000);
            store(
                &writer,
                &[spans(
                    vec![of(
                        resource("fares"),
                        vec![failing(trace(number), number, None, at, "no tariff")],
                    )],
                    at,
                )],
            )
            .await;
        }
        // Days as large as they get: what is in them counts, not what can be compressed.
        let grow = "SELECT setseed(0.5); INSERT INTO payload (occurrence_id, body) \
                    SELECT id, (SELECT string_agg(decode(md5(n::text || o.id::text), 'hex'), '') FROM \
                    generate_series(1, 20000) n) FROM occurrence o \
                    ON CONFLICT (occurrence_id) DO UPDATE SET body = excluded.body";
        sqlx::raw_sql(grow).execute(&database.pool).await.unwrap();
        let today = now().day();
        let all = number(
            &database,
            "SELECT sum(pg_total_relation_size(oid))::bigint FROM pg_class WHERE relname ~ '^payload_[0-9]{8}$'",
        )
        .await;
        assert!(all > 900_000, "{all}");
        let capped = |max: i64| Policy {
            body_bytes: Some(max),
            ..Policy::default()
        };
        let (full, emptied) = hold_to(&database, &capped(all), today).await.unwrap();
        assert_eq!((full, emptied.len()), (Full::default(), 0));
        let (full, emptied) = hold_to(&database, &capped(all - 1), today).await.unwrap();
        assert_eq!(
            (full, emptied),
            (Full::default(), vec![partitions::partition("payload", today - 3)])
        );
        let (full, emptied) = hold_to(&database, &capped(100_000), today).await.unwrap();
        assert_eq!(emptied, [partitions::partition("payload", today - 2)]);
        assert_eq!(
            full,
            Full {
                bodies: true,
                ..Full::default()
            }
        );
        assert_eq!(number(&database, "SELECT count(*) FROM payload").await, 1, "today's");
        assert_eq!(
            number(&database, "SELECT count(*) FROM occurrence").await,
            3,
            "and all are counted"
        );
        // The days that were emptied are still written to.
        let late = now().plus_millis(-3 * 86_400_000);
        store(
            &writer,
            &[spans(
                vec![of(
                    resource("fares"),
                    vec![failing(trace(9), 9, None, late, "no tariff")],
                )],
                late,
            )],
        )
        .await;
        assert_eq!(number(&database, "SELECT count(*) FROM payload").await, 2);
    }

    #[tokio::test]
    async fn every_table_belongs_to_a_kind_and_the_room_on_this_host_is_seen() {
        let database = database().await;
        let kinds = held(&database, &Policy::default()).await.unwrap();
        let sizes: Vec<(Kind, bool)> = kinds.iter().map(|held| (held.kind, held.bytes > 0)).collect();
        // Log lines and what lies in partitions by day alone have none yet.
        let empty = [Kind::LogLines, Kind::Occurrences];
        assert_eq!(sizes, Kind::ALL.map(|kind| (kind, !empty.contains(&kind))));
        let room = room(&database).await.unwrap();
        assert!(
            room.used > 1 << 20 && room.free.is_some_and(|free| free > 0),
            "{room:?}"
        );
    }

    const GIB: i64 = 1 << 30;

    #[rstest]
    #[case::enough(Some(2 * GIB), GIB, None, false, false)]
    #[case::too_little(Some(GIB - 1), GIB, None, false, true)]
    #[case::a_little_more_again(Some(GIB + GIB / 8), GIB, None, true, true)]
    #[case::enough_again(Some(GIB + GIB / 4), GIB, None, true, false)]
    #[case::on_another_host(None, GIB, None, false, false)]
    #[case::below_what_it_may_take(None, 9 * GIB, Some(10 * GIB), false, false)]
    #[case::above_what_it_may_take(None, 10 * GIB + 1, Some(10 * GIB), false, true)]
    #[case::just_below_again(None, 10 * GIB - GIB / 4, Some(10 * GIB), true, true)]
    #[case::well_below_again(None, 9 * GIB, Some(10 * GIB), true, false)]
    fn nothing_is_taken(
        #[case] free: Option<i64>,
        #[case] used: i64,
        #[case] database_bytes: Option<i64>,
        #[case] was_closed: bool,
        #[case] expected: bool,
    ) {
        let policy = Policy {
            min_free_bytes: GIB,
            database_bytes,
            ..Policy::default()
        };
        assert_eq!(closed(Room { used, free }, &policy, was_closed).is_some(), expected);
    }
}
