//! Metrics of OTLP/JSON.

use outcrop_core::metric::{Buckets, Kind, MAX_BOUNDS, Side};
use outcrop_core::telemetry::Reading;
use serde::de::{IgnoredAny, MapAccess, SeqAccess};

use super::read::{Elements, Fields, List, Object, Scalar, Stood};
use super::records::{flags, is_taken, time};
use super::values::attributes;
use super::{Context, Records};
use crate::bounds::Gathered;

impl Records for Reading {
    const BY_RESOURCE: [&'static str; 2] = ["resourceMetrics", "resource_metrics"];
    const BY_SCOPE: [&'static str; 2] = ["scopeMetrics", "scope_metrics"];
    const NAMES: [&'static str; 2] = ["metrics", "metrics"];

    fn read<'de, A: SeqAccess<'de>>(
        list: &mut A,
        records: &mut Vec<Self>,
        context: &mut Context<'_, '_>,
    ) -> Result<bool, A::Error> {
        let mut read = MetricReader {
            context,
            named: Reading::default(),
            points: vec![],
        };
        let stood = list.next_element_seed(Object(&mut read))?;
        let MetricReader { named, points, .. } = read;
        // Of a metric its points are the records.
        if matches!(stood, Some(Stood::There)) {
            records.extend(points.into_iter().map(|point| Self {
                name: named.name.clone(),
                unit: named.unit.clone(),
                ..point
            }));
        } else {
            is_taken::<Self, A>(stood, context)?;
        }
        Ok(stood.is_some())
    }
}

/// The points of a metric, of whatever kind.
struct MetricReader<'c, 'r, 'm> {
    context: &'c mut Context<'r, 'm>,
    /// Its name and unit.
    named: Reading,
    points: Vec<Reading>,
}

impl Fields for MetricReader<'_, '_, '_> {
    fn field<'de, A: MapAccess<'de>>(&mut self, name: &str, map: &mut A) -> Result<(), A::Error> {
        match name {
            "name" => self.named.name = self.context.text(map)?,
            "unit" => self.named.unit = self.context.text(map)?,
            "gauge" | "sum" | "histogram" | "exponentialHistogram" | "exponential_histogram" | "summary" => {
                let first = self.points.len();
                let mut points = Points {
                    metric: self,
                    is_delta: false,
                    is_monotonic: false,
                };
                map.next_value_seed(Object(&mut points))?;
                // What the points are may stand behind them.
                let kind = metric_kind(name, points.is_delta, points.is_monotonic);
                self.points[first..].iter_mut().for_each(|point| point.kind = kind);
            }
            _ => drop(map.next_value::<IgnoredAny>()?),
        }
        Ok(())
    }
}

fn metric_kind(form: &str, is_delta: bool, is_monotonic: bool) -> Kind {
    match form {
        "sum" if is_delta => Kind::Delta,
        "sum" if is_monotonic => Kind::Cumulative,
        "gauge" | "sum" => Kind::Level,
        "summary" => Kind::CumulativeDistribution,
        _ if is_delta => Kind::DeltaDistribution,
        _ => Kind::CumulativeDistribution,
    }
}

struct Points<'s, 'c, 'r, 'm> {
    metric: &'s mut MetricReader<'c, 'r, 'm>,
    is_delta: bool,
    is_monotonic: bool,
}

impl Fields for Points<'_, '_, '_, '_> {
    fn field<'de, A: MapAccess<'de>>(&mut self, name: &str, map: &mut A) -> Result<(), A::Error> {
        match name {
            "dataPoints" | "data_points" => return map.next_value_seed(List(self)).map(drop),
            "aggregationTemporality" | "aggregation_temporality" => {
                let sent = map.next_value::<Scalar>()?;
                self.is_delta = sent.whole() == Some(1) || sent.into_text() == "AGGREGATION_TEMPORALITY_DELTA";
            }
            "isMonotonic" | "is_monotonic" => self.is_monotonic = matches!(map.next_value()?, Scalar::Bool(true)),
            _ => drop(map.next_value::<IgnoredAny>()?),
        }
        Ok(())
    }
}

impl Elements for Points<'_, '_, '_, '_> {
    fn element<'de, A: SeqAccess<'de>>(&mut self, list: &mut A) -> Result<bool, A::Error> {
        let mut point = PointReader {
            context: self.metric.context,
            reading: Reading::default(),
            attributes: Gathered::default(),
            has_number: false,
            is_recorded: true,
            buckets: BucketsSent::default(),
        };
        let stood = list.next_element_seed(Object(&mut point))?;
        let PointReader {
            reading,
            attributes,
            has_number,
            is_recorded,
            buckets,
            ..
        } = point;
        if has_number && is_recorded && self.metric.context.takes_record()? {
            let attributes = attributes.finish(&mut self.metric.context.bounds.refused);
            self.metric.points.push(Reading {
                attributes,
                buckets: buckets.finish(),
                ..reading
            });
        }
        Ok(stood.is_some())
    }
}

struct PointReader<'s, 'r, 'm> {
    context: &'s mut Context<'r, 'm>,
    reading: Reading,
    attributes: Gathered,
    has_number: bool,
    is_recorded: bool,
    buckets: BucketsSent,
}

impl Fields for PointReader<'_, '_, '_> {
    fn field<'de, A: MapAccess<'de>>(&mut self, name: &str, map: &mut A) -> Result<(), A::Error> {
        match name {
            "asDouble" | "as_double" | "asInt" | "as_int" => {
                if let Some(value) = map.next_value::<Scalar>()?.float() {
                    self.reading.value = value;
                    self.has_number = true;
                }
            }
            "count" => {
                let count = map.next_value::<Scalar>()?.whole();
                if let Some(count) = count.and_then(|count| u64::try_from(count).ok()) {
                    self.reading.count = count;
                    self.has_number = true;
                }
            }
            "sum" => self.reading.value = map.next_value::<Scalar>()?.float().unwrap_or_default(),
            "flags" => self.is_recorded = flags(&map.next_value()?) & 1 == 0,
            "attributes" => attributes(map, &mut self.attributes, self.context)?,
            "startTimeUnixNano" | "start_time_unix_nano" => self.reading.start = time(&map.next_value()?),
            "timeUnixNano" | "time_unix_nano" => self.reading.at = time(&map.next_value()?),
            "bucketCounts" | "bucket_counts" => {
                let counts = numbers(map, self.context, |sent| {
                    sent.whole().and_then(|count| u64::try_from(count).ok())
                })?;
                self.buckets.explicit.0 = counts;
            }
            "explicitBounds" | "explicit_bounds" => {
                self.buckets.explicit.1 = numbers(map, self.context, Scalar::float)?;
            }
            "scale" => {
                self.buckets.scale = map
                    .next_value::<Scalar>()?
                    .whole()
                    .and_then(|scale| i32::try_from(scale).ok());
            }
            "zeroCount" | "zero_count" => {
                let zeros = map
                    .next_value::<Scalar>()?
                    .whole()
                    .and_then(|zeros| u64::try_from(zeros).ok());
                self.buckets.zeros = zeros.unwrap_or_default();
            }
            "positive" => {
                map.next_value_seed(Object(&mut SideReader(self.context, &mut self.buckets.positive)))?;
            }
            "negative" => {
                map.next_value_seed(Object(&mut SideReader(self.context, &mut self.buckets.negative)))?;
            }
            _ => drop(map.next_value::<IgnoredAny>()?),
        }
        Ok(())
    }
}

/// The buckets of a point: those of a histogram, counts and bounds, or those of an exponential one, which has a scale.
#[derive(Default)]
struct BucketsSent {
    explicit: (Vec<u64>, Vec<f64>),
    scale: Option<i32>,
    zeros: u64,
    positive: Side,
    negative: Side,
}

impl BucketsSent {
    fn finish(self) -> Option<Buckets> {
        if let Some(scale) = self.scale {
            return Buckets::exponential(scale, &self.positive, &self.negative, self.zeros);
        }
        let (counts, bounds) = self.explicit;
        (!counts.is_empty()).then(|| Buckets::new(bounds, counts)).flatten()
    }
}

struct SideReader<'s, 'r, 'm>(&'s mut Context<'r, 'm>, &'s mut Side);

impl Fields for SideReader<'_, '_, '_> {
    fn field<'de, A: MapAccess<'de>>(&mut self, name: &str, map: &mut A) -> Result<(), A::Error> {
        match name {
            "offset" => {
                let offset = map.next_value::<Scalar>()?.whole();
                self.1.offset = offset.and_then(|offset| i32::try_from(offset).ok()).unwrap_or_default();
            }
            "bucketCounts" | "bucket_counts" => {
                self.1.counts = numbers(map, self.0, |sent| {
                    sent.whole().and_then(|count| u64::try_from(count).ok())
                })?;
            }
            _ => drop(map.next_value::<IgnoredAny>()?),
        }
        Ok(())
    }
}

/// A list of numbers; those past what a histogram may have are let go, save one, which says that there are too many.
fn numbers<'de, A: MapAccess<'de>, T>(
    map: &mut A,
    context: &mut Context<'_, '_>,
    of: impl Fn(&Scalar) -> Option<T>,
) -> Result<Vec<T>, A::Error> {
    let mut read = Numbers {
        context,
        of,
        list: vec![],
    };
    map.next_value_seed(List(&mut read))?;
    Ok(read.list)
}

struct Numbers<'s, 'r, 'm, T, F> {
    context: &'s mut Context<'r, 'm>,
    of: F,
    list: Vec<T>,
}

impl<T, F: Fn(&Scalar) -> Option<T>> Elements for Numbers<'_, '_, '_, T, F> {
    fn element<'de, A: SeqAccess<'de>>(&mut self, list: &mut A) -> Result<bool, A::Error> {
        let Some(sent) = list.next_element::<Scalar>()? else {
            return Ok(false);
        };
        if let Some(number) = (self.of)(&sent).filter(|_| self.list.len() <= MAX_BOUNDS + 1) {
            self.context.take(size_of::<T>())?;
            self.list.push(number);
        }
        Ok(true)
    }
}
