use std::net::TcpListener;
use std::time::Duration;

use actix_web::{App, HttpServer, web};
use outcrop_store::{Database, OpenError};
use tokio::runtime::Handle;
use tokio_util::sync::CancellationToken;

use crate::intake::Intake;
use crate::state::State;
use crate::{Settings, background, routes};

/// Where the service listens.
pub struct Listeners {
    /// API, console and OTLP/HTTP.
    pub main: TcpListener,
    /// OTLP/HTTP alone, on the port that SDKs try by default.
    pub otlp_http: Option<TcpListener>,
    /// OTLP/gRPC, likewise.
    pub otlp_grpc: Option<TcpListener>,
}

/// Why the service could not run.
#[derive(Debug, thiserror::Error)]
pub enum ServeError {
    /// The database.
    #[error(transparent)]
    Open(#[from] OpenError),
    /// The grouping rules could not be read.
    #[error(transparent)]
    Rules(#[from] outcrop_store::StoreError),
    /// A listener could not be used.
    #[error("cannot serve: {0}")]
    Listen(#[from] std::io::Error),
}

/// How long requests under way may take once the service is told to stop, in seconds.
const SHUTDOWN_SECS: u64 = 30;
/// Messages about commits that wait for a slow reader before it misses some.
const LIVE_QUEUE: usize = 256;
/// How long the writers may take to drain after that.
const DRAIN: Duration = Duration::from_secs(30);

/// Runs the service until `stop` is cancelled: takes no new requests, finishes those under way, commits what is queued.
///
/// # Errors
/// [`ServeError`] when the database or a listener cannot be used.
pub async fn serve(settings: Settings, listeners: Listeners, stop: CancellationToken) -> Result<(), ServeError> {
    let database = Database::open(&settings.database_url).await?;
    let (told, telling) = tokio::sync::mpsc::channel(LIVE_QUEUE);
    let (intake, writer, writers) = Intake::start(&database, &settings, &told);
    drop(told);
    // Before the first request is taken: a rule that came too late would make errors that are not.
    intake.read_rules(&database).await?;
    let (live, _) = tokio::sync::broadcast::channel(LIVE_QUEUE);
    let background = [
        tokio::spawn(background::upkeep(database.clone(), writer.clone(), settings.hot_bytes, settings.log_days, stop.clone())),
        tokio::spawn(background::slow(database.clone(), writer, stop.clone())),
        tokio::spawn(background::flags(database.clone(), stop.clone())),
        tokio::spawn(background::fold(database.clone(), stop.clone())),
        tokio::spawn(background::quiet(database.clone(), stop.clone())),
        tokio::spawn(background::learn(database.clone(), stop.clone())),
        tokio::spawn(background::rules(intake.clone(), database.clone(), stop.clone())),
        tokio::spawn(background::notes(intake.clone(), database.clone(), stop.clone())),
        tokio::spawn(background::tell(database.clone(), telling)),
        tokio::spawn(background::listen(database.clone(), live.clone(), stop.clone())),
    ];
    let state = State { settings, database: database.clone(), intake, main: Handle::current(), live, stop: stop.clone() };

    let for_main = state.clone();
    let main = HttpServer::new(move || App::new().app_data(web::Data::new(for_main.clone())).configure(routes::everything))
        .listen(listeners.main)?
        .disable_signals()
        .shutdown_timeout(SHUTDOWN_SECS)
        .run();
    let mut handles = vec![main.handle()];
    let mut servers = vec![tokio::spawn(main)];
    if let Some(listener) = listeners.otlp_http {
        let for_otlp = state.clone();
        let otlp = HttpServer::new(move || App::new().app_data(web::Data::new(for_otlp.clone())).configure(routes::otlp_alone))
            .workers(1)
            .listen(listener)?
            .disable_signals()
            .shutdown_timeout(SHUTDOWN_SECS)
            .run();
        handles.push(otlp.handle());
        servers.push(tokio::spawn(otlp));
    }
    let grpc = listeners.otlp_grpc.map(|listener| tokio::spawn(crate::grpc::serve(listener, state.clone(), stop.clone())));
    drop(state);

    stop.cancelled().await;
    tracing::info!("stopping: finishing requests under way");
    for handle in handles {
        handle.stop(true).await;
    }
    for server in servers {
        finished("a listener", server.await.map(drop).map_err(|error| error.to_string()));
    }
    if let Some(grpc) = grpc {
        let ended = tokio::time::timeout(Duration::from_secs(SHUTDOWN_SECS), grpc).await;
        finished("OTLP/gRPC", ended.map(drop).map_err(|error| error.to_string()));
    }
    // With the handlers gone the queue has no sender left: the writers drain it and end.
    let drained = tokio::time::timeout(DRAIN, async {
        for writer in writers {
            finished("a writer", writer.await.map_err(|error| error.to_string()));
        }
        for task in background {
            finished("background work", task.await.map_err(|error| error.to_string()));
        }
    });
    if drained.await.is_err() {
        tracing::error!("not everything was stored in time; its senders were told so");
    }
    database.close().await;
    tracing::info!("stopped");
    Ok(())
}

fn finished(what: &str, ended: Result<(), String>) {
    if let Err(error) = ended {
        tracing::error!(%error, "{what} ended badly");
    }
}
