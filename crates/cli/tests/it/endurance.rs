//! Machines that fail again and again, each with senders that repeat until they are told that it is
//! stored: at the end sent = stored = counted. The short forms run with every test;
//! `script/test-long` runs the long ones and prints what they saw.

use std::path::{Path, PathBuf};
use std::process::Command;
use std::sync::atomic::{AtomicBool, AtomicU64, AtomicUsize, Ordering};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

use outcrop_testkit::{Durability, Postgres, Running, Service};
use tokio::net::{TcpListener, TcpStream};
use tokio::task::{AbortHandle, JoinHandle};

use crate::faults::{counted_of_all, is_ready, load, report, until_more};

const BINARY: &str = env!("CARGO_BIN_EXE_outcrop");

/// Senders under way, and what they were told is stored.
struct Load {
    stop: Arc<AtomicBool>,
    acknowledged: Arc<AtomicU64>,
    senders: Vec<JoinHandle<()>>,
}

impl Load {
    fn start(urls: &[String], key: &str) -> Self {
        let (stop, acknowledged) = (Arc::new(AtomicBool::new(false)), Arc::new(AtomicU64::new(0)));
        let senders = load(urls, key, &stop, &acknowledged);
        Self {
            stop,
            acknowledged,
            senders,
        }
    }

    async fn more(&self, count: u64) {
        until_more(&self.acknowledged, count).await;
    }

    /// Lets the senders finish, and holds what they were told against what is counted.
    async fn end(self, running: &Running, what: &str) {
        self.more(50).await;
        self.stop.store(true, Ordering::Relaxed);
        futures_util::future::join_all(self.senders).await;
        let acknowledged = self.acknowledged.load(Ordering::Relaxed);
        let stored: u64 = running.service().row("SELECT count(*) AS n FROM occurrence").await[0]
            .as_ref()
            .unwrap()
            .parse()
            .unwrap();
        let counted = counted_of_all(running).await;
        eprintln!("{what}: {acknowledged} acknowledged, {stored} stored, {counted} counted");
        assert_eq!((acknowledged, acknowledged), (stored, counted), "{what}");
        assert!(is_ready(running).await, "{what}");
    }
}

/// A plain TCP proxy on loopback: hands connections round to its targets, passing over those that
/// refuse, and cuts them on demand.
struct Proxy {
    port: u16,
    open: Arc<Mutex<Vec<AbortHandle>>>,
}

impl Proxy {
    async fn start(targets: Vec<String>) -> Self {
        let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
        let port = listener.local_addr().unwrap().port();
        let open: Arc<Mutex<Vec<AbortHandle>>> = Arc::default();
        let (held, next) = (open.clone(), AtomicUsize::new(0));
        tokio::spawn(async move {
            while let Ok((mut from, _)) = listener.accept().await {
                let first = next.fetch_add(1, Ordering::Relaxed);
                let order: Vec<String> = (0..targets.len())
                    .map(|at| targets[(first + at) % targets.len()].clone())
                    .collect();
                let passing = tokio::spawn(async move {
                    for target in order {
                        if let Ok(mut to) = TcpStream::connect(&target).await {
                            drop(tokio::io::copy_bidirectional(&mut from, &mut to).await);
                            return;
                        }
                    }
                });
                held.lock().unwrap().push(passing.abort_handle());
            }
        });
        Self { port, open }
    }

    /// Cuts all connections that are open.
    fn cut(&self) {
        for passing in self.open.lock().unwrap().drain(..) {
            passing.abort();
        }
    }
}

async fn cut_in_the_middle(cuts: u32) {
    let postgres = Postgres::start(Durability::Volatile);
    let proxy = Proxy::start(vec![format!("127.0.0.1:{}", postgres.port())]).await;
    let direct = postgres.database();
    let through = direct.replace(&format!(":{}/", postgres.port()), &format!(":{}/", proxy.port));
    let running = Service::new(BINARY, through).start().await;
    let load = Load::start(std::slice::from_ref(&running.url), &running.key);
    for number in 0..cuts {
        load.more(20).await;
        // At another place of a transaction each time.
        tokio::time::sleep(Duration::from_micros(u64::from(number) * 777 % 9_000)).await;
        proxy.cut();
    }
    running.wait_until_ready().await;
    load.end(&running, &format!("connections to the database cut {cuts} times"))
        .await;
}

#[tokio::test(flavor = "multi_thread")]
async fn connections_cut_in_the_middle_of_a_transaction_lose_and_double_nothing() {
    cut_in_the_middle(15).await;
}

#[tokio::test(flavor = "multi_thread")]
#[ignore = "long: script/test-long runs it"]
async fn long_connections_cut_in_the_middle_of_a_transaction() {
    cut_in_the_middle(300).await;
}

async fn behind_a_proxy(kills: u32) {
    let service = Service::new(BINARY, Postgres::shared().database());
    let (first, mut second) = (service.start().await, service.start().await);
    let targets = [&first, &second].map(|running| running.url.trim_start_matches("http://").to_owned());
    let proxy = Proxy::start(targets.to_vec()).await;
    let load = Load::start(&[format!("http://127.0.0.1:{}", proxy.port)], &first.key);
    for _ in 0..kills {
        load.more(60).await;
        second.kill_and_restart().await;
        // Connections are kept open: without a cut all would stay with the instance that lived.
        proxy.cut();
    }
    load.end(
        &first,
        &format!("one of two instances behind a proxy killed {kills} times"),
    )
    .await;
}

#[tokio::test(flavor = "multi_thread")]
async fn one_of_two_instances_behind_a_plain_proxy_may_be_killed() {
    behind_a_proxy(2).await;
}

#[tokio::test(flavor = "multi_thread")]
#[ignore = "long: script/test-long runs it"]
async fn long_one_of_two_instances_behind_a_plain_proxy_killed() {
    behind_a_proxy(20).await;
}

#[tokio::test(flavor = "multi_thread")]
#[ignore = "long: script/test-long runs it"]
async fn long_service_killed_twenty_times_under_load() {
    let mut running = Service::new(BINARY, Postgres::shared().database()).start().await;
    let load = Load::start(std::slice::from_ref(&running.url), &running.key);
    for _ in 0..20 {
        load.more(100).await;
        running.kill_and_restart().await;
    }
    load.end(&running, "the service killed 20 times").await;
}

#[tokio::test(flavor = "multi_thread")]
#[ignore = "long: script/test-long runs it"]
async fn long_database_killed_five_times_and_away_for_minutes() {
    let mut postgres = Postgres::start(Durability::Durable);
    let running = Service::new(BINARY, postgres.database()).start().await;
    let load = Load::start(std::slice::from_ref(&running.url), &running.key);
    for _ in 0..5 {
        load.more(100).await;
        postgres.crash();
        postgres.resume();
        running.wait_until_ready().await;
    }
    load.more(100).await;
    postgres.stop();
    tokio::time::sleep(Duration::from_mins(3)).await;
    postgres.resume();
    running.wait_until_ready().await;
    load.end(&running, "the database killed 5 times and away for 3 minutes")
        .await;
}

/// A small file system of its own, unmounted at the end.
struct SmallDisk(PathBuf);

impl SmallDisk {
    /// `None` where nobody may mount: tests then run without root.
    fn mount(size: &str) -> Option<Self> {
        let folder = tempfile::Builder::new()
            .prefix("outcrop-disk-")
            .tempdir()
            .unwrap()
            .keep();
        let mounted = Command::new("mount")
            .args(["-t", "tmpfs", "-o", &format!("size={size},mode=0777"), "tmpfs"])
            .arg(&folder)
            .output()
            .unwrap();
        mounted.status.success().then_some(Self(folder))
    }

    /// Takes room until so many megabytes are left.
    fn fill_but(&self, name: &str, left: u64) {
        let said = Command::new("df")
            .args(["--output=avail", "-BM"])
            .arg(&self.0)
            .output()
            .unwrap();
        let said = String::from_utf8_lossy(&said.stdout).into_owned();
        let free: u64 = said
            .lines()
            .last()
            .unwrap()
            .trim()
            .trim_end_matches('M')
            .parse()
            .unwrap();
        let megabytes = if left == 0 {
            free + 100
        } else {
            free.saturating_sub(left)
        };
        let into = format!("of={}", self.0.join(name).display());
        drop(
            Command::new("dd")
                .args(["if=/dev/zero", &into, "bs=1M", &format!("count={megabytes}")])
                .output()
                .unwrap(),
        );
    }

    fn free(&self, name: &str) {
        std::fs::remove_file(self.0.join(name)).unwrap();
    }
}

impl Drop for SmallDisk {
    fn drop(&mut self) {
        drop(Command::new("umount").arg("--lazy").arg(&self.0).output());
        drop(std::fs::remove_dir(&self.0));
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_disk_that_fills_up_closes_the_intake_before_it_is_full_and_opens_it_again() {
    let Some(disk) = SmallDisk::mount("700m") else {
        eprintln!("not run: mounting a small file system needs root");
        return;
    };
    let mut postgres = Postgres::start_below(&disk.0, Durability::Volatile);
    let running = Service::new(BINARY, postgres.database())
        .start_with(&["--min-free", "150MiB"])
        .await;
    let load = Load::start(std::slice::from_ref(&running.url), &running.key);
    load.more(100).await;
    disk.fill_but("ballast", 100);
    let refused = until_refused(&running, &load.acknowledged).await;
    assert!(
        refused.contains("free, less than the 150 MiB that must stay"),
        "{refused}"
    );
    assert!(is_ready(&running).await, "it says so, and stays in rotation");
    disk.free("ballast");
    load.more(100).await;
    load.end(&running, "the disk nearly full").await;

    // Without the guard PostgreSQL itself runs out of room: it may go down, and nothing is
    // acknowledged that is not stored.
    let running = Service::new(BINARY, postgres.database())
        .start_with(&["--min-free", "1B"])
        .await;
    let load = Load::start(std::slice::from_ref(&running.url), &running.key);
    load.more(100).await;
    disk.fill_but("ballast", 0);
    tokio::time::sleep(Duration::from_secs(5)).await;
    disk.free("ballast");
    if running.get("/readyz").await.0 != 200 {
        postgres.stop();
        postgres.resume();
    }
    running.wait_until_ready().await;
    load.end(&running, "the disk full").await;
}

/// What a sender is told once nothing is taken.
async fn until_refused(running: &Running, acknowledged: &AtomicU64) -> String {
    let until = Instant::now() + Duration::from_secs(30);
    for number in (1_u64 << 50).. {
        let answer = running.send(&report(number)).await;
        if answer.status() == 503 {
            assert!(answer.headers().contains_key("retry-after"));
            return answer.text().await.unwrap();
        }
        assert_eq!(answer.status(), 200);
        acknowledged.fetch_add(1, Ordering::Relaxed);
        assert!(Instant::now() < until, "it is still taken");
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    unreachable!("numbers do not end")
}

#[tokio::test(flavor = "multi_thread")]
#[ignore = "long: script/test-long runs it, with Debian's package faketime"]
async fn long_host_clock_forty_days_ahead_removes_nothing() {
    let library = ["/usr/lib/x86_64-linux-gnu", "/usr/lib/aarch64-linux-gnu"]
        .map(|folder| Path::new(folder).join("faketime/libfaketime.so.1"));
    let library = library
        .iter()
        .find(|path| path.exists())
        .expect("faketime is installed (script/test-long does it)");
    let mut running = Service::new(BINARY, Postgres::shared().database()).start().await;
    for number in 0..200 {
        assert_eq!(running.send(&report(number)).await.status(), 200);
    }
    let preload = library.display().to_string();
    running
        .restart_with(&[
            ("LD_PRELOAD", &preload),
            ("FAKETIME", "+40d"),
            ("FAKETIME_DONT_FAKE_MONOTONIC", "1"),
        ])
        .await;
    // Upkeep runs at once and each minute.
    tokio::time::sleep(Duration::from_secs(70)).await;
    assert_eq!(counted_of_all(&running).await, 200);
    let (_, now) = running.get("/api/v1/now").await;
    assert!(
        now["troubles"].to_string().contains("retention"),
        "it says that nothing is removed: {}",
        now["troubles"]
    );
    running.restart_with(&[]).await;
    assert_eq!(running.send(&report(1 << 40)).await.status(), 200);
    assert_eq!(counted_of_all(&running).await, 201);
    eprintln!("the host's clock 40 days ahead: 200 acknowledged, all kept");
}
