//! `outcrop serve`: the service.

use outcrop_server::{Listeners, serve};
use tokio::signal::unix::{SignalKind, signal};
use tokio_util::sync::CancellationToken;
use tracing_subscriber::EnvFilter;

use crate::fault::Fault;
use crate::settings;
use crate::settings::{LogFormat, Resolved, Serve};

/// Runs the service until SIGTERM or SIGINT.
pub async fn run(arguments: Box<Serve>) -> Result<(), Fault> {
    let Resolved {
        settings,
        listen,
        otlp_http,
        otlp_grpc,
        log,
        log_format,
    } = settings::resolve(*arguments)?;
    let filter = EnvFilter::try_new(&log).map_err(|error| Fault::Usage(format!("--log {log}: {error}")))?;
    let lines = tracing_subscriber::fmt()
        .with_env_filter(filter)
        .with_writer(std::io::stderr);
    match log_format {
        LogFormat::Text => lines.init(),
        LogFormat::Json => lines.json().flatten_event(true).init(),
    }
    let main = settings::listen("listen", &listen)?;
    let otlp = otlp_http
        .as_deref()
        .map(|address| settings::listen("otlp-http", address))
        .transpose()?;
    let grpc = otlp_grpc
        .as_deref()
        .map(|address| settings::listen("otlp-grpc", address))
        .transpose()?;
    let address = main.local_addr()?;
    tracing::info!(%address, "API and OTLP/HTTP");
    if let Some(otlp) = &otlp {
        tracing::info!(address = %otlp.local_addr()?, "OTLP/HTTP");
    }
    if let Some(grpc) = &grpc {
        tracing::info!(address = %grpc.local_addr()?, "OTLP/gRPC");
    }
    let stop = CancellationToken::new();
    tokio::spawn(stop_on_signal(stop.clone()));
    serve(
        settings,
        Listeners {
            main,
            otlp_http: otlp,
            otlp_grpc: grpc,
        },
        stop,
    )
    .await
    .map_err(|error| Fault::Refused(error.to_string()))
}

pub async fn stop_on_signal(stop: CancellationToken) {
    let (Ok(mut terminate), Ok(mut interrupt)) = (signal(SignalKind::terminate()), signal(SignalKind::interrupt()))
    else {
        tracing::error!("signals cannot be watched; stop the process with SIGKILL");
        return;
    };
    tokio::select! {
        _ = terminate.recv() => {}
        _ = interrupt.recv() => {}
    }
    stop.cancel();
}
