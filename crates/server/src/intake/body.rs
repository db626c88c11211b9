//! Reading and inflating bodies within limits, against a budget of bytes.

use std::io::Read;
use std::time::Duration;

use bytes::{Bytes, BytesMut};
use flate2::read::{DeflateDecoder, MultiGzDecoder, ZlibDecoder};
use futures_util::{Stream, StreamExt};
use outcrop_core::Digest;

use super::{Budget, Held};
use crate::intake::body_error::BodyError;

/// How long a body may take to arrive: the largest at half a megabyte a second. A sender of a byte
/// a second must not hold a connection and memory for days.
pub(crate) const READ_WITHIN: Duration = Duration::from_secs(30);
/// Memory taken before the first byte of a body comes; what a sender announces it has not sent yet.
const FIRST: usize = 16 << 10;
/// Bytes read on and thrown away after a body proved too large, so that the sender reads the answer instead of seeing a
/// broken connection.
const DISCARDED: usize = 64 << 20;

/// Reads a body of at most `max` bytes, chunked or not, within [`READ_WITHIN`], taking budget as it comes.
pub(crate) async fn read<S, E>(
    payload: &mut S,
    announced: Option<usize>,
    max: usize,
    budget: &Budget,
    key: Digest,
) -> Result<(Bytes, Held), BodyError>
where
    S: Stream<Item = Result<Bytes, E>> + Unpin,
    E: std::fmt::Display,
{
    let read = async {
        if announced.is_some_and(|announced| announced > max) {
            discard(payload, 0).await;
            return Err(BodyError::TooLarge(max));
        }
        let mut room = announced.unwrap_or(FIRST).min(FIRST);
        let mut held = budget.take(key, room).await?;
        let mut body = BytesMut::with_capacity(room);
        while let Some(chunk) = payload.next().await {
            let chunk = chunk.map_err(|error| BodyError::Broken(error.to_string()))?;
            let length = body.len() + chunk.len();
            if length > max {
                discard(payload, body.len()).await;
                return Err(BodyError::TooLarge(max));
            }
            if length > room {
                // Doubling: a body takes budget a few times, not per chunk.
                room = length.max((2 * room).min(announced.unwrap_or(max)));
                held.hold_at_least(room).await?;
                body.reserve(room - body.len());
            }
            body.extend_from_slice(&chunk);
        }
        Ok((body.freeze(), held))
    };
    tokio::time::timeout(READ_WITHIN, read)
        .await
        .unwrap_or(Err(BodyError::TooSlow(READ_WITHIN)))
}

async fn discard<S, E>(payload: &mut S, mut seen: usize)
where
    S: Stream<Item = Result<Bytes, E>> + Unpin,
{
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
        Some(
            match coding.map(|coding| coding.trim().to_ascii_lowercase()).as_deref() {
                None | Some("" | "identity") => Self::Identity,
                Some("gzip" | "x-gzip") => Self::Gzip,
                Some("zstd") => Self::Zstd,
                Some("deflate") => Self::Deflate,
                Some(_) => return None,
            },
        )
    }
}

/// Memory that a zstd stream may ask of its reader, as a power of two: 8 MiB, what the format asks
/// every reader to have.
const ZSTD_WINDOW_LOG: u32 = 23;

/// How much is inflated at once, in bytes; so much is taken of the budget before.
const INFLATED_AT_ONCE: usize = 1 << 20;

/// Inflates to at most `max` bytes, taking budget as it goes.
pub(crate) fn inflate(body: &[u8], coding: Coding, max: usize, held: &mut Held) -> Result<Vec<u8>, BodyError> {
    match coding {
        Coding::Identity => inflate_all(body, max, held),
        Coding::Gzip => inflate_all(MultiGzDecoder::new(body), max, held),
        Coding::Zstd => {
            let mut decoder = zstd::stream::read::Decoder::new(body).map_err(BodyError::BadCoding)?;
            decoder.window_log_max(ZSTD_WINDOW_LOG).map_err(BodyError::BadCoding)?;
            inflate_all(decoder, max, held)
        }
        // The zlib format's first two bytes are a number that 31 divides.
        Coding::Deflate if body.len() >= 2 && (u16::from(body[0]) << 8 | u16::from(body[1])).is_multiple_of(31) => {
            inflate_all(ZlibDecoder::new(body), max, held)
        }
        Coding::Deflate => inflate_all(DeflateDecoder::new(body), max, held),
    }
}

fn inflate_all(mut inflating: impl Read, max: usize, held: &mut Held) -> Result<Vec<u8>, BodyError> {
    let mut inflated = vec![];
    loop {
        let before = inflated.len();
        let most = INFLATED_AT_ONCE.min(max + 1 - before);
        held.grow(most)?;
        inflated.reserve_exact(most);
        let read = inflating
            .by_ref()
            .take(most as u64)
            .read_to_end(&mut inflated)
            .map_err(BodyError::BadCoding)?;
        if inflated.len() > max {
            return Err(BodyError::InflatesTooFar(max));
        }
        if read < most {
            return Ok(inflated);
        }
    }
}

#[cfg(test)]
mod tests {
    use std::io::Write;

    use futures_util::stream;

    use super::*;

    const KEY: Digest = Digest([7; 16]);

    fn gzip(content: &[u8]) -> Vec<u8> {
        let mut encoder = flate2::write::GzEncoder::new(vec![], flate2::Compression::best());
        encoder.write_all(content).unwrap();
        encoder.finish().unwrap()
    }

    #[tokio::test]
    async fn inflating_takes_budget_before_it_takes_memory() {
        let bomb = gzip(&vec![0; 64 << 20]);
        let mut held = Budget::new(8 << 20).take(KEY, 1).await.unwrap();
        assert!(matches!(
            inflate(&bomb, Coding::Gzip, 64 << 20, &mut held),
            Err(BodyError::TooHeavy)
        ));
        let mut held = Budget::new(256 << 20).take(KEY, 1).await.unwrap();
        assert!(matches!(
            inflate(&bomb, Coding::Gzip, 1 << 20, &mut held),
            Err(BodyError::InflatesTooFar(1_048_576))
        ));
        assert_eq!(
            inflate(&bomb, Coding::Gzip, 64 << 20, &mut held).unwrap().len(),
            64 << 20
        );
        assert!(matches!(
            inflate(b"no gzip", Coding::Gzip, 1 << 20, &mut held),
            Err(BodyError::BadCoding(_))
        ));
    }

    #[tokio::test(start_paused = true)]
    async fn a_sender_that_stalls_is_let_go_and_holds_little_meanwhile() {
        let budget = Budget::new(1 << 20);
        let slow = stream::iter(0..).then(|_| async {
            tokio::time::sleep(Duration::from_secs(1)).await;
            Ok::<_, std::io::Error>(Bytes::from_static(b"x"))
        });
        let reading = tokio::spawn({
            let budget = budget.clone();
            async move {
                read(&mut Box::pin(slow), Some(700 << 10), 1 << 20, &budget, KEY)
                    .await
                    .map(drop)
            }
        });
        tokio::time::sleep(Duration::from_secs(5)).await;
        // It announced most of the budget and has sent five bytes.
        drop(budget.take(Digest([8; 16]), 500 << 10).await.unwrap());
        assert!(matches!(reading.await.unwrap(), Err(BodyError::TooSlow(_))));
    }

    #[tokio::test]
    async fn a_body_is_read_whole_in_any_pieces_and_refused_where_it_is_too_large() {
        let budget = Budget::new(1 << 20);
        for piece in [1_000, 70_000, 200_000] {
            let content = vec![b'x'; 200_000];
            let chunks: Vec<Result<Bytes, std::io::Error>> = content
                .chunks(piece)
                .map(|chunk| Ok(Bytes::copy_from_slice(chunk)))
                .collect();
            let mut payload = stream::iter(chunks);
            let (body, held) = read(&mut payload, None, 200_000, &budget, KEY).await.unwrap();
            assert_eq!(body.len(), 200_000);
            drop(held);
            let chunks: Vec<Result<Bytes, std::io::Error>> = content
                .chunks(piece)
                .map(|chunk| Ok(Bytes::copy_from_slice(chunk)))
                .collect();
            let too_large = read(&mut stream::iter(chunks), None, 199_999, &budget, KEY).await;
            assert!(matches!(too_large, Err(BodyError::TooLarge(199_999))));
        }
    }
}
