//! Two database servers and two instances of the service: a standby reads, and takes the primary's place.

use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, RwLock};
use std::time::Duration;

use outcrop_testkit::{Durability, Postgres, Running, Service};

use crate::outage::{counted, report, until_acknowledged};

fn service(database: &str) -> Service {
    Service::new(env!("CARGO_BIN_EXE_outcrop"), database)
}

async fn read(running: &Running, path: &str) -> (u16, Option<String>) {
    let http = reqwest::Client::new();
    let asked = http.get(format!("{}{path}", running.url)).bearer_auth(&running.token);
    let answer = asked.send().await.unwrap();
    let behind = answer.headers().get("outcrop-behind");
    let behind = behind.map(|behind| behind.to_str().unwrap().to_owned());
    (answer.status().as_u16(), behind)
}

#[tokio::test(flavor = "multi_thread")]
async fn the_primary_is_killed_under_load_and_its_standby_takes_over_with_all_that_was_acknowledged() {
    let mut primary = Postgres::start(Durability::Volatile);
    let url = primary.database();
    let standby = primary.standby();
    primary.commit_on_both();
    let other = standby.url_of(&url);
    let options = ["--read-database-url", &other];
    let one = service(&url).start_with(&options).await;
    let two = service(&url).start_with(&options).await;

    let urls = Arc::new(RwLock::new([one.url.clone(), two.url.clone()]));
    let stop = Arc::new(AtomicBool::new(false));
    let acknowledged = Arc::new(AtomicU64::new(0));
    let senders: Vec<_> = (0..4_u64)
        .map(|sender| {
            let (key, urls, stop, acknowledged) = (one.key.clone(), urls.clone(), stop.clone(), acknowledged.clone());
            tokio::spawn(async move {
                let http = reqwest::Client::new();
                let mut number = 0;
                while !stop.load(Ordering::Relaxed) {
                    number += 1;
                    // To the other instance, where the first one does not take it.
                    let url = |turn: usize| urls.read().unwrap()[turn % 2].clone();
                    until_acknowledged(&http, &report(sender, number), &key, url).await;
                    acknowledged.fetch_add(5, Ordering::Relaxed);
                }
            })
        })
        .collect();
    let wait_for = async |more: u64| {
        let before = acknowledged.load(Ordering::Relaxed);
        while acknowledged.load(Ordering::Relaxed) < before + more {
            tokio::time::sleep(Duration::from_millis(5)).await;
        }
    };
    wait_for(300).await;
    // Both answer from the standby, with what the other one took.
    for running in [&one, &two] {
        assert_eq!(read(running, "/api/v1/errors").await, (200, None));
    }

    primary.crash();
    // Nobody can be told that anything is stored; what is there is still read, and said to be old.
    let (status, behind) = read(&one, "/api/v1/errors").await;
    assert_eq!(status, 200);
    assert!(behind.is_some());
    let said = one.client(&["errors"]);
    let note = String::from_utf8_lossy(&said.stderr).into_owned();
    assert!(said.status.success() && note.contains("a standby answered"), "{note}");

    standby.promote();
    drop((one, two));
    let one = service(&other).start().await;
    let two = service(&other).start().await;
    *urls.write().unwrap() = [one.url.clone(), two.url.clone()];
    wait_for(300).await;
    stop.store(true, Ordering::Relaxed);
    futures_util::future::join_all(senders).await;
    let sent = acknowledged.load(Ordering::Relaxed);
    assert!(sent > 600);
    assert_eq!(counted(&two).await, sent);
    assert_eq!(read(&one, "/api/v1/errors").await, (200, None));
}
