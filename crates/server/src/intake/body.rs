//! Reading and inflating bodies within limits, against a budget of bytes.

use std::io::Read;
use std::sync::Arc;
use std::time::Duration;

use actix_web::web::Payload;
use bytes::{Bytes, BytesMut};
use flate2::read::{DeflateDecoder, MultiGzDecoder, ZlibDecoder};
use futures_util::StreamExt;
use outcrop_core::Digest;
use std::collections::HashMap;
use std::sync::Mutex;
use tokio::sync::{OwnedSemaphorePermit, Semaphore};

/// Why a body is not taken.
#[derive(Debug, thiserror::Error)]
pub(crate) enum BodyError {
    #[error("the body is larger than {0} bytes")]
    TooLarge(usize),
    #[error("the body inflates to more than {0} bytes")]
    InflatesTooFar(usize),
    #[error("the body is not what its Content-Encoding says: {0}")]
    BadCoding(std::io::Error),
    #[error("the body ended early: {0}")]
    Broken(String),
    #[error("too much is waiting to be stored; try again shortly")]
    OverBudget,
}

/// How long a request waits for room in the budget before it is told to come back.
const MAX_WAIT: Duration = Duration::from_secs(2);
/// Budgets are counted in KiB, since a semaphore counts in 32 bits.
const UNIT: usize = 1_024;
/// Bytes read on and thrown away after a body proved too large, so that the sender reads the answer instead of seeing a
/// broken connection.
const DISCARDED: usize = 64 << 20;

/// Bytes of requests held at once: of all senders, and of each key half of that, so that one crash loop does not blind
/// the others.
#[derive(Clone)]
pub(crate) struct Budget {
    all: Arc<Semaphore>,
    per_key: Arc<Mutex<HashMap<Digest, Arc<Semaphore>>>>,
    key_units: usize,
}

/// A part of the budget, given back when dropped.
#[derive(Default)]
pub(crate) struct Held(Vec<OwnedSemaphorePermit>);

impl Held {
    /// Adds another part to be given back together.
    pub(crate) fn join(&mut self, other: Self) {
        self.0.extend(other.0);
    }
}

impl Budget {
    pub(crate) fn new(bytes: usize) -> Self {
        let units = (bytes / UNIT).clamp(1, Semaphore::MAX_PERMITS);
        Self { all: Arc::new(Semaphore::new(units)), per_key: Arc::default(), key_units: (units / 2).max(1) }
    }

    /// Takes a part, waiting shortly for room.
    pub(crate) async fn take(&self, key: Digest, bytes: usize) -> Result<Held, BodyError> {
        let units = u32::try_from(bytes.div_ceil(UNIT).max(1)).unwrap_or(u32::MAX);
        let of_key = {
            let mut keys = self.per_key.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
            keys.entry(key).or_insert_with(|| Arc::new(Semaphore::new(self.key_units))).clone()
        };
        let all = self.all.clone();
        let take = async move { Some(Held(vec![of_key.acquire_many_owned(units).await.ok()?, all.acquire_many_owned(units).await.ok()?])) };
        match tokio::time::timeout(MAX_WAIT, take).await {
            Ok(Some(held)) => Ok(held),
            Ok(None) | Err(_) => Err(BodyError::OverBudget),
        }
    }
}

/// Reads a body of at most `max` bytes, chunked or not, taking budget as it comes.
pub(crate) async fn read(
    payload: &mut Payload,
    announced: Option<usize>,
    max: usize,
    budget: &Budget,
    key: Digest,
) -> Result<(Bytes, Held), BodyError> {
    if announced.is_some_and(|announced| announced > max) {
        discard(payload, 0).await;
        return Err(BodyError::TooLarge(max));
    }
    let mut held = budget.take(key, announced.unwrap_or(UNIT)).await?;
    let mut room = announced.unwrap_or(UNIT);
    let mut body = BytesMut::with_capacity(announced.unwrap_or(UNIT).min(max));
    while let Some(chunk) = payload.next().await {
        let chunk = chunk.map_err(|error| BodyError::Broken(error.to_string()))?;
        if body.len() + chunk.len() > max {
            discard(payload, body.len()).await;
            return Err(BodyError::TooLarge(max));
        }
        if body.len() + chunk.len() > room {
            // Doubling: a chunked body takes budget a few times, not per chunk.
            let more = room.max(chunk.len());
            held.join(budget.take(key, more).await?);
            room += more;
        }
        body.extend_from_slice(&chunk);
    }
    Ok((body.freeze(), held))
}

async fn discard(payload: &mut Payload, mut seen: usize) {
    while let Some(Ok(chunk)) = payload.next().await {
        seen += chunk.len();
        if seen > DISCARDED {
            return;
        }
    }
}

/// How a body is coded on its way.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Coding {
    Identity,
    Gzip,
    Zstd,
    /// The zlib format (RFC 9110, 8.4.1.2); some send the bare stream, which is taken too.
    Deflate,
}

impl Coding {
    /// Reads a `Content-Encoding`; `None` where it is another.
    pub(crate) fn of_header(coding: Option<&str>) -> Option<Self> {
        Some(match coding.map(|coding| coding.trim().to_ascii_lowercase()).as_deref() {
            None | Some("" | "identity") => Self::Identity,
            Some("gzip" | "x-gzip") => Self::Gzip,
            Some("zstd") => Self::Zstd,
            Some("deflate") => Self::Deflate,
            Some(_) => return None,
        })
    }
}

/// Memory that a zstd stream may ask of its reader, as a power of two: 8 MiB, what the format asks every reader to have.
const ZSTD_WINDOW_LOG: u32 = 23;

/// Inflates to at most `max` bytes.
pub(crate) fn inflate(body: &[u8], coding: Coding, max: usize) -> Result<Vec<u8>, BodyError> {
    let mut inflated = Vec::with_capacity((body.len() * 4).min(max));
    let limit = u64::try_from(max).unwrap_or(u64::MAX) + 1;
    match coding {
        Coding::Identity => body.take(limit).read_to_end(&mut inflated),
        Coding::Gzip => MultiGzDecoder::new(body).take(limit).read_to_end(&mut inflated),
        Coding::Zstd => zstd::stream::read::Decoder::new(body).and_then(|mut decoder| {
            decoder.window_log_max(ZSTD_WINDOW_LOG)?;
            decoder.take(limit).read_to_end(&mut inflated)
        }),
        // The zlib format's first two bytes are a number that 31 divides.
        Coding::Deflate if body.len() >= 2 && (u16::from(body[0]) << 8 | u16::from(body[1])).is_multiple_of(31) => {
            ZlibDecoder::new(body).take(limit).read_to_end(&mut inflated)
        }
        Coding::Deflate => DeflateDecoder::new(body).take(limit).read_to_end(&mut inflated),
    }
    .map_err(BodyError::BadCoding)?;
    if inflated.len() > max { Err(BodyError::InflatesTooFar(max)) } else { Ok(inflated) }
}
