//! How many spans one stands for, as the sampling threshold in its trace state says (OpenTelemetry's "Trace State:
//! Probability Sampling"), and what that means for rates.

use super::Span;
use crate::Digest;

/// All thresholds lie below this: they are numbers of 56 bits.
const THRESHOLDS: u64 = 1 << 56;
/// What a span stands for at most: no sampler in use keeps less than one in a million, and a broken
/// one must not make counts overflow.
const MOST: f64 = 1_000_000.0;

/// Reads a trace state (W3C: `vendor=value,…`): how many spans one stands for, 1 or more, where the
/// sampler says so. The threshold T is written as up to 14 hexadecimal digits, those after the last
/// that is not zero left out; a span with it was kept with probability (2^56 − T) / 2^56 and stands
/// for the inverse.
///
/// # Example
/// ```
/// use outcrop_core::telemetry::sampling::one_in;
/// assert_eq!(one_in("ot=th:8"), Some(2.0));
/// assert_eq!(one_in("skerry=tide,ot=rv:6e6d1a75832a2f;th:0"), Some(1.0));
/// assert_eq!(one_in("skerry=tide"), None);
/// ```
#[must_use]
pub fn one_in(trace_state: &str) -> Option<f64> {
    let ot = trace_state
        .split(',')
        .find_map(|member| member.trim().strip_prefix("ot="))?;
    let digits = ot.split(';').find_map(|part| part.strip_prefix("th:"))?;
    if digits.is_empty() || digits.len() > 14 {
        return None;
    }
    let threshold = u64::from_str_radix(digits, 16).ok()? << (4 * (14 - digits.len()));
    #[expect(clippy::cast_precision_loss, reason = "a ratio of 53 bits is exact enough")]
    let ratio = THRESHOLDS as f64 / (THRESHOLDS - threshold) as f64;
    Some(ratio.min(MOST))
}

/// What a span counts for, in whole spans: the number it stands for, rounded up or down by its ids,
/// so that sums come out right on average and the same span always counts the same.
#[must_use]
#[expect(
    clippy::cast_possible_truncation,
    clippy::cast_sign_loss,
    clippy::cast_precision_loss,
    reason = "between 1 and a million"
)]
pub fn weight(span: &Span) -> u32 {
    let Some(one_in) = span.one_in.filter(|one_in| *one_in > 1.0) else {
        return 1;
    };
    let of_ids = [b"weight".as_slice(), &span.trace_id.0, &span.span_id.0.to_be_bytes()].concat();
    let drawn = Digest::of_bytes(&of_ids).short() as f64 / u64::MAX as f64;
    one_in.floor() as u32 + u32::from(drawn < one_in.fract())
}

/// What was seen of a service's sampling.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Seen {
    /// Requests that came.
    pub sent: u64,
    /// Of these, with a threshold.
    pub known: u64,
    /// What those with a threshold stand for.
    pub stand_for: u64,
    /// Log records that belong to a trace.
    pub lines: u64,
    /// Of these, of traces that were not sampled.
    pub lines_unsampled: u64,
}

/// How far counts of requests can be relied on.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Sampling {
    /// Every request is sent, as all of them say.
    Whole,
    /// All say how many they stand for: counts are estimates from one in so many.
    Weighed(f64),
    /// None or not all say whether they were sampled: rates hold where every request is sent.
    Unsaid,
    /// Requests are left out at a rate that is not said: this share of the log records belongs to traces not sent.
    Unknown(f64),
}

impl Seen {
    /// Judges; `None` where no request came.
    #[must_use]
    #[expect(clippy::cast_precision_loss, reason = "counts beyond 2^53 do not occur")]
    pub fn judge(&self) -> Option<Sampling> {
        if self.sent == 0 {
            return None;
        }
        Some(if self.known < self.sent {
            // Senders without flags on any record say nothing by it.
            let is_told = self.lines_unsampled > 0 && self.lines_unsampled < self.lines;
            if is_told {
                Sampling::Unknown(self.lines_unsampled as f64 / self.lines as f64)
            } else {
                Sampling::Unsaid
            }
        } else if self.stand_for > self.known {
            Sampling::Weighed(self.stand_for as f64 / self.known as f64)
        } else {
            Sampling::Whole
        })
    }
}

impl Sampling {
    /// What must be said beside rates; `None` where nothing has to be.
    ///
    /// # Example
    /// ```
    /// use outcrop_core::telemetry::sampling::Sampling;
    /// assert_eq!(Sampling::Weighed(10.0).note().unwrap(), "one request in 10 is sent: counts of requests are estimates by the sampling threshold");
    /// ```
    #[must_use]
    pub fn note(&self) -> Option<String> {
        match self {
            Self::Whole => None,
            Self::Weighed(one_in) => {
                let shown = if *one_in < 9.95 {
                    format!("{one_in:.1}")
                } else {
                    format!("{one_in:.0}")
                };
                let shown = shown.strip_suffix(".0").unwrap_or(&shown);
                Some(format!(
                    "one request in {shown} is sent: counts of requests are estimates by the sampling threshold"
                ))
            }
            Self::Unsaid => Some("no sampling threshold is sent: rates hold where every request is sent".to_owned()),
            Self::Unknown(share) => Some(format!(
                "sampled at an unknown rate: {:.0} % of its log records belong to requests that were not sent, so \
                 rates of requests are not to be relied on",
                (share * 100.0).clamp(1.0, 99.0)
            )),
        }
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use rstest::rstest;

    use super::*;
    use crate::telemetry::{Attributes, SpanId, SpanKind, TraceId};

    #[rstest]
    #[case("ot=th:c", Some(4.0))]
    #[case("ot=th:fd70a4", Some(100.000_095))]
    #[case("ot=th:ffffffffffffff", Some(1_000_000.0))]
    #[case("ot=th:", None)]
    #[case("ot=th:123456789abcdef", None)]
    #[case("ot=th:xyz", None)]
    #[case("", None)]
    fn a_threshold_is_read_as_the_specification_writes_it(#[case] trace_state: &str, #[case] expected: Option<f64>) {
        assert_eq!(one_in(trace_state).map(|one_in| (one_in * 1e6).round() / 1e6), expected);
    }

    #[rstest]
    #[case(Seen { sent: 5, known: 5, stand_for: 5, ..Seen::default() }, Some(Sampling::Whole))]
    #[case(Seen { sent: 5, known: 5, stand_for: 20, ..Seen::default() }, Some(Sampling::Weighed(4.0)))]
    #[case(Seen { sent: 5, known: 4, stand_for: 4, lines: 8, lines_unsampled: 8 }, Some(Sampling::Unsaid))]
    #[case(Seen { sent: 5, known: 0, stand_for: 0, lines: 8, lines_unsampled: 6 }, Some(Sampling::Unknown(0.75)))]
    #[case(Seen { lines: 8, ..Seen::default() }, None)]
    fn what_is_seen_decides_how_far_rates_hold(#[case] seen: Seen, #[case] expected: Option<Sampling>) {
        assert_eq!(seen.judge(), expected);
    }

    proptest! {
        #[test]
        fn a_sample_counts_for_what_it_was_taken_from(threshold in 0..(1_u64 << 56), seed in any::<u64>()) {
            let one_in = one_in(&format!("ot=th:{threshold:014x}"));
            let span = |id: u64| Span {
                trace_id: TraceId([1; 16]), span_id: SpanId(id), parent_id: None, name: String::new(),
                    kind: SpanKind::Server, start: None, end: None,
                attributes: Attributes::default(), events: vec![], links: vec![], is_error: false,
                    status_message: String::new(), flags: 0, one_in,
            };
            let weighed = |at| f64::from(weight(&span(seed.wrapping_add(at))));
            let counted: f64 = (0..2_000).map(weighed).sum::<f64>() / 2_000.0;
            // Rounding scatters by less than one: the mean of 2,000 by less than 0.06 in all but
            // one case of many millions.
            prop_assert!((counted - one_in.unwrap()).abs() < 0.06, "{counted} for {one_in:?}");
        }
    }
}
