//! Starts the service, and stops it in order.

use std::net::TcpListener;
use std::sync::Arc;
use std::time::Duration;

use actix_web::{App, HttpServer, web};
use futures_util::future::LocalBoxFuture;
use outcrop_store::database::readers::Readers;
use outcrop_store::{Database, OpenError};
use tokio::runtime::Handle;
use tokio_util::sync::CancellationToken;

use crate::intake::{Closing, Intake};
use crate::state::State;
use crate::supervision::{Kind, Supervisor};
use crate::{Settings, jobs, routes, tls};

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
    /// It could not go on.
    #[error("the service gave up: {0}")]
    GaveUp(String),
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
// Boxed, so that the service is compiled in this crate and not anew with whatever polls it.
#[must_use]
pub fn serve(
    settings: Settings,
    listeners: Listeners,
    stop: CancellationToken,
) -> LocalBoxFuture<'static, Result<(), ServeError>> {
    Box::pin(run(settings, listeners, stop))
}

async fn run(settings: Settings, listeners: Listeners, stop: CancellationToken) -> Result<(), ServeError> {
    let database = Database::open(&settings.database_url).await?;
    let readers = Readers::new(&database, settings.read_database_url.as_deref())?;
    let supervisor = Supervisor::new(stop.clone());
    let (told, telling) = tokio::sync::mpsc::channel(LIVE_QUEUE);
    let (intake, writer) = Intake::start(&database, &settings, &told, &supervisor);
    let _closing = Closing(intake.line.clone());
    drop(told);
    // Before the first request is taken: a rule that came too late would make errors that are not.
    intake.read_rules(&database).await?;
    let (live, _) = tokio::sync::broadcast::channel(LIVE_QUEUE);
    jobs::start(
        &supervisor,
        &jobs::Service {
            database: &database,
            readers: &readers,
            settings: &settings,
            intake: &intake,
            writer: &writer,
            stop: &stop,
        },
    );
    let (db, telling) = (database.clone(), Arc::new(tokio::sync::Mutex::new(telling)));
    supervisor.keep("tell", Kind::Job, move || jobs::tell(db.clone(), telling.clone()));
    let (db, pages, stopped) = (database.clone(), live.clone(), stop.clone());
    supervisor.keep("listen", Kind::Job, move || {
        jobs::listen(db.clone(), pages.clone(), stopped.clone())
    });
    let (line, health) = (intake.line.clone(), supervisor.health().clone());
    let state = State {
        settings,
        database: database.clone(),
        readers: readers.clone(),
        intake,
        main: Handle::current(),
        live,
        health,
        stop: stop.clone(),
    };

    let presented = tls::presented(state.settings.tls.as_ref(), &supervisor)?;
    let for_main = state.clone();
    let main = HttpServer::new(move || {
        App::new()
            .app_data(web::Data::new(for_main.clone()))
            .configure(routes::everything)
    });
    let main = match &presented {
        // It adds the names of its protocols itself.
        Some(presented) => main.listen_rustls_0_23(listeners.main, presented.config(&[])?)?,
        None => main.listen(listeners.main)?,
    };
    let main = main.disable_signals().shutdown_timeout(SHUTDOWN_SECS).run();
    let mut handles = vec![main.handle()];
    let mut servers = vec![watched("the main listener", main, &supervisor)];
    if let Some(listener) = listeners.otlp_http {
        let for_otlp = state.clone();
        let otlp = HttpServer::new(move || {
            App::new()
                .app_data(web::Data::new(for_otlp.clone()))
                .configure(routes::otlp_alone)
        })
        .workers(1);
        let otlp = match &presented {
            Some(presented) => otlp.listen_rustls_0_23(listener, presented.config(&[])?)?,
            None => otlp.listen(listener)?,
        };
        let otlp = otlp.disable_signals().shutdown_timeout(SHUTDOWN_SECS).run();
        handles.push(otlp.handle());
        servers.push(watched("OTLP/HTTP", otlp, &supervisor));
    }
    if let Some(listener) = listeners.otlp_grpc {
        servers.push(watched(
            "OTLP/gRPC",
            crate::grpc::serve(listener, presented, state.clone(), stop.clone()),
            &supervisor,
        ));
    }
    drop(state);

    stop.cancelled().await;
    tracing::info!("stopping: finishing requests under way");
    let stopping = handles.iter().map(|handle| handle.stop(true));
    futures_util::future::join_all(stopping).await;
    let ended = tokio::time::timeout(
        Duration::from_secs(SHUTDOWN_SECS),
        futures_util::future::join_all(servers),
    );
    if ended.await.is_err() {
        tracing::warn!("some requests under way were not finished in time; their senders come again");
    }
    // With the handlers gone nothing more comes: the writers store what waits and end.
    line.close();
    if tokio::time::timeout(DRAIN, supervisor.ended()).await.is_err() {
        tracing::error!("not everything was stored in time; its senders were told so");
    }
    readers.close().await;
    database.close().await;
    tracing::info!("stopped");
    supervisor.gave_up().map_or(Ok(()), |why| Err(ServeError::GaveUp(why)))
}

/// Runs a listener. One that ends before it is told to ends the service: nobody would be heard there.
fn watched(
    what: &'static str,
    listener: impl Future<Output = Result<(), std::io::Error>> + Send + 'static,
    supervisor: &Supervisor,
) -> tokio::task::JoinHandle<()> {
    let supervisor = supervisor.clone();
    tokio::spawn(async move {
        let ended = listener.await;
        if !supervisor.is_stopping() {
            let why = ended
                .err()
                .map_or_else(|| "it ended by itself".to_owned(), |error| error.to_string());
            supervisor.give_up(format!("{what}: {why}"));
        }
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn a_listener_that_ends_by_itself_ends_the_service_and_one_that_was_told_to_does_not() {
        for (ended, said) in [
            (Ok(()), Some("OTLP/gRPC: it ended by itself")),
            (
                Err(std::io::Error::other("no more sockets")),
                Some("OTLP/gRPC: no more sockets"),
            ),
        ] {
            let stop = CancellationToken::new();
            let supervisor = Supervisor::new(stop.clone());
            watched("OTLP/gRPC", async { ended }, &supervisor).await.unwrap();
            assert!(stop.is_cancelled());
            assert_eq!(supervisor.gave_up().as_deref(), said);
        }
        let stop = CancellationToken::new();
        let supervisor = Supervisor::new(stop.clone());
        stop.cancel();
        watched("the main listener", async { Ok(()) }, &supervisor)
            .await
            .unwrap();
        assert_eq!(supervisor.gave_up(), None);
    }
}
