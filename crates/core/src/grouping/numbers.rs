//! The numbers within lines of one template, by their places.
//!
//! A template says `{n}` and `{duration}` where lines differ by a number. What stands there in a line is found by a
//! regular expression made of the template, in the syntax that PostgreSQL and the crate `regex` share.

/// The greatest place that can be asked for.
const MAX_PLACE: usize = 50;

use super::variable::DURATIONS;

const BLANKS: &str = " \u{a0}\u{202f}";

/// A number of a line, as found by an expression.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct NumberOfLine {
    /// Matches the beginning of a line. Its first group is the number as written, its second the unit of a duration,
    /// else empty.
    pub pattern: String,
    /// Whether a duration stands there, as `250ms`.
    pub is_duration: bool,
}

/// The place that a name stands for: 2 for `number_2`.
///
/// # Example
/// ```
/// use outcrop_core::grouping::place_of;
/// assert_eq!(place_of("number_2"), Some(2));
/// assert_eq!(place_of("number_0"), None);
/// ```
#[must_use]
pub fn place_of(name: &str) -> Option<usize> {
    let digits = name.strip_prefix("number_")?;
    let place = digits.parse().ok()?;
    // `number_02` is an attribute like any other.
    ((1..=MAX_PLACE).contains(&place) && place.to_string() == digits).then_some(place)
}

/// The number at a place of lines of a template, counted from 1; `None` where the template has none there.
///
/// # Example
/// ```
/// use outcrop_core::grouping::{number_at, template};
/// let template = template("drained after 39376ms, 6720 requests dropped");
/// assert!(number_at(&template, 1).unwrap().is_duration);
/// assert_eq!(number_at(&template, 3), None);
/// ```
#[must_use]
pub fn number_at(template: &str, place: usize) -> Option<NumberOfLine> {
    let (mut pattern, mut rest, mut numbers) = (String::from("^"), template, 0);
    loop {
        let (literal, word, after) = next_word(rest);
        push_literal(&mut pattern, literal);
        let word = word?;
        let is_number = matches!(word, "{n}" | "{duration}");
        numbers += usize::from(is_number);
        if is_number && numbers == place {
            let after = next_word(after).0;
            let unit = unit_of(after).filter(|_| word == "{n}");
            let is_duration = word == "{duration}" || unit.is_some();
            pattern.extend(["(", &number(), ")"]);
            if let Some(unit) = unit {
                pattern.extend([" (", unit, ")"]);
            } else {
                pattern.push_str(if is_duration { "([A-Za-z]+)" } else { "()" });
                push_literal(&mut pattern, after);
            }
            return Some(NumberOfLine { pattern, is_duration });
        }
        pattern.push_str(&of_word(word));
        rest = after;
    }
}

/// The unit of time that stands behind a number as a word of its own. A lone `m` may be metres, a lone `h` anything.
fn unit_of(after: &str) -> Option<&str> {
    let word = after.strip_prefix(' ')?;
    let word = word.get(..word.find(|c: char| !c.is_alphanumeric()).unwrap_or(word.len()))?;
    (DURATIONS.contains(&word.as_bytes()) && !matches!(word, "m" | "h")).then_some(word)
}

/// How many numbers lines of a template have.
#[must_use]
pub fn numbers_of(template: &str) -> usize {
    (1..=MAX_PLACE)
        .take_while(|place| number_at(template, *place).is_some())
        .count()
}

/// The words of templates, and what stands for each in a line; numbers apart.
const WORDS: [(&str, &str); 12] = [
    ("{id}", "[^ ]+"),
    ("{uuid}", "[^ ]+"),
    ("{hex}", "[^ ]+"),
    ("{address}", "[^ ]+"),
    ("{email}", "[^ ]+"),
    ("{url}", "[^ ]+"),
    ("{path}", "[^ ]+"),
    ("{time}", "[0-9][^ ]*(?: [0-9][^ ]*)?"),
    ("{name}", "[^ ]+(?: [^ ]+){0,2}"),
    ("{text}", "(?:\".*\"|'.*'|`.*`)"),
    ("{list}", "\\[.*\\]"),
    ("{json}", "\\{.*\\}"),
];

fn of_word(word: &str) -> String {
    match word {
        "{n}" => number(),
        "{duration}" => format!("{}[A-Za-z]+", number()),
        _ => WORDS
            .iter()
            .find(|(known, _)| *known == word)
            .map_or_else(String::new, |(_, pattern)| (*pattern).to_owned()),
    }
}

/// What [`super::variable::number`] takes for one: a sign, thousands set apart, decimals, an exponent.
fn number() -> String {
    format!("[-+]?(?:[0-9]{{1,3}}(?:[{BLANKS}][0-9]{{3}})+|[0-9]+)(?:[.,_'][0-9]+)*(?:[eE][-+]?[0-9]+)?")
}

/// A template's text up to its next word, the word, and what follows.
fn next_word(template: &str) -> (&str, Option<&str>, &str) {
    let known = WORDS.iter().map(|(word, _)| *word).chain(["{n}", "{duration}"]);
    let next = template.match_indices('{').find_map(|(at, _)| {
        let from = template.get(at..)?;
        let word = known.clone().find(|word| from.starts_with(word))?;
        Some((at, word))
    });
    next.map_or((template, None, ""), |(at, word)| {
        let after = template.get(at + word.len()..).unwrap_or_default();
        (template.get(..at).unwrap_or_default(), Some(word), after)
    })
}

fn push_literal(pattern: &mut String, literal: &str) {
    for c in literal.chars() {
        // `<` and `>` stand for themselves in both syntaxes, and escaped for the bounds of words in one.
        if c.is_ascii_punctuation() && !matches!(c, '<' | '>') {
            pattern.push('\\');
        }
        pattern.push(c);
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use regex::Regex;
    use rstest::rstest;

    use super::*;
    use crate::grouping::template;

    fn found(line: &str, place: usize) -> Option<(String, String)> {
        let number = number_at(&template(line), place)?;
        let groups = Regex::new(&number.pattern).unwrap().captures(line)?;
        Some((groups[1].to_owned(), groups[2].to_owned()))
    }

    #[rstest]
    #[case("drained after 39376ms, 6720 requests dropped", 1, "39376", "ms")]
    #[case("drained after 39376ms, 6720 requests dropped", 2, "6720", "")]
    #[case("{\"berth\": 7} took 12.5s (load 0.71)", 1, "12.5", "s")]
    #[case("berth 'North, 7' of 192.0.2.7:443 waits 1,204 kg at 04:40", 1, "1,204", "")]
    #[case("pier a1b2c3d4e5 lost 13 401,41 crowns", 1, "13 401,41", "")]
    #[case("took -5 of 8 (50%)", 3, "50", "")]
    #[case("<queue> depth=17/200 [now]", 1, "17", "")]
    #[case("waited 12 ms, then 3 seconds", 1, "12", "ms")]
    #[case("waited 12 ms, then 3 seconds", 2, "3", "seconds")]
    #[case("a deck of 12 m", 1, "12", "")]
    #[case("took 12 msgs", 1, "12", "")]
    #[case("rate 1.2e-7 after 3 tries", 1, "1.2e-7", "")]
    #[case("at 2026-11-23 04:40:07 in zone Tern 9 were refused", 1, "9", "")]
    fn a_number_is_found_by_its_place(
        #[case] line: &str,
        #[case] place: usize,
        #[case] number: &str,
        #[case] unit: &str,
    ) {
        assert_eq!(
            found(line, place),
            Some((number.to_owned(), unit.to_owned())),
            "{}",
            template(line)
        );
    }

    #[rstest]
    #[case("nothing in it", 0)]
    #[case("{n} is no number of berth 7, 8", 3)]
    #[case("0x7f3a of 12", 1)]
    fn places_are_counted(#[case] line: &str, #[case] numbers: usize) {
        assert_eq!(numbers_of(&template(line)), numbers);
        assert_eq!(number_at(&template(line), numbers + 1), None);
        assert_eq!(number_at(&template(line), 0), None);
    }

    #[rstest]
    #[case("number_1", Some(1))]
    #[case("number_50", Some(50))]
    #[case("number_51", None)]
    #[case("number_01", None)]
    #[case("number_", None)]
    #[case("number_-1", None)]
    fn a_name_stands_for_a_place(#[case] name: &str, #[case] place: Option<usize>) {
        assert_eq!(place_of(name), place);
    }

    proptest! {
        #[test]
        fn each_number_written_is_found_again(numbers in proptest::collection::vec(0u64..10_000_000, 1..6)) {
            let parts: Vec<String> = numbers.iter().map(|n| format!("pier took {n} of it; ")).collect();
            let line = parts.concat();
            for (at, number) in numbers.iter().enumerate() {
                prop_assert_eq!(found(&line, at + 1), Some((number.to_string(), String::new())));
            }
        }

        #[test]
        fn whatever_a_template_is_its_pattern_is_one(text in "(\\PC|\\{n\\}|\\{text\\}|[0-9(*+?^$|.<>\\[\\]{}]){0,60}") {
            let made = template(&text);
            for place in 1..=numbers_of(&made) {
                prop_assert!(Regex::new(&number_at(&made, place).unwrap().pattern).is_ok());
            }
        }
    }
}
