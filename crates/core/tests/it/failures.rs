//! How many failures a set of reports is, case by case.

use outcrop_core::failure::{OccurrenceId, ReportFacts, Source, SpanFacts, decide};
use outcrop_core::telemetry::SpanId;
use outcrop_core::{Digest, Timestamp};
use proptest::prelude::*;
use rstest::rstest;

use crate::ledger::Atom;

const START: i64 = 1_795_000_000_000;

/// A span in error below another; span 1 is the entry.
pub fn span(id: u64, parent: u64, at: i64) -> SpanFacts {
    SpanFacts {
        id: SpanId(id),
        parent: (parent != 0).then_some(SpanId(parent)),
        start: Timestamp::from_millis(START + at),
        is_error: true,
        is_call: false,
        user: 0,
        endpoint: (parent == 0).then_some(7),
    }
}

fn fine(mut span: SpanFacts) -> SpanFacts {
    span.is_error = false;
    span
}

fn call(mut span: SpanFacts) -> SpanFacts {
    span.is_call = true;
    span
}

/// An exception event: `what` names the exception.
pub fn event(span: u64, at: i64, what: u64) -> ReportFacts {
    let at = Timestamp::from_millis(START + at);
    let content = Digest::of([format!("{span} {} {what}", at.0).as_str()]);
    ReportFacts {
        id: OccurrenceId::new(at, content),
        span: Some(SpanId(span)),
        at,
        source: Source::SpanEvent,
        place: 0,
        exception: what,
        pairing: Digest::of([what.to_string().as_str()]),
        message: what + 1_000,
        holds: vec![],
        frames: 5,
        has_own_frame: true,
        at_span_end: false,
        is_unsampled: false,
        says_uncaught: false,
        severity: 17,
        user: 0,
    }
}

fn log(span: u64, at: i64, what: u64) -> ReportFacts {
    let event = event(span, at, what);
    let id = OccurrenceId::new(event.at, Digest::of(["log", &format!("{span} {at} {what}")]));
    ReportFacts {
        id,
        source: Source::LogRecord,
        place: 3,
        ..event
    }
}

/// A span in error that tells of no exception.
fn status(span: u64, at: i64) -> ReportFacts {
    let event = event(span, at, 500);
    let id = OccurrenceId::new(event.at, Digest::of(["status", &span.to_string()]));
    ReportFacts {
        id,
        source: Source::SpanStatus,
        frames: 0,
        has_own_frame: false,
        at_span_end: true,
        ..event
    }
}

/// A line logged as an error, without an exception.
fn said(span: u64, at: i64, what: u64) -> ReportFacts {
    ReportFacts {
        source: Source::LogMessage,
        frames: 0,
        has_own_frame: false,
        ..log(span, at, what)
    }
}

fn holding(mut report: ReportFacts, what: u64) -> ReportFacts {
    report.holds = vec![what];
    report
}

#[rstest]
#[case::one_exception_on_nested_spans(1, vec![span(1, 0, 0), span(2, 1, 1), span(3, 2, 2)], vec![event(3, 5, 9),
    event(2, 6, 9), event(1, 7, 9)])]
#[case::with_a_span_between_that_tells_nothing(1, vec![span(1, 0, 0), span(2, 1, 1), span(3, 2, 2)], vec![event(3, 5,
    9), event(1, 7, 9)])]
#[case::and_once_more_by_a_log_record(1, vec![span(1, 0, 0), span(2, 1, 1)], vec![event(2, 5, 9), event(1, 7, 9),
    log(1, 6, 9)])]
#[case::three_retries_on_spans_of_their_own(3, vec![span(1, 0, 0), span(2, 1, 1), span(3, 1, 5), span(4, 1, 9)],
    vec![event(2, 4, 9), event(3, 8, 9), event(4, 12, 9), event(1, 13, 9)])]
#[case::three_retries_on_one_span(3, vec![span(1, 0, 0)], vec![event(1, 4, 9), event(1, 8, 9), event(1, 12, 9)])]
#[case::recorded_by_hand_and_again_as_the_span_ended(1, vec![span(1, 0, 0)], vec![event(1, 4, 9), ReportFacts {
    at_span_end: true, ..event(1, 5, 9) }])]
#[case::logged_and_thrown_on_with_more_frames(1, vec![span(1, 0, 0)], vec![log(1, 4, 9), ReportFacts { frames: 8,
    ..log(1, 5, 9) }])]
#[case::the_cause_below_and_its_wrapper_above(1, vec![span(1, 0, 0), span(2, 1, 1)], vec![event(2, 4, 8),
    holding(event(1, 6, 9), 8)])]
#[case::the_outer_failed_because_the_inner_did(1, vec![span(1, 0, 0), call(span(2, 1, 1))], vec![event(2, 4, 8),
    event(1, 6, 9)])]
#[case::an_inner_one_handled_and_an_unrelated_outer_one(2, vec![span(1, 0, 0), fine(span(2, 1, 1)), call(span(3, 2,
    2))], vec![event(3, 4, 8), event(1, 6, 9)])]
#[case::an_inner_one_after_which_work_went_on(2, vec![span(1, 0, 0), call(span(2, 1, 1)), call(fine(span(3, 1, 5)))],
    vec![event(2, 4, 8), event(1, 9, 9)])]
#[case::two_inner_ones_and_an_unrelated_outer_one(3, vec![span(1, 0, 0), span(2, 1, 1), span(3, 1, 5)], vec![event(2,
    4, 8), event(3, 7, 6), event(1, 9, 9)])]
#[case::siblings_of_a_group_and_the_group(2, vec![span(1, 0, 0), span(2, 1, 1), span(3, 1, 1)], vec![event(2, 4, 8),
    event(3, 5, 6), ReportFacts { holds: vec![6, 8], ..event(1, 9, 9) }])]
#[case::an_outer_report_from_before_the_inner_one(2, vec![span(1, 0, 0), span(2, 1, 50)], vec![event(1, 4, 9),
    event(2, 60, 9)])]
#[case::unsampled_log_records_of_two_places(1, vec![], vec![ReportFacts { is_unsampled: true, ..log(2, 4, 9) },
    ReportFacts { is_unsampled: true, place: 4, ..log(1, 5, 9) }])]
#[case::a_status_along_the_way_of_an_exception(1, vec![span(1, 0, 0), span(2, 1, 1), call(span(3, 2, 2))],
    vec![event(2, 5, 9), status(3, 4), status(1, 7)])]
#[case::statuses_alone_along_one_chain(1, vec![span(1, 0, 0), span(2, 1, 1), call(span(3, 2, 2))], vec![status(1, 9),
    status(2, 8), status(3, 7)])]
#[case::three_calls_that_failed_without_a_word(3, vec![span(1, 0, 0), call(span(2, 1, 1)), call(span(3, 1, 5)),
    call(span(4, 1, 9))], vec![status(2, 4), status(3, 8), status(4, 12), status(1, 13)])]
#[case::a_line_about_the_exception_just_thrown(1, vec![span(1, 0, 0), span(2, 1, 1)], vec![event(2, 5, 9), said(1, 7,
    3), status(1, 8)])]
#[case::a_line_from_before_the_exception(2, vec![span(1, 0, 0)], vec![said(1, 1, 3), event(1, 1_500, 9)])]
#[case::a_line_long_after_the_exception(2, vec![span(1, 0, 0)], vec![event(1, 5, 9), said(1, 9_000, 3)])]
#[case::two_lines_of_one_request(2, vec![span(1, 0, 0)], vec![said(1, 4, 3), said(1, 5, 4), status(1, 9)])]
fn reports_are_as_many_failures(
    #[case] expected: usize,
    #[case] spans: Vec<SpanFacts>,
    #[case] reports: Vec<ReportFacts>,
) {
    assert_eq!(decide(&spans, &reports).len(), expected);
}

#[test]
fn a_batch_of_500_failures_in_one_trace_is_500() {
    let items: Vec<SpanFacts> = std::iter::once(span(1, 0, 0))
        .chain((2..502).map(|id| span(id, 1, 1)))
        .collect();
    let events: Vec<ReportFacts> = (2..502_u64).map(|id| event(id, 10, 9)).collect();
    assert_eq!(decide(&items, &events).len(), 500);
    let logs: Vec<ReportFacts> = (0..500).map(|at| log(1, at, 9)).collect();
    assert_eq!(decide(&[span(1, 0, 0)], &logs).len(), 500);
}

#[test]
fn what_reached_the_entry_is_uncaught_and_what_was_handled_on_the_way_is_not() {
    let spans = |entry: SpanFacts| vec![entry, span(2, 1, 1), span(3, 2, 2)];
    let reports = [event(3, 5, 9), event(2, 6, 9)];
    assert!(decide(&spans(span(1, 0, 0)), &reports)[0].uncaught);
    assert!(!decide(&spans(fine(span(1, 0, 0))), &reports)[0].uncaught);
    assert_eq!(decide(&spans(span(1, 0, 0)), &reports)[0].endpoint, Some(7));
}

#[test]
fn the_fullest_report_of_the_innermost_exception_stands_for_the_failure() {
    let spans = [span(1, 0, 0), span(2, 1, 1), span(3, 2, 2)];
    let inner = event(3, 5, 9);
    let outer = ReportFacts {
        frames: 30,
        ..event(1, 7, 9)
    };
    let bare = ReportFacts {
        frames: 0,
        has_own_frame: false,
        ..event(3, 4, 8)
    };
    assert_eq!(decide(&spans, &[inner.clone(), outer.clone()])[0].occurrence, outer.id);
    let wrapper = holding(event(2, 6, 7), 8);
    assert_eq!(
        decide(&spans, &[bare, wrapper.clone()])[0].occurrence,
        wrapper.id,
        "own frames tell more than none"
    );
}

/// A small tree with reports of few exceptions on it.
pub fn made_up() -> impl Strategy<Value = Vec<Atom>> {
    let spans = prop::collection::vec((0u64..8, any::<bool>(), any::<bool>(), 0u64..3), 1..8);
    let reports = prop::collection::vec(
        (
            0u64..9,
            0i64..40,
            1u64..4,
            0u8..4,
            0u16..3,
            any::<bool>(),
            prop::option::of(1u64..4),
        ),
        1..10,
    );
    (spans, reports).prop_map(|(spans, reports)| {
        let mut atoms = vec![Atom::Span(1, span(1, 0, 0))];
        for (at, (parent, is_error, is_call, user)) in (2..).zip(spans) {
            let below = span(at, 1 + parent % (at - 1), i64::try_from(at).unwrap());
            atoms.push(Atom::Span(
                1,
                SpanFacts {
                    is_error,
                    is_call,
                    user,
                    ..below
                },
            ));
        }
        for (on, at, what, kind, frames, at_span_end, held) in reports {
            let report = match kind {
                0 => event(on, at, what),
                1 => log(on, at, what),
                // Without a trace there is no span to have a status.
                2 if on != 0 => status(on, at),
                _ => said(on, at, what),
            };
            let (is_log, frames) = (
                report.source != Source::SpanEvent,
                if report.source.is_bare() { 0 } else { frames },
            );
            let report = ReportFacts {
                frames,
                has_own_frame: frames > 1,
                at_span_end: at_span_end && !is_log,
                holds: held.into_iter().collect(),
                ..report
            };
            // Span 0 stands for none: a log record without a trace.
            atoms.push(if on == 0 {
                Atom::Report(
                    None,
                    ReportFacts {
                        span: None,
                        source: if report.source.is_bare() {
                            Source::LogMessage
                        } else {
                            Source::LogRecord
                        },
                        ..report
                    },
                )
            } else {
                Atom::Report(Some(1), report)
            });
        }
        // One id, one content: of two reports that differ only in what the id does not cover, one is kept.
        let mut seen = std::collections::HashSet::new();
        atoms.retain(|atom| match atom {
            Atom::Report(_, report) => seen.insert(report.id),
            Atom::Span(..) => true,
        });
        atoms
    })
}
