//! OTLP over gRPC: the bodies are taken as they come and go the way of OTLP/HTTP.

use std::convert::Infallible;
use std::future::Future;
use std::pin::Pin;
use std::sync::Arc;
use std::task::{Context, Poll};
use std::time::Duration;

use bytes::{Buf, BufMut, Bytes};
use outcrop_otlp::{Encoding, Signal, StatusCode, export_answer, retry_details};
use tokio::sync::{OwnedSemaphorePermit, Semaphore};
use tokio_util::sync::CancellationToken;
use tonic::body::Body;
use tonic::codec::{Codec, CompressionEncoding, DecodeBuf, Decoder, EncodeBuf, Encoder};
use tonic::codegen::{Service, http};
use tonic::server::{Grpc, NamedService, UnaryService};
use tonic::transport::Server;
use tonic::transport::server::TcpIncoming;
use tonic::{Code, Request, Response, Status};

use crate::intake::{BodyError, Coding, Origin, Refusal, authenticate, note, take};
use crate::state::State;

/// How long a call waits for its turn to be read before it is told to come back.
const MAX_WAIT: Duration = Duration::from_secs(2);

/// Serves the three export services until cancelled; calls under way are finished.
pub(crate) async fn serve(listener: std::net::TcpListener, state: State, stop: CancellationToken) -> Result<(), std::io::Error> {
    listener.set_nonblocking(true)?;
    let incoming = TcpIncoming::from(tokio::net::TcpListener::from_std(listener)?);
    // A message is read whole before it can be weighed: so many may be read at once as the budget holds of the largest.
    let readers = Arc::new(Semaphore::new((state.settings.budget_bytes / state.settings.max_inflated_bytes.max(1)).max(2)));
    let stopped = stop.cancelled_owned();
    Server::builder()
        .add_service(Export::<TRACES> { state: state.clone(), readers: readers.clone() })
        .add_service(Export::<LOGS> { state: state.clone(), readers: readers.clone() })
        .add_service(Export::<METRICS> { state, readers })
        .serve_with_incoming_shutdown(incoming, stopped)
        .await
        .map_err(std::io::Error::other)
}

const TRACES: u8 = 0;
const LOGS: u8 = 1;
const METRICS: u8 = 2;

/// One export service of OTLP.
#[derive(Clone)]
struct Export<const SIGNAL: u8> {
    state: State,
    readers: Arc<Semaphore>,
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

type Answering<T, E> = Pin<Box<dyn Future<Output = Result<T, E>> + Send>>;

impl<const SIGNAL: u8> Service<http::Request<Body>> for Export<SIGNAL> {
    type Response = http::Response<Body>;
    type Error = Infallible;
    type Future = Answering<Self::Response, Infallible>;

    fn poll_ready(&mut self, _: &mut Context<'_>) -> Poll<Result<(), Infallible>> {
        Poll::Ready(Ok(()))
    }

    fn call(&mut self, request: http::Request<Body>) -> Self::Future {
        let this = self.clone();
        Box::pin(async move {
            if !request.uri().path().ends_with("/Export") {
                return Ok(Status::unimplemented("only Export is served here").into_http());
            }
            let Ok(Ok(turn)) = tokio::time::timeout(MAX_WAIT, this.readers.clone().acquire_owned()).await else {
                return Ok(status(&Refusal::Body(BodyError::OverBudget)).into_http());
            };
            let max = this.state.settings.max_inflated_bytes;
            let mut grpc = Grpc::new(Whole).max_decoding_message_size(max);
            for coding in [CompressionEncoding::Gzip, CompressionEncoding::Zstd, CompressionEncoding::Deflate] {
                grpc = grpc.accept_compressed(coding);
            }
            let call = Call::<SIGNAL> { state: this.state, turn: Some(turn) };
            Ok(grpc.unary(call, request).await)
        })
    }
}

/// One call, and its turn to be read: given back once the message has its part of the budget.
struct Call<const SIGNAL: u8> {
    state: State,
    turn: Option<OwnedSemaphorePermit>,
}

impl<const SIGNAL: u8> UnaryService<Bytes> for Call<SIGNAL> {
    type Response = Bytes;
    type Future = Answering<Response<Bytes>, Status>;

    fn call(&mut self, request: Request<Bytes>) -> Self::Future {
        let (state, turn) = (self.state.clone(), self.turn.take());
        let signal = match SIGNAL {
            TRACES => Signal::Traces,
            LOGS => Signal::Logs,
            _ => Signal::Metrics,
        };
        Box::pin(async move {
            let credentials =
                request.metadata().get("authorization").and_then(|value| value.to_str().ok()).and_then(crate::access::bearer_of);
            let sender = authenticate(&state, credentials).await;
            let of_key = sender.as_ref().ok().cloned();
            let body = request.get_ref().clone();
            let bytes = body.len();
            let exported = async {
                let sender = sender?;
                let held = state.intake.budget.take(sender.digest, body.len()).await?;
                drop(turn);
                take(signal, Encoding::Protobuf, Coding::Identity, body, held, sender, &state).await
            };
            let exported = exported.await;
            note(&state, &origin(&request, signal), of_key.as_ref(), bytes, &exported);
            match exported {
                Ok(refused) => Ok(Response::new(export_answer(signal, Encoding::Protobuf, &refused).into())),
                Err(refusal) => {
                    tracing::debug!(%refusal, signal = signal.name(), "a gRPC request was refused");
                    Err(status(&refusal))
                }
            }
        })
    }
}

/// Who made a call.
fn origin(request: &Request<Bytes>, signal: Signal) -> Origin {
    Origin {
        path: format!("gRPC, {}", signal.name()),
        agent: request.metadata().get("user-agent").and_then(|agent| agent.to_str().ok()).unwrap_or_default().to_owned(),
        address: request.remote_addr().map(|address| address.ip().to_string()).unwrap_or_default(),
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

/// Messages as the bytes they are.
#[derive(Clone, Copy, Default)]
struct Whole;

impl Codec for Whole {
    type Encode = Bytes;
    type Decode = Bytes;
    type Encoder = Self;
    type Decoder = Self;

    fn encoder(&mut self) -> Self {
        Self
    }

    fn decoder(&mut self) -> Self {
        Self
    }
}

impl Encoder for Whole {
    type Item = Bytes;
    type Error = Status;

    fn encode(&mut self, item: Bytes, buffer: &mut EncodeBuf<'_>) -> Result<(), Status> {
        buffer.put(item);
        Ok(())
    }
}

impl Decoder for Whole {
    type Item = Bytes;
    type Error = Status;

    fn decode(&mut self, buffer: &mut DecodeBuf<'_>) -> Result<Option<Bytes>, Status> {
        Ok(Some(buffer.copy_to_bytes(buffer.remaining())))
    }
}
