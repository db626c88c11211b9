//! Occurrences per second, committed to disk: the service against one connection that does nothing but COPY.

use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::{Duration, Instant};

use outcrop_testkit::{Durability, Postgres, Service};

use crate::floor::{Floor, Way};
use crate::measured::{Measured, print};
use crate::processor;
use crate::requests::{Load, PER_REQUEST, SENDERS};
use crate::results;

pub struct Options {
    pub load: Load,
    /// OTLP/gRPC rather than OTLP/HTTP.
    pub grpc: bool,
    pub prefill: u64,
    pub rounds: usize,
    pub seconds: u64,
}

pub async fn run(binary: &str, options: Options) {
    let Options {
        load,
        grpc,
        prefill,
        rounds,
        seconds,
    } = options;
    let postgres = Postgres::start(Durability::Durable);
    let floor_url = postgres.database();
    let mut floor = Floor::new(&floor_url, load).await;
    println!("reference table: {prefill} rows first");
    floor.fill(prefill).await;
    let port = std::net::TcpListener::bind("127.0.0.1:0")
        .and_then(|free| free.local_addr())
        .expect("a free port")
        .port();
    let service = Service::new(binary, postgres.database())
        .start_with(&["--otlp-grpc", &format!("127.0.0.1:{port}")])
        .await;
    let url = if grpc {
        format!("http://127.0.0.1:{port}")
    } else {
        service.url.clone()
    };
    let way = Way { load, grpc, url };
    let number = Arc::new(AtomicU64::new(1));
    product(&postgres, &service, &way, &number, 2).await;
    println!("fsync of one commit: {:.2} ms", floor.commit_millis().await);
    println!(
        "{:<8} {:>10} {:>14} {:>14}",
        "", "rows/s", "database µs/row", "client µs/row"
    );
    let (mut ratios, mut rates) = (vec![], vec![]);
    for _ in 0..rounds {
        let of_floor = floor.measure(&postgres, seconds).await;
        print("floor", &of_floor);
        let of_product = product(&postgres, &service, &way, &number, seconds).await;
        print("product", &of_product);
        ratios.push(of_product.rate / of_floor.rate);
        rates.push(of_product.rate);
    }
    ratios.sort_by(f64::total_cmp);
    rates.sort_by(f64::total_cmp);
    let (median, rate) = (ratios[ratios.len() / 2], rates[rates.len() / 2]);
    results::rate(&format!("{} taken", load.name()), rate, rate / median, "rows/s");
    println!(
        "ratio {median:.2} (median of {rounds}, {:.2} to {:.2}); aim {}",
        ratios[0],
        ratios[ratios.len() - 1],
        load.aim()
    );
    println!("the product's client µs/row are the service's; the senders' own come on top and share the cores");
}

async fn product(
    postgres: &Postgres,
    service: &outcrop_testkit::Running,
    way: &Way,
    number: &Arc<AtomicU64>,
    seconds: u64,
) -> Measured {
    let before = (processor::micros(postgres.pid()), processor::micros(service.pid()));
    let start = Instant::now();
    let until = start + Duration::from_secs(seconds);
    let rows = Arc::new(AtomicU64::new(0));
    let senders: Vec<_> = (0..SENDERS)
        .map(|_| {
            let (number, rows) = (number.clone(), rows.clone());
            let (way, key) = (way.clone(), service.key.clone());
            tokio::spawn(async move {
                let http = if way.grpc {
                    reqwest::Client::builder()
                        .http2_prior_knowledge()
                        .build()
                        .expect("a client")
                } else {
                    reqwest::Client::new()
                };
                let url = format!("{}{}", way.url, way.path());
                let content = if way.grpc {
                    "application/grpc"
                } else {
                    "application/x-protobuf"
                };
                while Instant::now() < until {
                    let body = way.body(number.fetch_add(1, Ordering::Relaxed));
                    let sent = http
                        .post(&url)
                        .bearer_auth(&key)
                        .header("content-type", content)
                        .header("te", "trailers")
                        .body(body)
                        .send()
                        .await;
                    // A refusal over gRPC stands in the header of an answer without a body.
                    if sent.is_ok_and(|answer| {
                        answer.status() == 200 && answer.headers().get("grpc-status").is_none_or(|status| status == "0")
                    }) {
                        rows.fetch_add(PER_REQUEST, Ordering::Relaxed);
                    }
                }
            })
        })
        .collect();
    for sender in senders {
        sender.await.expect("a sender ends");
    }
    let rows = rows.load(Ordering::Relaxed) as f64;
    Measured {
        rate: rows / start.elapsed().as_secs_f64(),
        server_micros: (processor::micros(postgres.pid()) - before.0) / rows,
        client_micros: (processor::micros(service.pid()) - before.1) / rows,
    }
}
