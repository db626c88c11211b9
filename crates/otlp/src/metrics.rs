//! Metrics in OTLP's protobuf encoding.

use outcrop_core::Timestamp;
use outcrop_core::metric::{Buckets, Kind, MAX_BOUNDS, Side};
use outcrop_core::telemetry::Reading;

use crate::bounds::{Bounds, Room};
use crate::protobuf::{attributes_of, read, text};
use crate::wire::{Fields, Wire};
use crate::{DecodeError, Decoded};

pub(crate) fn metrics(body: &[u8], room: &mut Room<'_>) -> Result<Decoded<Reading>, DecodeError> {
    read(body, room, metric)
}

/// The points of a metric, of whatever kind.
fn metric(message: &[u8], bounds: &mut Bounds<'_, '_>, readings: &mut Vec<Reading>) -> Result<(), DecodeError> {
    let mut named = Reading::default();
    for field in Fields(message) {
        match field? {
            (1, name) => named.name = text(name, bounds)?,
            (3, unit) => named.unit = text(unit, bounds)?,
            _ => {}
        }
    }
    for field in Fields(message) {
        let (form @ (5 | 7 | 9 | 10 | 11), data) = field? else {
            continue;
        };
        let data = data.bytes()?;
        let (mut temporality, mut is_monotonic) = (0, false);
        for field in Fields(data) {
            match field? {
                (2, sent) if form != 5 && form != 11 => temporality = sent.varint()?,
                (3, sent) if form == 7 => is_monotonic = sent.varint()? != 0,
                _ => {}
            }
        }
        named.kind = metric_kind(form, temporality, is_monotonic);
        for field in Fields(data) {
            let (1, sent) = field? else { continue };
            let sent = sent.bytes()?;
            if bounds.takes_record()?
                && let Some(reading) = point(sent, form, &named, bounds)?
            {
                readings.push(reading);
            }
        }
    }
    Ok(())
}

/// What the numbers of a metric are, by the number of its form, its temporality and whether it only rises.
fn metric_kind(form: u32, temporality: u64, is_monotonic: bool) -> Kind {
    const DELTA: u64 = 1;
    match (form, temporality) {
        (7, DELTA) => Kind::Delta,
        (7, _) if is_monotonic => Kind::Cumulative,
        (9 | 10, DELTA) => Kind::DeltaDistribution,
        (9..=11, _) => Kind::CumulativeDistribution,
        _ => Kind::Level,
    }
}

/// One point; `None` where it says that nothing was recorded, or holds no number.
fn point(
    message: &[u8],
    form: u32,
    named: &Reading,
    bounds: &mut Bounds<'_, '_>,
) -> Result<Option<Reading>, DecodeError> {
    const NOTHING_RECORDED: u64 = 1;
    let is_number = form == 5 || form == 7;
    // Each form has its attributes and flags at other places.
    let (attributes, flags) = match form {
        9 => (9, 10),
        10 => (1, 10),
        _ => (7, 8),
    };
    bounds.take(named.name.len() + named.unit.len())?;
    let mut reading = Reading {
        attributes: attributes_of(message, attributes, bounds)?,
        ..named.clone()
    };
    let mut has_number = false;
    let mut buckets = BucketsSent::default();
    for field in Fields(message) {
        match field? {
            (2, time) => reading.start = Timestamp::from_otlp(time.fixed64()?),
            (3, time) => reading.at = Timestamp::from_otlp(time.fixed64()?),
            (4, number) if is_number => {
                reading.value = f64::from_bits(number.fixed64()?);
                has_number = true;
            }
            #[expect(clippy::cast_precision_loss, reason = "a chart needs no more than 53 bits")]
            (6, number) if is_number => {
                reading.value = number.fixed64()?.cast_signed() as f64;
                has_number = true;
            }
            (4, count) => {
                reading.count = count.fixed64()?;
                has_number = true;
            }
            (5, sum) if !is_number => reading.value = f64::from_bits(sum.fixed64()?),
            (at @ (6 | 7), sent) if form == 9 => buckets.explicit(at, sent, bounds)?,
            (at @ (6..=9), sent) if form == 10 => buckets.exponential(at, sent, bounds)?,
            (at, sent) if at == flags && sent.varint()? & NOTHING_RECORDED != 0 => return Ok(None),
            _ => {}
        }
    }
    reading.buckets = buckets.finish(form == 10);
    Ok(has_number.then_some(reading))
}

/// The buckets of a point, as its fields come.
#[derive(Default)]
struct BucketsSent {
    bounds: Vec<f64>,
    counts: Vec<u64>,
    scale: i32,
    zeros: u64,
    positive: Side,
    negative: Side,
    /// Whether there are more than are taken: then none is.
    is_cut: bool,
}

impl BucketsSent {
    /// A field of a histogram: counts and bounds, packed or one by one.
    fn explicit(&mut self, at: u32, sent: Wire<'_>, bounds: &mut Bounds<'_, '_>) -> Result<(), DecodeError> {
        for number in sent.fixed64s()? {
            bounds.take(size_of::<u64>())?;
            if self.bounds.len() > MAX_BOUNDS || self.counts.len() > MAX_BOUNDS {
                self.is_cut = true;
            } else if at == 6 {
                self.counts.push(number);
            } else {
                self.bounds.push(f64::from_bits(number));
            }
        }
        Ok(())
    }

    /// A field of an exponential histogram: scale, zeros, the buckets above and below zero.
    fn exponential(&mut self, at: u32, sent: Wire<'_>, bounds: &mut Bounds<'_, '_>) -> Result<(), DecodeError> {
        match at {
            6 => self.scale = zigzag(sent.varint()?),
            7 => self.zeros = sent.fixed64()?,
            _ => {
                let mut side = Side::default();
                for field in Fields(sent.bytes()?) {
                    match field? {
                        (1, offset) => side.offset = zigzag(offset.varint()?),
                        (2, counts) => {
                            for count in counts.varints()? {
                                bounds.take(size_of::<u64>())?;
                                if side.counts.len() > MAX_BOUNDS {
                                    self.is_cut = true;
                                } else {
                                    side.counts.push(count);
                                }
                            }
                        }
                        _ => {}
                    }
                }
                if at == 8 {
                    self.positive = side;
                } else {
                    self.negative = side;
                }
            }
        }
        Ok(())
    }

    fn finish(self, is_exponential: bool) -> Option<Buckets> {
        if self.is_cut {
            None
        } else if is_exponential {
            Buckets::exponential(self.scale, &self.positive, &self.negative, self.zeros)
        } else if self.counts.is_empty() {
            None
        } else {
            Buckets::new(self.bounds, self.counts)
        }
    }
}

/// A signed number of 32 bits, as protobuf's sint32 writes it.
fn zigzag(sent: u64) -> i32 {
    let low = u32::try_from(sent & u64::from(u32::MAX)).unwrap_or_default();
    (low >> 1).cast_signed() ^ -((low & 1).cast_signed())
}
