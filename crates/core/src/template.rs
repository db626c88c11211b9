//! Texts with places for facts: `{title} in {service}`.

use std::collections::BTreeMap;

use serde_json::Value;

/// What stands in the places of a template, by their names.
pub type Facts<'f> = BTreeMap<&'f str, String>;

/// A place that no fact fills.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("`{{{name}}}` names nothing that is known; known are {known}")]
pub struct Unknown {
    /// The place's name.
    pub name: String,
    /// The names that are known.
    pub known: String,
}

/// Puts facts into a text. A place is a name of lower-case letters and `_` in braces; other braces stay as they are.
///
/// # Errors
/// [`Unknown`] with the first place that no fact fills.
///
/// # Example
/// ```
/// use outcrop_core::template::fill;
/// let facts = [("service", "fares".to_owned())].into();
/// assert_eq!(fill("a failure of {service}: {}", &facts).unwrap(), "a failure of fares: {}");
/// assert!(fill("{sevrice}", &facts).is_err());
/// ```
pub fn fill(template: &str, facts: &Facts<'_>) -> Result<String, Unknown> {
    let mut filled = String::with_capacity(template.len());
    let mut rest = template;
    while let Some((before, place)) = rest.split_once('{') {
        filled.push_str(before);
        let is_of_a_name = |c: char| c.is_ascii_lowercase() || c == '_';
        let named = place
            .split_once('}')
            .filter(|(name, _)| !name.is_empty() && name.chars().all(is_of_a_name));
        let Some((name, after)) = named else {
            filled.push('{');
            rest = place;
            continue;
        };
        filled.push_str(facts.get(name).ok_or_else(|| Unknown {
            name: name.to_owned(),
            known: facts.keys().copied().collect::<Vec<_>>().join(", "),
        })?);
        rest = after;
    }
    filled.push_str(rest);
    Ok(filled)
}

/// Puts facts into the texts of a JSON document: whatever they hold, the document's form stays.
///
/// # Errors
/// [`Unknown`] with the first place that no fact fills.
pub fn fill_json(template: &Value, facts: &Facts<'_>) -> Result<Value, Unknown> {
    Ok(match template {
        Value::String(text) => Value::String(fill(text, facts)?),
        Value::Array(items) => Value::Array(
            items
                .iter()
                .map(|item| fill_json(item, facts))
                .collect::<Result<_, _>>()?,
        ),
        Value::Object(members) => Value::Object(
            members
                .iter()
                .map(|(name, value)| Ok((name.clone(), fill_json(value, facts)?)))
                .collect::<Result<_, Unknown>>()?,
        ),
        other => other.clone(),
    })
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use rstest::rstest;
    use serde_json::json;

    use super::*;

    fn facts() -> Facts<'static> {
        [
            ("title", "no \"tariff\"".to_owned()),
            ("link", "https://a.example/{title}".to_owned()),
        ]
        .into()
    }

    #[rstest]
    #[case::plain("nothing in it", "nothing in it")]
    #[case::twice("{title}, {title}", "no \"tariff\", no \"tariff\"")]
    #[case::what_is_filled_in_is_no_template("{link}", "https://a.example/{title}")]
    #[case::other_braces("{ {} {Title} {{title}", "{ {} {Title} {no \"tariff\"")]
    #[case::open("{title", "{title")]
    fn a_text_is_filled(#[case] template: &str, #[case] filled: &str) {
        assert_eq!(fill(template, &facts()).unwrap(), filled);
    }

    #[test]
    fn an_unknown_place_is_named_with_those_that_are_known() {
        assert_eq!(
            fill("{tilte}", &facts()).unwrap_err().to_string(),
            "`{tilte}` names nothing that is known; known are link, title"
        );
        fill_json(&json!({"a": [{"b": "{tilte}"}]}), &facts()).unwrap_err();
    }

    #[test]
    fn names_of_members_and_numbers_stay() {
        let template = json!({"{title}": 7, "text": ["{title}", true, null]});
        let filled = json!({"{title}": 7, "text": ["no \"tariff\"", true, null]});
        assert_eq!(fill_json(&template, &facts()).unwrap(), filled);
    }

    proptest! {
        #[test]
        fn whatever_a_fact_holds_the_document_keeps_its_form(fact in ".*") {
            let facts = [("title", fact.clone())].into();
            let filled = fill_json(&json!({"text": "a {title} b", "more": 1}), &facts).unwrap();
            let read: Value = serde_json::from_str(&filled.to_string()).unwrap();
            prop_assert_eq!(read, json!({"text": format!("a {fact} b"), "more": 1}));
        }

        #[test]
        fn any_template_is_filled_or_refused(template in ".*") {
            drop(fill(&template, &facts()));
        }
    }
}
