//! What is found of installations that are well and of such that are not.

use rstest::rstest;

use super::{Facts, GB, Level, Table, findings};

fn sound() -> Facts {
    let settings = [
        ("fsync", "on"),
        ("autovacuum", "on"),
        ("archive_mode", "on"),
        ("synchronous_commit", "on"),
    ];
    Facts {
        version: 170_004,
        settings: settings.map(|(name, value)| (name.to_owned(), value.to_owned())).into(),
        shared_buffers: GB,
        size: 7 * GB,
        connections: (20, 100),
        free: (Some(90 * GB), GB),
        has_address: true,
        ..Facts::default()
    }
}

fn setting(name: &str, value: &str) -> Facts {
    let mut facts = sound();
    facts.settings.insert(name.to_owned(), value.to_owned());
    facts
}

#[test]
fn a_sound_installation_has_nothing_but_what_is_fine() {
    let all = findings(&sound());
    assert_eq!(all.len(), 14);
    assert!(
        all.iter()
            .all(|finding| finding.level == Level::Fine && finding.todo.is_empty()),
        "{all:?}"
    );
    assert_eq!(all[0].says, "PostgreSQL 17.4, 7.0 GB");
}

#[rstest]
#[case::too_old(Facts { version: 140_012, ..sound() }, Level::Wrong, "database", "PostgreSQL 14.12 is too old")]
#[case::not_durable(setting("synchronous_commit", "off"), Level::Wrong, "durability", "can be lost")]
#[case::no_vacuum(setting("autovacuum", "off"), Level::Wrong, "durability", "grow without end")]
#[case::small(
    Facts { shared_buffers: GB / 8, ..sound() },
    Level::Look,
    "memory of the database",
    "128 MB for 7.0 GB",
)]
#[case::crowded(Facts { connections: (80, 100), ..sound() }, Level::Look, "connections", "80 of 100")]
#[case::full(
    Facts { closed: Some("7 MiB free".to_owned()), ..sound() },
    Level::Wrong,
    "disk",
    "nothing is taken: 7 MiB free",
)]
#[case::nearly_full(
    Facts { free: (Some(2 * GB), GB), ..sound() },
    Level::Look,
    "disk",
    "2.0 GB are free; below 1.0 GB",
)]
#[case::unseen(Facts { free: (None, GB), ..sound() }, Level::Look, "disk", "cannot be seen")]
#[case::slow_clock(Facts { clock_ahead_ms: -2_500, ..sound() }, Level::Look, "clocks", "2.5 s behind")]
#[case::wrong_clock(Facts { clock_ahead_ms: 90_000, ..sound() }, Level::Wrong, "clocks", "90.0 s ahead of")]
#[case::no_tomorrow(
    Facts { missing: vec!["occurrence_20261202".to_owned()], ..sound() },
    Level::Wrong,
    "partitions",
    "occurrence_20261202",
)]
#[case::left_over(
    Facts { overdue: vec!["a".to_owned(); 6], ..sound() },
    Level::Look,
    "partitions",
    "a, a, a, a and 2 more",
)]
#[case::open_for_hours(Facts { oldest_transaction_s: 7_200, ..sound() }, Level::Look, "vacuum", "120 minutes")]
#[case::bloated(
    Facts { dead: vec![Table { name: "tally".to_owned(), live: 300_000, dead: 200_000 }], ..sound() },
    Level::Look,
    "vacuum",
    "tally holds 200000 dead",
)]
#[case::lost_standby(
    Facts { slots: vec![("pier".to_owned(), 3 * GB)], ..sound() },
    Level::Wrong,
    "replication",
    "3.0 GB are kept for the slot pier",
)]
#[case::no_archive(setting("archive_mode", "off"), Level::Look, "backups", "archives no WAL")]
#[case::late_job(
    Facts { troubles: ["flags", "upkeep"].map(|job| (job.to_owned(), "late".to_owned())).into(), ..sound() },
    Level::Wrong,
    "jobs",
    "flags: late, and one more",
)]
#[case::refused(
    Facts { refused: Some((7, "unknown key".to_owned())), ..sound() },
    Level::Look,
    "senders",
    "7 requests were refused in 15 minutes: unknown key",
)]
#[case::nowhere(Facts { has_address: false, ..sound() }, Level::Look, "address", "does not know its own address")]
fn what_is_not_as_it_should_be_comes_first_and_says_what_to_do(
    #[case] facts: Facts,
    #[case] level: Level,
    #[case] about: &str,
    #[case] says: &str,
) {
    let all = findings(&facts);
    assert_eq!((all[0].level, all[0].about), (level, about), "{all:?}");
    assert!(all[0].says.contains(says) && !all[0].todo.is_empty(), "{:?}", all[0]);
    assert!(all[1..].iter().all(|finding| finding.level == Level::Fine), "{all:?}");
}

#[test]
fn little_data_needs_little_memory_and_dead_rows_of_a_small_table_are_none() {
    let facts = Facts {
        shared_buffers: GB / 8,
        size: GB,
        dead: vec![Table {
            name: "cause".to_owned(),
            live: 10,
            dead: 9_000,
        }],
        ..sound()
    };
    assert!(findings(&facts).iter().all(|finding| finding.level == Level::Fine));
}
