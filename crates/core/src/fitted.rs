//! Documents cut to fit a budget: long lists and texts lose their ends, and say how much is missing.

use serde_json::{Map, Value};

/// Longest lists, and longest texts in characters, that are tried in turn.
const STEPS: [(usize, usize); 9] = [
    (100, 4_000),
    (50, 2_000),
    (30, 1_000),
    (20, 600),
    (12, 400),
    (8, 250),
    (5, 160),
    (3, 100),
    (1, 60),
];

/// A document whose JSON text has so many bytes at most, and whether something was cut from it. Members without a value
/// are left out. What does not fit even when all is cut comes as far as its first members do.
#[must_use]
pub fn fitted(document: &Value, budget: usize) -> (Value, bool) {
    let whole = compact(document, usize::MAX, usize::MAX).unwrap_or(Value::Null);
    let fits = |value: &Value| value.to_string().len() <= budget;
    if fits(&whole) {
        return (whole, false);
    }
    for (items, characters) in STEPS {
        let cut = compact(document, items, characters).unwrap_or(Value::Null);
        if fits(&cut) {
            return (cut, true);
        }
    }
    let (items, characters) = STEPS[STEPS.len() - 1];
    let mut kept = Map::new();
    if let Some(Value::Object(members)) = compact(document, items, characters) {
        for (name, value) in members {
            kept.insert(name.clone(), value);
            if !fits(&Value::Object(kept.clone())) {
                kept.remove(&name);
            }
        }
    }
    (Value::Object(kept), true)
}

/// The document without empty members, its lists and texts no longer than so; nothing where nothing is left.
fn compact(value: &Value, items: usize, characters: usize) -> Option<Value> {
    match value {
        Value::Null => None,
        Value::String(text) if text.is_empty() => None,
        Value::String(text) => Some(Value::String(shortened(text, characters))),
        Value::Array(list) => {
            let mut kept: Vec<Value> = list
                .iter()
                .take(items)
                .filter_map(|item| compact(item, items, characters))
                .collect();
            if list.len() > items {
                kept.push(Value::String(format!("({} more)", list.len() - items)));
            }
            (!kept.is_empty()).then_some(Value::Array(kept))
        }
        Value::Object(members) => {
            let kept: Map<String, Value> = members
                .iter()
                .filter_map(|(name, value)| Some((name.clone(), compact(value, items, characters)?)))
                .collect();
            (!kept.is_empty()).then_some(Value::Object(kept))
        }
        other => Some(other.clone()),
    }
}

fn shortened(text: &str, characters: usize) -> String {
    let more = text.chars().skip(characters).count();
    if more == 0 {
        return text.to_owned();
    }
    let kept: String = text.chars().take(characters).collect();
    format!("{kept}… ({more} more characters)")
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use serde_json::json;

    use super::*;

    #[test]
    fn what_fits_is_whole_and_what_does_not_says_what_is_missing() {
        let small = json!({"ref": "kobal-tirun", "none": null, "empty": [], "count": 0});
        assert_eq!(
            fitted(&small, 1_000),
            (json!({"ref": "kobal-tirun", "count": 0}), false)
        );
        let long = json!({"frames": vec!["tariff.quote"; 300], "message": "ø".repeat(9_000)});
        let (cut, is_cut) = fitted(&long, 5_000);
        assert!(is_cut && cut.to_string().len() <= 5_000);
        let frames = cut["frames"].as_array().unwrap();
        assert_eq!(frames.last().unwrap(), &json!(format!("({} more)", 301 - frames.len())));
        assert!(cut["message"].as_str().unwrap().ends_with(" more characters)"));
    }

    fn document() -> impl Strategy<Value = Value> {
        let leaf = prop_oneof![
            any::<bool>().prop_map(Value::from),
            any::<i64>().prop_map(Value::from),
            ".{0,300}".prop_map(Value::from),
        ];
        leaf.prop_recursive(4, 200, 12, |inner| {
            prop_oneof![
                prop::collection::vec(inner.clone(), 0..12).prop_map(Value::from),
                prop::collection::btree_map("[a-z]{1,8}", inner, 0..8)
                    .prop_map(|members| Value::Object(members.into_iter().collect())),
            ]
        })
    }

    proptest! {
        #[test]
        fn a_document_never_takes_more_than_its_budget(document in document(), budget in 100_usize..4_000) {
            let document = json!({"it": document});
            prop_assert!(fitted(&document, budget).0.to_string().len() <= budget);
        }
    }
}
