//! Errors whose code was edited between versions: what they are taken for, on labelled real stacks and on made-up ones.

use std::collections::{BTreeMap, BTreeSet};

use outcrop_core::grouping::moved::{Change, Finding, Link, Shape, Sighted, Spot, find};
use outcrop_core::stack::Relation;
use outcrop_testkit::refactoring::Edit;
use outcrop_testkit::survival::{Survival, survival};
use proptest::prelude::*;
use rstest::rstest;

/// Floors below what was measured on 2026-11-29 (docs/explanation/grouping.md), on versions drawn for this test alone.
#[test]
fn errors_survive_edits_of_their_code_and_two_defects_never_join() {
    let mut all = Survival::default();
    for seed in 900..906 {
        all.add(survival(seed, seed % 2 == 1));
    }
    for (edit, fate) in &all.edited {
        let least = match edit {
            Edit::None => 100,
            Edit::Helper | Edit::FileRenamed | Edit::FunctionMoved => 93,
            Edit::Inlined => 80,
            Edit::FunctionRenamed => 50,
        };
        assert_eq!(fate.wrong, 0, "{edit:?} {:#?}", all.notes);
        assert!(
            fate.all() >= 40 && 100 * (fate.as_before + fate.moved) >= least * fate.all(),
            "{edit:?} {fate:?}"
        );
    }
    assert!(all.brought.new > 100);
    // One in a hundred: two siblings of which one came as the other went.
    assert!(100 * all.brought.wrong <= all.brought.all(), "{:#?}", all.notes);
}

fn spots(frames: &str) -> Vec<Spot> {
    let spot = |frame: &str| {
        let (place, function) = frame.split_once(':').unwrap_or(("fares", frame));
        Spot {
            place: place.to_owned(),
            function: function.to_owned(),
        }
    };
    frames.split(' ').map(spot).collect()
}

/// A shape of a type, frames from where it was thrown outwards, and a message.
fn shape(type_name: &str, frames: &str, message: &str) -> Shape {
    let link = Link {
        relation: Relation::Thrown,
        type_name: type_name.to_owned(),
        codes: vec![],
        spots: spots(frames),
        is_cut: false,
    };
    Shape {
        exceptions: vec![link],
        message: message.to_owned(),
    }
}

fn found(shapes: &[(Shape, &[usize])]) -> BTreeMap<i64, Finding> {
    let sighted: Vec<Sighted<'_>> = (0..)
        .zip(shapes)
        .map(|(number, (shape, versions))| Sighted {
            cause: number,
            error: number,
            shape,
            versions: versions.iter().copied().collect(),
        })
        .collect();
    find(&sighted)
}

#[rstest]
#[case::helper_in_between("rate quote main", "rate timed quote main", "a frame fares: timed was added")]
#[case::thrown_in_a_helper("rate quote main", "checked rate quote main", "a frame fares: checked was added")]
#[case::inlined("checked rate quote main", "rate quote main", "the frame fares: checked is gone")]
#[case::file_renamed("rate quote main:main", "tariff:rate tariff:quote main:main", "fares became tariff")]
#[case::function_moved("rate quote main", "rate offers:quote main", "fares became offers")]
#[case::caller_renamed("rate quote main", "rate offer main", "fares: quote is called fares: offer")]
fn an_edit_of_each_kind_is_seen_through(#[case] before: &str, #[case] after: &str, #[case] said: &str) {
    let found = found(&[
        (shape("KeyError", before, "{text}"), &[0]),
        (shape("KeyError", after, "{text}"), &[1]),
    ]);
    let Some(Finding::Moved { error: 0, changes }) = found.get(&1) else {
        panic!("{found:?}")
    };
    assert_eq!(changes.iter().map(Change::to_string).collect::<Vec<_>>(), [said]);
}

#[rstest]
#[case::another_type("KeyError", "rate quote main", "ValueError", "rate timed quote main", "{text}")]
#[case::another_thrower("KeyError", "rate quote main", "KeyError", "refund quote main", "{text}")]
#[case::nothing_in_common("KeyError", "rate quote", "KeyError", "share refund", "{text}")]
#[case::another_type_of_the_same_words(
    "KeyError",
    "rate quote main",
    "DecimalError",
    "rate quote main",
    "row {n} is broken"
)]
#[case::four_edits("KeyError", "rate quote main", "KeyError", "a b rate c d quote main", "{text}")]
fn another_defect_stays_new(
    #[case] type_before: &str,
    #[case] before: &str,
    #[case] type_after: &str,
    #[case] after: &str,
    #[case] message: &str,
) {
    let found = found(&[
        (shape(type_before, before, message), &[0]),
        (shape(type_after, after, message), &[1]),
    ]);
    assert!(!matches!(found.get(&1), Some(Finding::Moved { .. })), "{found:?}");
}

#[test]
fn a_renamed_type_is_known_by_its_words_and_by_all_else_being_alike() {
    let before = shape("TideError", "rate quote main", "the tide is out until {time}");
    let after = shape("TideIsOut", "rate quote main", "the tide is out until {time}");
    let found = found(&[(before, &[0]), (after, &[1])]);
    assert!(
        matches!(&found[&1], Finding::Moved { error: 0, changes } if changes[0].to_string() == "the type TideError is \
            called TideIsOut")
    );
}

#[test]
fn what_still_occurs_as_it_did_has_not_moved() {
    let before = shape("KeyError", "rate quote main", "{text}");
    let after = shape("KeyError", "rate timed quote main", "{text}");
    assert_eq!(found(&[(before, &[0, 1]), (after, &[1])]), BTreeMap::new());
}

#[test]
fn where_two_could_be_meant_both_are_named() {
    let of = |frames: &str| shape("KeyError", frames, "{text}");
    let found = found(&[
        (of("rate quote main"), &[0]),
        (of("rate offer main"), &[0]),
        (of("rate main"), &[1]),
    ]);
    assert_eq!(found[&2], Finding::MayBe { errors: vec![0, 1] });
}

#[test]
fn an_error_is_followed_through_several_versions() {
    let of = |frames: &str| shape("KeyError", frames, "{text}");
    let found = found(&[
        (of("rate quote main"), &[0]),
        (of("rate timed quote main"), &[1]),
        (of("rate timed watched quote main"), &[2]),
    ]);
    assert!(matches!(found[&1], Finding::Moved { error: 0, .. }));
    assert!(matches!(found[&2], Finding::Moved { error: 0, .. }));
}

fn frames() -> impl Strategy<Value = String> {
    prop::collection::vec(
        prop::sample::select(vec!["rate", "quote", "main", "timed", "tariff:rate", "refund"]),
        1..5,
    )
    .prop_map(|frames| frames.join(" "))
}

proptest! {
    #[test]
    fn the_order_in_which_causes_are_known_decides_nothing(
        made in prop::collection::vec((frames(), 0_usize..3, prop::sample::select(vec!["{text}", "berth {n} is \
            taken"])), 1..9),
        turned in any::<prop::sample::Index>(),
    ) {
        let shapes: Vec<(Shape, BTreeSet<usize>)> =
            made.iter().map(|(frames, version, message)| (shape("KeyError", frames, message),
                BTreeSet::from([*version]))).collect();
        let mut sighted: Vec<Sighted<'_>> = (0..)
            .zip(&shapes)
            .map(|(number, (shape, versions))| Sighted { cause: number, error: number, shape,
                versions: versions.clone() })
            .collect();
        let first = find(&sighted);
        let by = turned.index(sighted.len());
        sighted.rotate_left(by);
        prop_assert_eq!(find(&sighted), first.clone());
        // Nothing leads to itself, or to what came later.
        for (cause, finding) in &first {
            if let Finding::Moved { error, .. } = finding {
                let version = |number: i64| made[usize::try_from(number).unwrap()].1;
                prop_assert!(version(*error) < version(*cause));
            }
        }
    }
}
