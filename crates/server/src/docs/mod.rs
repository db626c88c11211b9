//! The docs, as pages of the installation: rendered from what the binary was built with, found by their words.

mod page;

use std::collections::BTreeMap;
use std::sync::OnceLock;

use rust_embed::RustEmbed;

pub(crate) use page::{Page, Section};

#[derive(RustEmbed)]
#[folder = "../../docs"]
struct Files;

/// Parts of the docs in the order of their list, by folder.
pub(crate) const PARTS: [(&str, &str); 4] = [
    ("guides", "How-to guides"),
    ("reference", "Reference"),
    ("explanation", "Explanation"),
    ("decisions", "Decisions"),
];
/// Places that a search shows.
const MOST: usize = 30;
/// Longest search, in bytes.
pub(crate) const LONGEST: usize = 200;
/// Characters shown of a place that was found, before and behind the first word.
const AROUND: usize = 90;

/// All pages, by their path: `guides/operate`, empty for the first.
pub(crate) fn pages() -> &'static BTreeMap<String, Page> {
    static PAGES: OnceLock<BTreeMap<String, Page>> = OnceLock::new();
    PAGES.get_or_init(|| {
        let of = |name: &str| {
            let path = name.strip_suffix(".md")?;
            let file = Files::get(name)?;
            let folder = path.rsplit_once('/').map_or("", |(folder, _)| folder);
            let path = path.strip_suffix("README").unwrap_or(path).trim_end_matches('/');
            let page = page::render(&String::from_utf8_lossy(&file.data), folder);
            Some((path.to_owned(), page))
        };
        Files::iter().filter_map(|name| of(&name)).collect()
    })
}

/// A picture of the docs, as PNG.
pub(crate) fn picture(name: &str) -> Option<Vec<u8>> {
    let stem = name.strip_suffix(".png").filter(|stem| !stem.contains('/'))?;
    let file = Files::get(&format!("screenshots/{stem}.png"))?;
    Some(file.data.into_owned())
}

/// A place that a search found.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Found {
    /// Where it is: `/docs/guides/operate#sign-in`.
    pub address: String,
    /// The page and the heading.
    pub title: String,
    /// The text around the first word.
    pub text: String,
}

/// Places that hold each word of a text or the beginning of a longer one: those whose heading has them first, then those
/// that have them most often.
pub(crate) fn search(text: &str) -> Vec<Found> {
    let words: Vec<String> = text.to_lowercase().split_whitespace().map(str::to_owned).collect();
    if words.is_empty() {
        return vec![];
    }
    let mut found: Vec<(usize, usize, Found)> = vec![];
    for (path, page) in pages() {
        for section in &page.sections {
            if let Some((in_title, count)) = weight(section, &words) {
                found.push((in_title, count, place(path, page, section, &words[0])));
            }
        }
    }
    found.sort_by_key(|(in_title, count, _)| std::cmp::Reverse((*in_title, *count)));
    found.truncate(MOST);
    found.into_iter().map(|(_, _, found)| found).collect()
}

/// How many words a section's heading has, and how often all stand in it; `None` where one is not there at all.
fn weight(section: &Section, words: &[String]) -> Option<(usize, usize)> {
    let (title, text) = (section.title.to_lowercase(), section.text.to_lowercase());
    let mut weight = (0, 0);
    for word in words {
        let is_in_title = title.contains(word.as_str());
        let count = text.matches(word.as_str()).count();
        if !is_in_title && count == 0 {
            return None;
        }
        weight = (weight.0 + usize::from(is_in_title), weight.1 + count);
    }
    Some(weight)
}

fn place(path: &str, page: &Page, section: &Section, word: &str) -> Found {
    let address = if path.is_empty() {
        "/docs".to_owned()
    } else {
        format!("/docs/{path}")
    };
    let (address, title) = if section.anchor.is_empty() {
        (address, page.title.clone())
    } else {
        (
            format!("{address}#{}", section.anchor),
            format!("{} › {}", page.title, section.title),
        )
    };
    Found {
        address,
        title,
        text: around(&section.text, word),
    }
}

/// The text around a word, cut at characters; its beginning where the word stands in the heading alone.
fn around(text: &str, word: &str) -> String {
    let lower = text.to_lowercase();
    let at = lower
        .find(word)
        .map_or(0, |at| lower.get(..at).unwrap_or_default().chars().count());
    let from = at.saturating_sub(AROUND);
    let mut shown: String = text.chars().skip(from).take(2 * AROUND).collect();
    shown = shown.split_whitespace().collect::<Vec<_>>().join(" ");
    if from > 0 {
        shown.insert(0, '…');
    }
    if from + 2 * AROUND < text.chars().count() {
        shown.push('…');
    }
    shown
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_search_finds_the_place_whose_heading_says_it_first() {
        let found = search("Saved questions");
        assert_eq!(found[0].address, "/docs/reference/questions#saved-questions");
        assert_eq!(found[0].title, "The question language › Saved questions");
        assert!(found[0].text.contains("saved questions"), "{}", found[0].text);
        assert!(found.len() > 1 && found.len() <= MOST);
        assert_eq!(search("  "), []);
        assert_eq!(search("nosuchwordanywhere"), []);
        assert!(search("a").len() <= MOST);
    }

    #[test]
    fn a_text_is_cut_around_its_word_whatever_its_letters_are() {
        let text = format!("{} İstanbul ferry {}", "é".repeat(200), "ü".repeat(200));
        let shown = around(&text, "ferry");
        assert!(
            shown.starts_with('…') && shown.ends_with('…') && shown.contains("ferry"),
            "{shown}"
        );
        assert_eq!(around("short", "heading"), "short");
    }
}
