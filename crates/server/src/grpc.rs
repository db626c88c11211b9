//! OTLP over gRPC: its frames are read here, and the messages go the way of OTLP/HTTP.
//!
//! tonic serves connections and streams. Its codec is left out on purpose: it reads and inflates a
//! whole message, on the runtime's threads, before anybody knows who sent it. Here the key is
//! looked at first, a message is read against the budget, and it is inflated where all bodies are.

use std::convert::Infallible;
use std::future::Future;
use std::net::SocketAddr;
use std::pin::Pin;
use std::sync::Arc;
use std::task::{Context, Poll};
use std::time::{Duration, Instant};

use bytes::{BufMut, Bytes, BytesMut};
use futures_util::{StreamExt, stream};
use http_body_util::{BodyExt, Full};
use outcrop_otlp::{Encoding, Signal, StatusCode, export_answer, retry_details};
use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};
use tokio::net::TcpStream;
use tokio::sync::{OwnedSemaphorePermit, Semaphore};
use tokio_rustls::TlsAcceptor;
use tokio_rustls::server::TlsStream;
use tokio_util::either::Either;
use tokio_util::sync::CancellationToken;
use tonic::body::Body;
use tonic::codegen::{Service, http};
use tonic::server::NamedService;
use tonic::transport::Server;
use tonic::transport::server::{Connected, TcpConnectInfo};
use tonic::{Code, Status};

use crate::intake::{BodyError, Coding, Held, Origin, READ_WITHIN};
use crate::receive;
use crate::receive::{Came, Refusal, Sender, authenticate, note, take};
use crate::state::State;
use crate::tls::Presented;

/// Connections at once: each sender keeps one. Those past it wait to be accepted.
const MAX_CONNECTIONS: usize = 2_048;
/// Calls at once on a connection: an exporter has one under way, a collector a few.
const MAX_STREAMS: u32 = 64;
/// How long to wait after a connection could not be accepted.
const ACCEPT_AGAIN: Duration = Duration::from_millis(50);
/// How often a silent connection is asked whether the other side is still there, and how long it may take to answer.
const ALIVE_EVERY: Duration = Duration::from_mins(1);
const ALIVE_WITHIN: Duration = Duration::from_secs(20);
/// What stands before a message: whether it is compressed, and its length (gRPC over HTTP2, "Length-Prefixed-Message").
const PREFIX: usize = 5;

/// Serves the three export services until cancelled; calls under way are finished.
pub(crate) async fn serve(
    listener: std::net::TcpListener,
    presented: Option<Arc<Presented>>,
    state: State,
    stop: CancellationToken,
) -> Result<(), std::io::Error> {
    let config = presented.map(|presented| presented.config(&["h2"])).transpose()?;
    let acceptor = config.map(|config| TlsAcceptor::from(Arc::new(config)));
    listener.set_nonblocking(true)?;
    let listener = tokio::net::TcpListener::from_std(listener)?;
    let places = Arc::new(Semaphore::new(MAX_CONNECTIONS));
    let incoming = stream::unfold((listener, places), |(listener, places)| async move {
        let place = places.clone().acquire_owned().await.ok()?;
        let accepted = listener.accept().await.map(|(stream, _)| (stream, place));
        if accepted.is_err() {
            // No socket was free: asked again at once it would answer the same.
            tokio::time::sleep(ACCEPT_AGAIN).await;
        }
        Some((accepted, (listener, places)))
    });
    // Who does not come to an agreement in time is let go; the others do not wait for that.
    let incoming = incoming
        .map(move |accepted| connected(accepted, acceptor.clone()))
        .buffer_unordered(MAX_CONNECTIONS)
        .filter_map(|connection| async { connection.transpose() });
    Server::builder()
        .max_concurrent_streams(MAX_STREAMS)
        .http2_keepalive_interval(Some(ALIVE_EVERY))
        .http2_keepalive_timeout(Some(ALIVE_WITHIN))
        .add_service(Export::<TRACES> { state: state.clone() })
        .add_service(Export::<LOGS> { state: state.clone() })
        .add_service(Export::<METRICS> { state })
        .serve_with_incoming_shutdown(incoming.boxed(), stop.cancelled_owned())
        .await
        .map_err(std::io::Error::other)
}

/// How long the two sides have to agree on how they encrypt.
const AGREED_WITHIN: Duration = Duration::from_secs(10);

/// A connection that came, encrypted where the service does; nothing where the other side does not.
async fn connected(
    accepted: std::io::Result<(TcpStream, OwnedSemaphorePermit)>,
    acceptor: Option<TlsAcceptor>,
) -> std::io::Result<Option<Connection>> {
    let (stream, place) = accepted?;
    let info = stream.connect_info();
    let stream = match acceptor {
        None => Either::Left(stream),
        Some(acceptor) => match tokio::time::timeout(AGREED_WITHIN, acceptor.accept(stream)).await {
            Ok(Ok(stream)) => Either::Right(Box::new(stream)),
            Ok(Err(_)) | Err(_) => return Ok(None),
        },
    };
    Ok(Some(Connection {
        stream,
        info,
        _place: place,
    }))
}

/// A connection, and its place among those that are open.
struct Connection {
    stream: Either<TcpStream, Box<TlsStream<TcpStream>>>,
    info: TcpConnectInfo,
    _place: OwnedSemaphorePermit,
}

impl Connected for Connection {
    type ConnectInfo = TcpConnectInfo;

    fn connect_info(&self) -> TcpConnectInfo {
        self.info.clone()
    }
}

impl AsyncRead for Connection {
    fn poll_read(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
        buffer: &mut ReadBuf<'_>,
    ) -> Poll<std::io::Result<()>> {
        Pin::new(&mut self.stream).poll_read(context, buffer)
    }
}

impl AsyncWrite for Connection {
    fn poll_write(mut self: Pin<&mut Self>, context: &mut Context<'_>, bytes: &[u8]) -> Poll<std::io::Result<usize>> {
        Pin::new(&mut self.stream).poll_write(context, bytes)
    }

    fn poll_flush(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<std::io::Result<()>> {
        Pin::new(&mut self.stream).poll_flush(context)
    }

    fn poll_shutdown(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<std::io::Result<()>> {
        Pin::new(&mut self.stream).poll_shutdown(context)
    }
}

const TRACES: u8 = 0;
const LOGS: u8 = 1;
const METRICS: u8 = 2;

/// One export service of OTLP.
#[derive(Clone)]
struct Export<const SIGNAL: u8> {
    state: State,
}

impl NamedService for Export<TRACES> {
    const NAME: &'static str = "opentelemetry.proto.collector.trace.v1.TraceService";
}

impl NamedService for Export<LOGS> {
    const NAME: &'static str = "opentelemetry.proto.collector.logs.v1.LogsService";
}

impl NamedService for Export<METRICS> {
    const NAME: &'static str = "opentelemetry.proto.collector.metrics.v1.MetricsService";
}

impl<const SIGNAL: u8> Service<http::Request<Body>> for Export<SIGNAL> {
    type Response = http::Response<Body>;
    type Error = Infallible;
    type Future = Pin<Box<dyn Future<Output = Result<Self::Response, Infallible>> + Send>>;

    fn poll_ready(&mut self, _: &mut Context<'_>) -> Poll<Result<(), Infallible>> {
        Poll::Ready(Ok(()))
    }

    fn call(&mut self, request: http::Request<Body>) -> Self::Future {
        let state = self.state.clone();
        let signal = match SIGNAL {
            TRACES => Signal::Traces,
            LOGS => Signal::Logs,
            _ => Signal::Metrics,
        };
        Box::pin(async move {
            if !request.uri().path().ends_with("/Export") {
                return Ok(Status::unimplemented("only Export is served here").into_http());
            }
            Ok(export(signal, request, &state).await.unwrap_or_else(Status::into_http))
        })
    }
}

/// Takes a message; nothing of it is read before its sender is known.
async fn export(signal: Signal, request: http::Request<Body>, state: &State) -> Result<http::Response<Body>, Status> {
    let (parts, body) = request.into_parts();
    let header = |name: &str| parts.headers.get(name).and_then(|value| value.to_str().ok());
    let coding = Coding::of_header(header("grpc-encoding"))
        .ok_or_else(|| Status::unimplemented("this grpc-encoding is not known; send gzip, zstd, deflate or none"))?;
    let origin = origin(&parts, signal);
    let mut came = Came {
        signal: signal.name(),
        is_grpc: true,
        bytes: 0,
        since: Instant::now(),
    };
    let sender = authenticate(state, header("authorization").and_then(crate::access::bearer_of)).await;
    let of_key = sender.as_ref().ok().cloned();
    let exported = async {
        let sender = sender?;
        let reading = read(body, coding, state.settings.max_inflated_bytes, &sender, state);
        let read = tokio::time::timeout(READ_WITHIN, reading).await;
        let (message, coding, held) = read.unwrap_or(Err(BodyError::TooSlow(READ_WITHIN)))?;
        came.bytes = message.len();
        let body = receive::Body {
            signal,
            encoding: Encoding::Protobuf,
            coding,
            bytes: message,
            held,
        };
        take(body, sender, state).await
    };
    let exported = exported.await;
    note(state, &origin, of_key.as_ref(), &came, &exported);
    match exported {
        Ok(refused) => Ok(answer(&export_answer(signal, Encoding::Protobuf, &refused))),
        Err(refusal) => {
            tracing::debug!(%refusal, signal = signal.name(), "a gRPC request was refused");
            Err(status(&refusal))
        }
    }
}

/// Reads the one message of a call, taking budget as it comes. Returns it as it was sent, and how it is coded.
async fn read(
    mut body: Body,
    coding: Coding,
    max: usize,
    sender: &Sender,
    state: &State,
) -> Result<(Bytes, Coding, Held), BodyError> {
    let mut held = state.intake.budget.take(sender.digest, PREFIX).await?;
    let mut message = BytesMut::new();
    let mut length: Option<usize> = None;
    while let Some(frame) = body.frame().await {
        let frame = frame.map_err(|error| BodyError::Broken(error.to_string()))?;
        let Ok(data) = frame.into_data() else { continue };
        held.hold_at_least(2 * (message.len() + data.len())).await?;
        message.extend_from_slice(&data);
        if length.is_none() && message.len() >= PREFIX {
            let announced = usize::try_from(u32::from_be_bytes([message[1], message[2], message[3], message[4]]))
                .unwrap_or(usize::MAX);
            if announced > max {
                return Err(BodyError::TooLarge(max));
            }
            length = Some(announced);
        }
        if length.is_some_and(|length| message.len() > PREFIX + length) {
            return Err(BodyError::Broken("more than one message was sent".to_owned()));
        }
    }
    if length.is_none_or(|length| message.len() < PREFIX + length) {
        return Err(BodyError::Broken("the stream ended before the message did".to_owned()));
    }
    let message = message.freeze();
    let coding = if message[0] == 0 { Coding::Identity } else { coding };
    Ok((message.slice(PREFIX..), coding, held))
}

/// The answer that holds a message.
fn answer(message: &[u8]) -> http::Response<Body> {
    let mut framed = BytesMut::with_capacity(PREFIX + message.len());
    framed.put_u8(0);
    framed.put_u32(u32::try_from(message.len()).unwrap_or(u32::MAX));
    framed.put_slice(message);
    let mut trailers = http::HeaderMap::new();
    trailers.insert("grpc-status", http::HeaderValue::from_static("0"));
    let body = Full::new(framed.freeze()).with_trailers(std::future::ready(Some(Ok(trailers))));
    let mut answer = http::Response::new(Body::new(body));
    answer.headers_mut().insert(
        http::header::CONTENT_TYPE,
        http::HeaderValue::from_static("application/grpc"),
    );
    answer
}

/// Who made a call.
fn origin(request: &http::request::Parts, signal: Signal) -> Origin {
    let address = request
        .extensions
        .get::<TcpConnectInfo>()
        .and_then(TcpConnectInfo::remote_addr);
    Origin {
        path: format!("gRPC, {}", signal.name()),
        agent: request
            .headers
            .get("user-agent")
            .and_then(|agent| agent.to_str().ok())
            .unwrap_or_default()
            .to_owned(),
        address: address
            .map(|address: SocketAddr| address.ip().to_string())
            .unwrap_or_default(),
    }
}

/// A refusal as gRPC tells it: what may be sent again says after what time (`google.rpc.RetryInfo`).
fn status(refusal: &Refusal) -> Status {
    let code = match refusal.rpc_code() {
        StatusCode::InvalidArgument => Code::InvalidArgument,
        StatusCode::PermissionDenied => Code::PermissionDenied,
        // Without RetryInfo it is final, as the specification has it.
        StatusCode::ResourceExhausted => Code::ResourceExhausted,
        StatusCode::Unavailable => Code::Unavailable,
        StatusCode::Unauthenticated => Code::Unauthenticated,
    };
    let message = refusal.to_string();
    if let Some(seconds) = refusal.retry_after() {
        let details = retry_details(refusal.rpc_code(), &message, seconds);
        return Status::with_details(code, message, details.into());
    }
    Status::new(code, message)
}
