//! How an installation is: what its database, its jobs and its senders say, and what is to be done about it.

use std::collections::BTreeMap;

/// How bad a finding is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Level {
    /// Something fails or can be lost.
    Wrong,
    /// It works, and is worth a look.
    Look,
    /// As it should be.
    Fine,
}

impl Level {
    /// The word for it.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Wrong => "wrong",
            Self::Look => "look",
            Self::Fine => "fine",
        }
    }
}

/// What was found about one thing.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Finding {
    /// How bad it is.
    pub level: Level,
    /// What it is about.
    pub about: &'static str,
    /// What is so, as a sentence.
    pub says: String,
    /// What to do about it; empty where nothing is to be done.
    pub todo: String,
}

/// A table that holds rows that are dead.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Table {
    /// Its name.
    pub name: String,
    /// Rows that somebody may read.
    pub live: i64,
    /// Rows that nobody will, and that take room until they are vacuumed.
    pub dead: i64,
}

/// What is known of an installation.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Facts {
    /// The database's version, as its `server_version_num`: 170000 for 17.
    pub version: i32,
    /// Settings of the database by name, as it shows them.
    pub settings: BTreeMap<String, String>,
    /// Its `shared_buffers`, in bytes.
    pub shared_buffers: i64,
    /// The database's size, in bytes.
    pub size: i64,
    /// Connections that are open, of all who use the server, and how many may be.
    pub connections: (i64, i64),
    /// By how much the database's clock is ahead of the service's, in milliseconds.
    pub clock_ahead_ms: i64,
    /// Partitions of today and tomorrow that are missing.
    pub missing: Vec<String>,
    /// Partitions whose time has been over for more than two days.
    pub overdue: Vec<String>,
    /// How long the oldest transaction has been open, in seconds; 0 where none is.
    pub oldest_transaction_s: i64,
    /// The tables with the most dead rows.
    pub dead: Vec<Table>,
    /// Replication slots that nobody reads, with the bytes that are kept for each.
    pub slots: Vec<(String, i64)>,
    /// Bytes free on the database's disk, where that can be seen, and bytes that must stay free.
    pub free: (Option<i64>, i64),
    /// Why nothing is taken for lack of room.
    pub closed: Option<String>,
    /// Writers and jobs that are not as they should be, with what is wrong.
    pub troubles: Vec<(String, String)>,
    /// Requests of senders that were refused in the last 15 minutes, and why most of them were.
    pub refused: Option<(i64, String)>,
    /// Whether the installation knows the address under which people reach it.
    pub has_address: bool,
    /// Machines that services of this installation connect from.
    pub instances: Vec<String>,
}

/// The oldest version of the database that is tested.
const OLDEST: i32 = 150_000;
const GB: i64 = 1 << 30;
/// A clock that differs by less is as good as the same, in milliseconds.
const CLOCK_MS: (i64, i64) = (2_000, 60_000);
/// A transaction that is open for longer keeps dead rows, in seconds.
const LONG_S: i64 = 3_600;

/// What is so of an installation, the worst first.
#[must_use]
pub fn findings(facts: &Facts) -> Vec<Finding> {
    let mut found = vec![
        version(facts),
        durability(facts),
        memory(facts),
        connections(facts),
        disk(facts),
        clocks(facts),
        partitions(facts),
        vacuum(facts),
        replication(facts),
        backups(facts),
        jobs(facts),
        senders(facts),
        address(facts),
        instances(facts),
    ];
    found.sort_by_key(|finding| finding.level);
    found
}

fn fine(about: &'static str, says: impl Into<String>) -> Finding {
    Finding {
        level: Level::Fine,
        about,
        says: says.into(),
        todo: String::new(),
    }
}

fn bad(level: Level, about: &'static str, says: impl Into<String>, todo: impl Into<String>) -> Finding {
    Finding {
        level,
        about,
        says: says.into(),
        todo: todo.into(),
    }
}

/// Bytes as people read them: `1.5 GB`.
fn size(bytes: i64) -> String {
    #[expect(clippy::cast_precision_loss, reason = "shown with one decimal")]
    let of = |unit: i64| bytes as f64 / unit as f64;
    if bytes >= GB {
        format!("{:.1} GB", of(GB))
    } else {
        format!("{:.0} MB", of(1 << 20))
    }
}

fn version(facts: &Facts) -> Finding {
    let (major, minor) = (facts.version / 10_000, facts.version % 10_000);
    let says = format!("PostgreSQL {major}.{minor}");
    if facts.version < OLDEST {
        let todo = "run PostgreSQL 15 or later: nothing is tested on earlier ones";
        return bad(Level::Wrong, "database", format!("{says} is too old"), todo);
    }
    fine("database", format!("{says}, {}", size(facts.size)))
}

fn durability(facts: &Facts) -> Finding {
    let is = |name: &str, value: &str| facts.settings.get(name).is_some_and(|set| set == value);
    for name in ["fsync", "full_page_writes", "synchronous_commit"] {
        if is(name, "off") {
            return bad(
                Level::Wrong,
                "durability",
                format!("{name} is off: what senders were told is stored can be lost when the machine fails"),
                format!("set {name} = on"),
            );
        }
    }
    if is("autovacuum", "off") {
        let says = "autovacuum is off: tables grow without end, and statements become slow";
        return bad(Level::Wrong, "durability", says, "set autovacuum = on");
    }
    fine("durability", "what is acknowledged is on disk")
}

fn memory(facts: &Facts) -> Finding {
    let buffers = size(facts.shared_buffers);
    if facts.shared_buffers < GB / 4 && facts.size > 2 * GB {
        return bad(
            Level::Look,
            "memory of the database",
            format!("shared_buffers is {buffers} for {} of data", size(facts.size)),
            "set shared_buffers to a quarter of the machine's memory",
        );
    }
    fine("memory of the database", format!("shared_buffers is {buffers}"))
}

fn connections(facts: &Facts) -> Finding {
    let (open, most) = facts.connections;
    let says = format!("{open} of {most} connections are open");
    if open * 10 >= most * 8 {
        let todo = "raise max_connections, or find who holds them: SELECT * FROM pg_stat_activity";
        return bad(Level::Look, "connections", says, todo);
    }
    fine("connections", says)
}

fn disk(facts: &Facts) -> Finding {
    let (free, must) = facts.free;
    if let Some(why) = &facts.closed {
        let todo = "make room: `outcrop storage` says what takes it, `outcrop clean-up` what can go";
        return bad(Level::Wrong, "disk", format!("nothing is taken: {why}"), todo);
    }
    match free {
        None => bad(
            Level::Look,
            "disk",
            "the database's disk cannot be seen from here",
            "watch it yourself, and set --database-bytes so that it does not fill up",
        ),
        Some(free) if free < 3 * must => bad(
            Level::Look,
            "disk",
            format!(
                "{} are free; below {} nothing is taken any more",
                size(free),
                size(must)
            ),
            "make room, or keep less: `outcrop storage`",
        ),
        Some(free) => fine("disk", format!("{} are free", size(free))),
    }
}

fn clocks(facts: &Facts) -> Finding {
    let by = facts.clock_ahead_ms;
    let way = if by > 0 { "ahead of" } else { "behind" };
    #[expect(clippy::cast_precision_loss, reason = "shown with one decimal")]
    let seconds = by.abs() as f64 / 1_000.0;
    let says = format!("the database's clock is {seconds:.1} s {way} the service's");
    let todo = "keep both by NTP: minutes are counted by one and read by the other";
    match by.abs() {
        ms if ms >= CLOCK_MS.1 => bad(Level::Wrong, "clocks", says, todo),
        ms if ms >= CLOCK_MS.0 => bad(Level::Look, "clocks", says, todo),
        _ => fine("clocks", "the database and the service agree"),
    }
}

fn partitions(facts: &Facts) -> Finding {
    if !facts.missing.is_empty() {
        return bad(
            Level::Wrong,
            "partitions",
            format!("partitions of today or tomorrow are missing: {}", some(&facts.missing)),
            "look at the job `upkeep`, and whether the service may create tables",
        );
    }
    if !facts.overdue.is_empty() {
        return bad(
            Level::Look,
            "partitions",
            format!(
                "partitions that should be gone are still there: {}",
                some(&facts.overdue)
            ),
            "look at the job `upkeep`: it drops them once an hour",
        );
    }
    fine(
        "partitions",
        "those of today and tomorrow are there, those past their time are gone",
    )
}

fn vacuum(facts: &Facts) -> Finding {
    if facts.oldest_transaction_s >= LONG_S {
        return bad(
            Level::Look,
            "vacuum",
            format!(
                "a transaction has been open for {} minutes: no dead row is removed meanwhile",
                facts.oldest_transaction_s / 60
            ),
            "end it: SELECT pid, query, xact_start FROM pg_stat_activity ORDER BY xact_start",
        );
    }
    let is_behind = |table: &&Table| table.dead > 100_000 && table.dead * 4 > table.live;
    if let Some(table) = facts.dead.iter().find(is_behind) {
        return bad(
            Level::Look,
            "vacuum",
            format!(
                "{} holds {} dead rows beside {} live ones",
                table.name, table.dead, table.live
            ),
            format!("let autovacuum work harder, or run: VACUUM {}", table.name),
        );
    }
    fine("vacuum", "it keeps up")
}

fn replication(facts: &Facts) -> Finding {
    if let Some((name, bytes)) = facts.slots.iter().find(|(_, bytes)| *bytes > GB) {
        return bad(
            Level::Wrong,
            "replication",
            format!(
                "{} are kept for the slot {name}, which nobody reads: the disk fills up",
                size(*bytes)
            ),
            format!("start its standby, or give it up: SELECT pg_drop_replication_slot('{name}')"),
        );
    }
    fine("replication", "no slot holds the disk")
}

fn backups(facts: &Facts) -> Finding {
    if facts.settings.get("archive_mode").is_none_or(|mode| mode == "off") {
        return bad(
            Level::Look,
            "backups",
            "the database archives no WAL: it cannot be restored to a point in time",
            "see docs/guides/watch-the-installation.md; if you dump it instead, leave it so",
        );
    }
    fine("backups", "WAL is archived")
}

fn jobs(facts: &Facts) -> Finding {
    let Some((name, says)) = facts.troubles.first() else {
        return fine("jobs", "all writers and jobs do their work");
    };
    let others = match facts.troubles.len() {
        1 => String::new(),
        2 => ", and one more".to_owned(),
        n => format!(", and {} more", n - 1),
    };
    bad(
        Level::Wrong,
        "jobs",
        format!("{name}: {says}{others}"),
        "the service's log has the cause",
    )
}

fn senders(facts: &Facts) -> Finding {
    match &facts.refused {
        Some((count, why)) => bad(
            Level::Look,
            "senders",
            format!("{count} requests were refused in 15 minutes: {why}"),
            "see whose they are: `outcrop refused`",
        ),
        None => fine("senders", "nobody was refused in 15 minutes"),
    }
}

fn address(facts: &Facts) -> Finding {
    if facts.has_address {
        return fine("address", "links in notices lead here");
    }
    let says = "the installation does not know its own address: notices hold no links";
    bad(Level::Look, "address", says, "set --public-url")
}

fn instances(facts: &Facts) -> Finding {
    match facts.instances.as_slice() {
        [] => fine("instances", "this one"),
        [one] => fine("instances", format!("one, on {one}")),
        several => fine("instances", format!("{}: {}", several.len(), some(several))),
    }
}

/// The first of a list of names.
fn some(names: &[String]) -> String {
    const SHOWN: usize = 4;
    let more = names.len().saturating_sub(SHOWN);
    let shown = names.iter().take(SHOWN).cloned().collect::<Vec<_>>().join(", ");
    if more == 0 {
        shown
    } else {
        format!("{shown} and {more} more")
    }
}

#[cfg(test)]
mod tests;
