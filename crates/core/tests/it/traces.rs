//! Traces: worked examples, and what must hold of any set of spans.

use outcrop_core::Timestamp;
use outcrop_core::telemetry::{Attributes, SpanId, Value};
use outcrop_core::trace::{Chunk, StoredSpan, Trace, critical_path, origin_of, origin_of_report, repeated, sentence};
use proptest::prelude::*;

const MS: i64 = 1_000_000;
const CLIENT: i8 = 3;
const SERVER: i8 = 2;
const INTERNAL: i8 = 1;

/// A span: id, parent (0 for none), kind, name, start and end in milliseconds; a name that begins with `!` failed.
fn span(id: u64, parent: u64, kind: i8, name: &str, from: i64, to: i64) -> StoredSpan {
    StoredSpan {
        id: SpanId(id),
        parent: (parent != 0).then_some(SpanId(parent)),
        name: name.trim_start_matches('!').to_owned(),
        kind,
        start: Timestamp(from * MS),
        duration_ns: u64::try_from((to - from) * MS).unwrap(),
        is_error: name.starts_with('!'),
        status_message: String::new(),
        scope: String::new(),
        attributes: Attributes::default(),
        events: vec![],
        links: vec![],
    }
}

fn of(service: &str, spans: Vec<StoredSpan>) -> Chunk {
    Chunk {
        service: service.to_owned(),
        spans,
        ..Chunk::default()
    }
}

fn query(id: u64, parent: u64, from: i64, to: i64) -> StoredSpan {
    let statement = (
        "db.query.text".to_owned(),
        Value::String(format!("SELECT * FROM cabins WHERE id = {id}")),
    );
    StoredSpan {
        attributes: Attributes(vec![statement]),
        ..span(id, parent, CLIENT, "SELECT", from, to)
    }
}

/// The path as `name from-to`, in milliseconds.
fn path(trace: &Trace) -> Vec<String> {
    let root = trace.root().unwrap();
    let told = |step: &outcrop_core::trace::PathStep| {
        format!("{} {}-{}", trace.spans[step.span].name, step.from / MS, step.to / MS)
    };
    critical_path(trace, root).iter().map(told).collect()
}

#[test]
fn the_critical_path_takes_what_ended_last_and_says_who_kept_the_request_waiting() {
    let mut stowage = vec![span(3, 2, SERVER, "lists", 12, 95)];
    stowage.extend((0..8).map(|run| query(100 + u64::try_from(run).unwrap(), 3, 14 + run * 10, 23 + run * 10)));
    let edge = vec![
        span(1, 0, SERVER, "quote", 0, 100),
        span(2, 1, CLIENT, "GET stowage", 10, 97),
        span(4, 1, CLIENT, "GET audit", 20, 60),
    ];
    let trace = Trace::new([of("stowage", stowage), of("gangway", edge)]);
    let root = trace.root().unwrap();
    let steps = critical_path(&trace, root);
    assert_eq!(
        path(&trace)[..4],
        ["quote 0-10", "GET stowage 10-12", "lists 12-14", "SELECT 14-23"]
    );
    assert!(
        !path(&trace).iter().any(|step| step.contains("audit")),
        "what ran beside it kept nobody waiting"
    );
    assert_eq!(
        sentence(&trace, root, &steps),
        "72 ms of 100 ms is stowage’s query `SELECT * FROM cabins WHERE id = {n}`, run 8 times."
    );
    let found = repeated(&trace);
    assert_eq!((found.len(), found[0].count, found[0].total_ns), (1, 8, 72 * MS));
    let lists = trace.place(SpanId(3)).unwrap();
    assert_eq!(trace.spans[lists].self_ns, (95 - 12 - 72) * MS);
}

#[test]
fn a_clock_that_is_behind_is_set_right_and_a_parent_that_never_came_is_a_gap() {
    let trace = Trace::new([
        of(
            "gangway",
            vec![
                span(1, 0, SERVER, "quote", 1_000, 1_100),
                span(2, 1, CLIENT, "POST", 1_010, 1_090),
            ],
        ),
        // Its clock is a second behind; all that it did moves along.
        of(
            "fares",
            vec![
                span(3, 2, SERVER, "price", 20, 60),
                span(4, 3, INTERNAL, "tariff", 25, 35),
            ],
        ),
        of("ledger", vec![span(6, 5, SERVER, "settle", 1_200, 1_230)]),
    ]);
    let of = |id: u64| &trace.spans[trace.place(SpanId(id)).unwrap()];
    assert_eq!(
        (of(3).start.0 / MS, of(4).start.0 / MS, of(3).moved_ns / MS),
        (1_030, 1_035, 1_010)
    );
    assert!(of(5).is_missing && of(5).start == of(6).start && of(6).depth == 1);
    let order: Vec<u64> = trace.spans.iter().map(|span| span.id.0).collect();
    assert_eq!(order, [1, 2, 3, 4, 5, 6]);
}

#[test]
fn a_failure_is_followed_to_where_it_began() {
    // The edge calls fares; fares calls stowage twice: the first try fails, the second too; audit fails and is borne.
    let edge = vec![
        span(1, 0, SERVER, "!quote", 0, 100),
        span(2, 1, CLIENT, "!POST fares", 5, 90),
        span(7, 1, INTERNAL, "audit", 91, 95),
        span(8, 7, CLIENT, "PUT audit", 91, 94),
    ];
    let fares = vec![
        span(3, 2, SERVER, "!price", 6, 89),
        span(4, 3, CLIENT, "!GET lists", 10, 30),
        span(5, 3, CLIENT, "!GET lists", 31, 80),
    ];
    let stowage = vec![
        span(10, 4, SERVER, "!lists", 11, 29),
        span(11, 5, SERVER, "!lists", 32, 79),
    ];
    let trace = Trace::new([
        of("gangway", edge.clone()),
        of("fares", fares),
        of("stowage", stowage.clone()),
    ]);
    let origin =
        |trace: &Trace, id: u64| origin_of(trace, trace.place(SpanId(id)).unwrap()).map(|at| trace.spans[at].id.0);
    assert_eq!(origin(&trace, 1), Some(11), "the last try is what it failed with");
    assert_eq!((origin(&trace, 3), origin(&trace, 11)), (Some(11), None));

    // The second try succeeds, and fares fails all the same: by itself.
    let fares = vec![
        span(3, 2, SERVER, "!price", 6, 89),
        span(4, 3, CLIENT, "!GET lists", 10, 30),
        span(5, 3, CLIENT, "GET lists", 31, 80),
    ];
    let trace = Trace::new([of("gangway", edge.clone()), of("fares", fares), of("stowage", stowage)]);
    assert_eq!((origin(&trace, 1), origin(&trace, 3)), (Some(3), None));

    // An exception recorded on a span within the request does not make that span end in error: it
    // failed with the call below it.
    let inside = vec![
        span(1, 0, SERVER, "!GET /quotes", 0, 100),
        span(9, 1, INTERNAL, "handler", 1, 99),
        span(2, 9, CLIENT, "!POST fares", 5, 90),
    ];
    let trace = Trace::new([
        of("gangway", inside),
        of("fares", vec![span(3, 2, SERVER, "!price", 6, 89)]),
    ]);
    let reported = origin_of_report(&trace, trace.place(SpanId(9)).unwrap()).map(|at| trace.spans[at].id.0);
    assert_eq!((origin(&trace, 9), reported), (None, Some(3)));

    // The caller gave up; the other side did not fail: it began at the caller.
    let trace = Trace::new([
        of("gangway", edge),
        of("fares", vec![span(3, 2, SERVER, "price", 6, 300)]),
    ]);
    assert_eq!(origin(&trace, 1), None);
}

/// Spans of a few services with parents at random, some of which never came or form a ring.
fn spans() -> impl Strategy<Value = Vec<(usize, StoredSpan)>> {
    prop::collection::vec(
        (
            1..24_u64,
            0..26_u64,
            1..6_i8,
            0..500_i64,
            0..300_i64,
            any::<bool>(),
            0..3_usize,
        ),
        1..40,
    )
    .prop_map(|rows| {
        let made = |(id, parent, kind, from, length, fails, service): (u64, u64, i8, i64, i64, bool, usize)| {
            (
                service,
                span(
                    id,
                    parent,
                    kind,
                    if fails { "!work" } else { "work" },
                    from,
                    from + length,
                ),
            )
        };
        rows.into_iter().map(made).collect()
    })
}

#[test]
fn of_two_spans_with_one_id_the_same_is_taken_in_any_order_though_they_differ_in_one_thing_alone() {
    let base = || span(22, 0, 1, "work", 463, 727);
    let failed = StoredSpan {
        is_error: true,
        ..base()
    };
    let scoped = StoredSpan {
        scope: "tariffs".to_owned(),
        ..base()
    };
    for other in [failed, scoped] {
        let tree = |spans: [StoredSpan; 2]| Trace::new(spans.map(|span| of("gangway", vec![span])));
        assert_eq!(tree([base(), other.clone()]), tree([other, base()]));
    }
}

proptest! {
    #[test]
    fn any_order_and_repetition_of_spans_makes_the_same_tree_with_each_span_once(spans in spans(),
        swaps in prop::collection::vec(any::<prop::sample::Index>(), 40), cut in any::<prop::sample::Index>()) {
        let chunks = |spans: &[(usize, StoredSpan)]| -> Vec<Chunk> {
            spans.iter().map(|(service, span)| of(["gangway", "fares", "stowage"][*service],
                vec![span.clone()])).collect()
        };
        let trace = Trace::new(chunks(&spans));
        let mut shuffled = spans.clone();
        for (at, swap) in swaps.iter().enumerate().take(shuffled.len()) {
            let other = swap.index(shuffled.len());
            shuffled.swap(at, other);
        }
        let again = shuffled[..cut.index(shuffled.len())].to_vec();
        shuffled.extend(again);
        prop_assert_eq!(&trace, &Trace::new(chunks(&shuffled)));

        let ids: std::collections::BTreeSet<_> = trace.spans.iter().map(|span| span.id).collect();
        prop_assert_eq!(ids.len(), trace.spans.len());
        prop_assert!(spans.iter().all(|(_, span)| ids.contains(&span.id)));
        for (at, root) in trace.spans.iter().enumerate() {
            let steps = critical_path(&trace, at);
            let sum: i64 = steps.iter().map(|step| step.to - step.from).sum();
            prop_assert_eq!(sum, root.duration_ns, "the path is as long as the span");
            prop_assert!(steps.windows(2).all(|pair| pair[0].to == pair[1].from), "without gaps");
            prop_assert!(root.self_ns <= root.duration_ns);
            prop_assert_ne!(origin_of(&trace, at), Some(at));
        }
    }
}
