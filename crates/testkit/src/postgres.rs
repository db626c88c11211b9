//! A private PostgreSQL on loopback.

use std::io::Write as _;
use std::net::TcpListener;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::sync::OnceLock;
use std::sync::atomic::{AtomicU32, Ordering};
use std::time::{Duration, Instant};

/// Whether commits wait for the disk.
#[derive(Clone, Copy, PartialEq, Eq)]
pub enum Durability {
    /// They do: for benchmarks.
    Durable,
    /// They do not: for tests, which never cut the power.
    Volatile,
}

/// A PostgreSQL of Debian's packages in a folder of its own, on a free port of loopback. It ends with this process,
/// however that ends, and its folder goes with it. Clusters of the machine are not touched.
pub struct Postgres {
    folder: PathBuf,
    port: u16,
    durability: Durability,
    settings: &'static [&'static str],
    running: Option<Child>,
}

/// The user that PostgreSQL runs as where tests run as root, which it refuses.
const UNPRIVILEGED: &str = "postgres";
/// How long a start may take on a busy machine.
const PATIENCE: Duration = Duration::from_secs(30);

impl Postgres {
    /// Makes a cluster and starts it.
    ///
    /// # Panics
    /// When Debian's package `postgresql` is not installed, or the server does not start.
    #[must_use]
    pub fn start(durability: Durability) -> Self {
        Self::start_below(&std::env::temp_dir(), durability)
    }

    /// Like [`Postgres::start`], in a folder below another, such as a small file system.
    ///
    /// # Panics
    /// When Debian's package `postgresql` is not installed, or the server does not start.
    #[must_use]
    pub fn start_below(parent: &Path, durability: Durability) -> Self {
        Self::start_with(parent, durability, &[])
    }

    /// Like [`Postgres::start_below`], with settings of its own: `name=value`.
    ///
    /// # Panics
    /// When Debian's package `postgresql` is not installed, or the server does not start.
    #[must_use]
    pub fn start_with(parent: &Path, durability: Durability, settings: &'static [&'static str]) -> Self {
        let folder = folder(parent);
        let data = folder.join("data");
        let mut initdb = unprivileged(&program("initdb"));
        initdb
            .args([
                "--username=outcrop",
                "--auth=trust",
                "--encoding=UTF8",
                "--locale=C.UTF-8",
                "--no-sync",
                "-D",
            ])
            .arg(&data);
        run(&mut initdb);
        let mut postgres = Self {
            folder,
            port: free_port(),
            durability,
            settings,
            running: None,
        };
        postgres.resume();
        postgres
    }

    /// The cluster that the tests of one process share.
    #[must_use]
    pub fn shared() -> &'static Self {
        static SHARED: OnceLock<Postgres> = OnceLock::new();
        SHARED.get_or_init(|| Self::start(Durability::Volatile))
    }

    /// Starts a stopped server again, on the same port.
    ///
    /// # Panics
    /// When it does not start.
    pub fn resume(&mut self) {
        let data = self.folder.join("data");
        let (port, sockets) = (self.port.to_string(), self.folder.display().to_string());
        let fsync = if self.durability == Durability::Durable {
            "on"
        } else {
            "off"
        };
        let mut server = unprivileged(&program("postgres"));
        server.arg("-D").arg(&data).args(["-p", &port, "-k", &sockets]);
        for setting in [
            "listen_addresses=127.0.0.1",
            "shared_buffers=512MB",
            "max_wal_size=4GB",
            "max_connections=200",
            "log_min_messages=fatal",
            &format!("fsync={fsync}"),
        ]
        .iter()
        .chain(self.settings)
        {
            server.args(["-c", setting]);
        }
        // The shell outlives a killed test: when its standard input closes it stops the server.
        // Only the last stop removes the folder, since a test may start the server again.
        let script = "\"$@\" & server=$!; read -r order; kill -INT $server; wait $server; [ \"$order\" = keep ] || rm \
            -rf \"$FOLDER\"";
        let mut supervisor = Command::new("sh");
        supervisor
            .args(["-c", script, "sh"])
            .arg(server.get_program())
            .args(server.get_args())
            .env("FOLDER", &self.folder);
        supervisor
            .stdin(Stdio::piped())
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .current_dir("/");
        self.running = Some(supervisor.spawn().expect("sh starts"));
        let until = Instant::now() + PATIENCE;
        while std::net::TcpStream::connect(("127.0.0.1", self.port)).is_err() || !self.answers() {
            assert!(Instant::now() < until, "PostgreSQL did not start within {PATIENCE:?}");
            std::thread::sleep(Duration::from_millis(20));
        }
    }

    /// Stops the server; its data stays.
    pub fn stop(&mut self) {
        self.end("keep\n");
    }

    /// Kills the server with no chance to finish anything; its data stays. Returns once each of its processes is gone:
    /// one that lingers holds its shared memory, and the server would refuse to start.
    ///
    /// # Panics
    /// When it does not run, or a process outlives its kill.
    pub fn crash(&mut self) {
        let pid = self.pid();
        let workers = workers(pid);
        run(Command::new("kill").args(["-KILL", &pid.to_string()]));
        self.end("keep\n");
        let until = Instant::now() + PATIENCE;
        for worker in workers {
            while runs(worker) {
                // It may have ended by itself since.
                drop(Command::new("kill").args(["-KILL", &worker.to_string()]).output());
                assert!(Instant::now() < until, "process {worker} outlived its kill");
                std::thread::sleep(Duration::from_millis(5));
            }
        }
    }

    fn end(&mut self, order: &str) {
        if let Some(mut supervisor) = self.running.take() {
            if let Some(mut stdin) = supervisor.stdin.take() {
                // A supervisor that is gone already needs no order.
                drop(stdin.write_all(order.as_bytes()));
            }
            drop(supervisor.wait());
        }
    }

    fn answers(&self) -> bool {
        let ready = Command::new(program("pg_isready"))
            .args(["-q", "-h", "127.0.0.1", "-p", &self.port.to_string()])
            .status();
        ready.is_ok_and(|status| status.success())
    }

    /// Makes an empty database and returns its URL.
    ///
    /// # Panics
    /// When the server refuses.
    #[must_use]
    pub fn database(&self) -> String {
        static COUNT: AtomicU32 = AtomicU32::new(1);
        let name = format!("test{}", COUNT.fetch_add(1, Ordering::Relaxed));
        let mut create = Command::new(program("createdb"));
        run(create.args(["-h", "127.0.0.1", "-U", "outcrop", "-p", &self.port.to_string(), &name]));
        format!("postgres://outcrop@127.0.0.1:{}/{name}", self.port)
    }

    /// A second server that follows this one by streaming replication, and answers questions.
    ///
    /// # Panics
    /// When it does not start, or does not follow within half a minute.
    #[must_use]
    pub fn standby(&self) -> Self {
        let folder = folder(&std::env::temp_dir());
        let mut copy = unprivileged(&program("pg_basebackup"));
        copy.args(["-h", "127.0.0.1", "-U", "outcrop", "-p", &self.port.to_string()])
            .args([
                "--checkpoint=fast",
                "--wal-method=stream",
                "--write-recovery-conf",
                "--no-sync",
                "-D",
            ])
            .arg(folder.join("data"));
        run(&mut copy);
        let mut standby = Self {
            folder,
            port: free_port(),
            durability: self.durability,
            settings: self.settings,
            running: None,
        };
        standby.resume();
        let until = Instant::now() + PATIENCE;
        while self.ask("SELECT count(*) FROM pg_stat_replication WHERE state = 'streaming'") == "0" {
            assert!(Instant::now() < until, "the standby did not follow within {PATIENCE:?}");
            std::thread::sleep(Duration::from_millis(20));
        }
        standby
    }

    /// Has every commit wait until a standby has it on its disk.
    ///
    /// # Panics
    /// When the server refuses.
    pub fn commit_on_both(&self) {
        for statement in [
            "ALTER SYSTEM SET synchronous_standby_names = '*'",
            "SELECT pg_reload_conf()",
        ] {
            drop(self.ask(statement));
        }
    }

    /// Has a standby take the place of its primary.
    ///
    /// # Panics
    /// When it does not do so within a minute.
    pub fn promote(&self) {
        assert_eq!(self.ask("SELECT pg_promote(true, 60)"), "t");
    }

    /// The URL of the same database on this server.
    ///
    /// # Panics
    /// When the URL names none.
    #[must_use]
    pub fn url_of(&self, url: &str) -> String {
        let (_, name) = url.rsplit_once('/').expect("the URL names a database");
        format!("postgres://outcrop@127.0.0.1:{}/{name}", self.port)
    }

    /// Asks the server for one value.
    fn ask(&self, statement: &str) -> String {
        let mut psql = Command::new(program("psql"));
        psql.args(["-h", "127.0.0.1", "-U", "outcrop", "-p", &self.port.to_string()])
            .args(["-X", "-A", "-t", "-c", statement, "postgres"]);
        let output = psql.output().expect("psql starts");
        assert!(
            output.status.success(),
            "{statement}: {}",
            String::from_utf8_lossy(&output.stderr)
        );
        String::from_utf8_lossy(&output.stdout).trim().to_owned()
    }

    /// The port it listens on.
    #[must_use]
    pub const fn port(&self) -> u16 {
        self.port
    }

    /// The server's process id, for reading its use of the processor.
    ///
    /// # Panics
    /// When it does not run.
    #[must_use]
    pub fn pid(&self) -> u32 {
        let file =
            std::fs::read_to_string(self.folder.join("data/postmaster.pid")).expect("a running server has a pid file");
        file.lines()
            .next()
            .and_then(|line| line.trim().parse().ok())
            .expect("the pid file begins with the pid")
    }
}

/// The processes that `parent` has started and that have not been reaped.
fn workers(parent: u32) -> Vec<u32> {
    let folders = std::fs::read_dir("/proc").expect("Linux lists its processes");
    folders
        .filter_map(|folder| folder.ok()?.file_name().to_str()?.parse().ok())
        .filter(|pid| matches!(status(*pid), Some((_, of)) if of == parent))
        .collect()
}

/// Whether a process still holds what it held: one that waits to be reaped does not.
fn runs(pid: u32) -> bool {
    matches!(status(pid), Some((state, _)) if state != 'Z' && state != 'X')
}

/// The state of a process and the one that started it, of `/proc/PID/stat` (see `proc(5)`).
fn status(pid: u32) -> Option<(char, u32)> {
    let stat = std::fs::read_to_string(format!("/proc/{pid}/stat")).ok()?;
    // The name, in brackets, may hold anything.
    let mut fields = stat.rsplit_once(')')?.1.split_whitespace();
    Some((fields.next()?.chars().next()?, fields.next()?.parse().ok()?))
}

impl Drop for Postgres {
    fn drop(&mut self) {
        self.end("");
    }
}

/// A new folder of whoever PostgreSQL runs as.
fn folder(parent: &Path) -> PathBuf {
    let folder = tempfile::Builder::new()
        .prefix("outcrop-postgres-")
        .tempdir_in(parent)
        .expect("a temporary folder")
        .keep();
    if is_root() {
        run(Command::new("chown").arg(UNPRIVILEGED).arg(&folder));
    }
    folder
}

fn is_root() -> bool {
    let id = Command::new("id").arg("-u").output().expect("`id` runs");
    id.stdout.trim_ascii() == b"0"
}

/// The program of Debian's newest PostgreSQL.
fn program(name: &str) -> PathBuf {
    let mut releases: Vec<(u32, PathBuf)> = std::fs::read_dir("/usr/lib/postgresql")
        .map(|entries| {
            entries
                .flatten()
                .filter_map(|entry| Some((entry.file_name().to_str()?.parse().ok()?, entry.path())))
                .collect()
        })
        .unwrap_or_default();
    releases.sort();
    let (_, newest) = releases
        .pop()
        .expect("PostgreSQL's server is installed (Debian: apt-get install postgresql; script/test does it)");
    newest.join("bin").join(name)
}

fn unprivileged(program: &Path) -> Command {
    if !is_root() {
        return Command::new(program);
    }
    let mut command = Command::new("setpriv");
    command
        .args([
            &format!("--reuid={UNPRIVILEGED}"),
            &format!("--regid={UNPRIVILEGED}"),
            "--clear-groups",
        ])
        .arg(program);
    command.current_dir("/");
    command
}

fn run(command: &mut Command) {
    let output = command.output().unwrap_or_else(|error| panic!("{command:?}: {error}"));
    assert!(
        output.status.success(),
        "{command:?}: {}",
        String::from_utf8_lossy(&output.stderr)
    );
}

/// A port that nothing listened on a moment ago.
pub(crate) fn free_port() -> u16 {
    let listener = TcpListener::bind("127.0.0.1:0").expect("loopback has a free port");
    listener.local_addr().expect("a bound listener has an address").port()
}
