//! What is looked up when somebody asks: how full things are, how jobs stand, what the process takes.

use std::sync::atomic::AtomicU64;

use prometheus_client::encoding::EncodeLabelSet;
use prometheus_client::metrics::counter::ConstCounter;
use prometheus_client::metrics::family::Family;
use prometheus_client::metrics::gauge::{ConstGauge, Gauge};
use prometheus_client::registry::{Registry, Unit};

use crate::supervision::JobStanding;

/// A gauge of a fraction.
type Real = Gauge<f64, AtomicU64>;

#[derive(Clone, Debug, PartialEq, Eq, Hash, EncodeLabelSet)]
struct Name {
    name: String,
}

#[derive(Clone, Debug, PartialEq, Eq, Hash, EncodeLabelSet)]
struct OfPool {
    pool: &'static str,
    state: &'static str,
}

/// Connections of a pool.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Pool {
    /// What it is for.
    pub name: &'static str,
    /// Open connections.
    pub open: u32,
    /// Those among them that nobody uses.
    pub idle: u32,
}

/// What the process takes of the machine.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub(crate) struct Process {
    /// Resident memory, in bytes.
    pub resident_bytes: u64,
    /// Processor time of all threads, in seconds.
    pub cpu_seconds: f64,
    /// Open file descriptors.
    pub open_files: u64,
}

/// What is so when it is asked.
#[derive(Debug, Default)]
pub(crate) struct Asked {
    /// Requests that wait for a writer.
    pub waiting: usize,
    /// Bytes of the budget that requests hold, and all of it.
    pub budget: (usize, usize),
    /// Writers and jobs.
    pub jobs: Vec<JobStanding>,
    /// Connections to the database.
    pub pools: Vec<Pool>,
    /// Bytes by kind of data; empty where the database does not answer.
    pub stored: Vec<(String, i64)>,
    /// Bytes free on the database's disk, where that can be seen.
    pub free_bytes: Option<i64>,
    /// The process; `None` where the machine does not tell.
    pub process: Option<Process>,
}

fn gauge(number: impl TryInto<i64>) -> i64 {
    number.try_into().unwrap_or(i64::MAX)
}

impl Asked {
    pub(super) fn registry(&self) -> Registry {
        let mut registry = Registry::default();
        let own = registry.sub_registry_with_prefix("outcrop");
        let version = [("version".into(), env!("CARGO_PKG_VERSION").into())];
        own.sub_registry_with_labels(version.into_iter()).register(
            "build",
            "The release that runs; always 1",
            ConstGauge::new(1_i64),
        );
        let waiting = ConstGauge::new(gauge(self.waiting));
        own.register("intake_waiting_requests", "Requests that wait for a writer", waiting);
        own.register_with_unit(
            "intake_budget_held",
            "Memory that requests hold from reading to commit",
            Unit::Bytes,
            ConstGauge::new(gauge(self.budget.0)),
        );
        own.register_with_unit(
            "intake_budget",
            "Memory that requests may hold at once",
            Unit::Bytes,
            ConstGauge::new(gauge(self.budget.1)),
        );
        self.register_jobs(own);
        let connections = Family::<OfPool, Gauge>::default();
        for pool in &self.pools {
            let of = |state| OfPool { pool: pool.name, state };
            connections.get_or_create(&of("idle")).set(pool.idle.into());
            connections
                .get_or_create(&of("used"))
                .set(pool.open.saturating_sub(pool.idle).into());
        }
        own.register("database_connections", "Connections to the database", connections);
        let stored = Family::<Name, Gauge>::default();
        for (name, bytes) in &self.stored {
            stored.get_or_create(&Name { name: name.clone() }).set(*bytes);
        }
        own.register_with_unit("stored", "What is kept, with indexes", Unit::Bytes, stored);
        if let Some(free) = self.free_bytes {
            let free = ConstGauge::new(free);
            own.register_with_unit("database_disk_free", "Free on the database's disk", Unit::Bytes, free);
        }
        if let Some(process) = self.process {
            let resident = ConstGauge::new(gauge(process.resident_bytes));
            registry.register_with_unit("process_resident_memory", "Resident memory", Unit::Bytes, resident);
            let cpu = ConstCounter::new(process.cpu_seconds);
            registry.register_with_unit("process_cpu", "Processor time of all threads", Unit::Seconds, cpu);
            let files = ConstGauge::new(gauge(process.open_files));
            registry.register("process_open_fds", "Open file descriptors", files);
        }
        registry
    }

    fn register_jobs(&self, own: &mut Registry) {
        let (since, failures) = (Family::<Name, Real>::default(), Family::<Name, Gauge>::default());
        let restarts = Family::<Name, Gauge>::default();
        for job in &self.jobs {
            let name = Name {
                name: job.name.to_owned(),
            };
            since.get_or_create(&name).set(job.since_done.as_secs_f64());
            failures.get_or_create(&name).set(job.failures.into());
            restarts.get_or_create(&name).set(gauge(job.restarts));
        }
        own.register_with_unit(
            "job_since_done",
            "Time since a writer or job last did its work",
            Unit::Seconds,
            since,
        );
        own.register(
            "job_failures_in_a_row",
            "Failures of a writer or job since it last did its work",
            failures,
        );
        own.register("job_restarts", "How often a writer or job was started again", restarts);
    }
}

impl Process {
    /// Reads it from what Linux says of this process; `None` elsewhere.
    pub(crate) fn read() -> Option<Self> {
        let file = |name: &str| std::fs::read_to_string(format!("/proc/self/{name}")).ok();
        let open_files = std::fs::read_dir("/proc/self/fd").ok()?.count();
        let told = Self::told(&file("status")?, &file("stat")?)?;
        Some(Self {
            open_files: open_files as u64,
            ..told
        })
    }

    /// Reads it from the texts of `/proc/self/status` and `/proc/self/stat` (proc(5)).
    fn told(status: &str, stat: &str) -> Option<Self> {
        let resident = status.lines().find_map(|line| line.strip_prefix("VmRSS:"))?;
        let kilobytes: u64 = resident.trim().strip_suffix("kB")?.trim().parse().ok()?;
        // The name in brackets may hold anything; after it, utime and stime are the 12th and 13th.
        let (_, after) = stat.rsplit_once(')')?;
        let mut ticks = after.split_whitespace().skip(11).map(str::parse::<f64>);
        let ticks = ticks.next()?.ok()? + ticks.next()?.ok()?;
        Some(Self {
            resident_bytes: kilobytes * 1_024,
            // USER_HZ, which Linux shows to programs, is 100 on every machine.
            cpu_seconds: ticks / 100.0,
            open_files: 0,
        })
    }
}

#[cfg(test)]
mod tests {
    use std::time::Duration;

    use super::*;

    #[test]
    fn a_process_is_read_from_what_linux_says() {
        let status = "Name:\toutcrop\nVmPeak:\t  900 kB\nVmRSS:\t   512 kB\n";
        let stat = "71 (out) crop) S 1 71 71 0 -1 4194560 100 0 0 0 150 50 0 0 20 0 9 0 1 2 3";
        let told = Process::told(status, stat).unwrap();
        assert_eq!((told.resident_bytes, told.cpu_seconds), (524_288, 2.0));
        assert_eq!(Process::told("", stat), None);
        assert!(Process::read().is_some_and(|process| process.open_files > 0 && process.resident_bytes > 0));
    }

    #[test]
    fn what_is_asked_is_written_with_its_units() {
        let asked = Asked {
            waiting: 3,
            budget: (10, 100),
            jobs: vec![JobStanding {
                name: "flags",
                since_done: Duration::from_millis(1_500),
                failures: 2,
                restarts: 1,
            }],
            pools: vec![Pool {
                name: "reading",
                open: 5,
                idle: 2,
            }],
            stored: vec![("log lines".to_owned(), 8_192)],
            free_bytes: None,
            process: Some(Process {
                resident_bytes: 9,
                cpu_seconds: 0.5,
                open_files: 4,
            }),
        };
        let text = super::super::Meters::default().written(&asked);
        for line in [
            "outcrop_intake_waiting_requests 3",
            "outcrop_intake_budget_held_bytes 10",
            "outcrop_job_since_done_seconds{name=\"flags\"} 1.5",
            "outcrop_job_failures_in_a_row{name=\"flags\"} 2",
            "outcrop_database_connections{pool=\"reading\",state=\"used\"} 3",
            "outcrop_stored_bytes{name=\"log lines\"} 8192",
            "process_resident_memory_bytes 9",
            "process_cpu_seconds_total 0.5",
        ] {
            assert!(text.lines().any(|one| one == line), "no {line} in\n{text}");
        }
        assert!(!text.contains("disk_free"), "what is not known has no line");
    }
}
