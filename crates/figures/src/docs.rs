//! Checks the Markdown of the repository: links and anchors lead somewhere, text breaks at 100 columns.

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};

use pulldown_cmark::{Event, Parser, Tag, TagEnd};

/// Columns at which running text breaks. Code, tables, headings and lines of one long word may be longer.
pub const TEXT_COLUMNS: usize = 100;

/// What one file of Markdown holds.
#[derive(Debug, Default, PartialEq, Eq)]
pub struct Page {
    /// Targets of links and pictures within the repository: a path, an anchor, or both.
    pub targets: Vec<String>,
    /// Anchors of its headings.
    pub anchors: BTreeSet<String>,
    /// Numbers of lines of running text that are too long, from 1.
    pub long_lines: Vec<usize>,
}

impl Page {
    /// Reads a file's text.
    #[must_use]
    pub fn read(text: &str) -> Self {
        let mut page = Self::default();
        let mut heading: Option<String> = None;
        for event in Parser::new(text) {
            match event {
                Event::Start(Tag::Link { dest_url, .. } | Tag::Image { dest_url, .. }) if is_local(&dest_url) => {
                    page.targets.push(dest_url.into_string());
                }
                Event::Start(Tag::Heading { .. }) => heading = Some(String::new()),
                Event::Text(part) | Event::Code(part) => {
                    if let Some(heading) = &mut heading {
                        heading.push_str(&part);
                    }
                }
                Event::End(TagEnd::Heading(_)) => page.anchors.extend(heading.take().map(|text| anchor(&text))),
                _ => {}
            }
        }
        let is_text = |line: &str| {
            !line.starts_with("    ") && !line.trim_start().starts_with(['|', '#', '!']) && line.trim().contains(' ')
        };
        let mut is_fenced = false;
        for (number, line) in text.lines().enumerate() {
            is_fenced ^= line.starts_with("```");
            if !is_fenced && is_text(line) && line.chars().count() > TEXT_COLUMNS {
                page.long_lines.push(number + 1);
            }
        }
        page
    }
}

fn is_local(target: &str) -> bool {
    !target.contains("://") && !target.starts_with("mailto:")
}

/// The anchor of a heading, as hosts of repositories make it: small letters, hyphens for blanks, no signs.
fn anchor(heading: &str) -> String {
    heading
        .to_lowercase()
        .chars()
        .filter_map(|c| match c {
            ' ' => Some('-'),
            c if c.is_alphanumeric() || c == '-' || c == '_' => Some(c),
            _ => None,
        })
        .collect()
}

/// The Markdown files of a repository that people read: at its root and below `docs`.
///
/// # Panics
/// When a folder cannot be read.
#[must_use]
pub fn files(root: &Path) -> Vec<PathBuf> {
    let mut found = vec![];
    let mut folders = vec![(root.to_path_buf(), false), (root.join("docs"), true)];
    while let Some((folder, is_deep)) = folders.pop() {
        for entry in std::fs::read_dir(&folder)
            .expect("the repository can be read")
            .flatten()
        {
            let path = entry.path();
            if path.is_dir() && is_deep {
                folders.push((path, true));
            } else if path.extension().is_some_and(|extension| extension == "md") {
                found.push(path);
            }
        }
    }
    found.sort();
    found
}

/// What is wrong with the Markdown of a repository, a line each.
///
/// # Panics
/// When a file cannot be read.
#[must_use]
pub fn mistakes(root: &Path) -> Vec<String> {
    let read = |path: &Path| Page::read(&std::fs::read_to_string(path).expect("Markdown is UTF-8"));
    let mut mistakes = vec![];
    for file in files(root) {
        let page = read(&file);
        let name = file.strip_prefix(root).unwrap_or(&file).display().to_string();
        for target in &page.targets {
            let (path, anchor) = target
                .split_once('#')
                .map_or((target.as_str(), None), |(path, anchor)| (path, Some(anchor)));
            let aim = if path.is_empty() {
                file.clone()
            } else {
                file.with_file_name(path)
            };
            if !aim.exists() {
                mistakes.push(format!("{name}: {target} leads nowhere"));
            } else if anchor.is_some_and(|anchor| !read(&aim).anchors.contains(anchor)) {
                mistakes.push(format!("{name}: {target} names no heading"));
            }
        }
        mistakes.extend(
            page.long_lines
                .iter()
                .map(|line| format!("{name}:{line}: more than {TEXT_COLUMNS} columns")),
        );
    }
    mistakes
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_page_is_read_for_its_links_headings_and_long_lines() {
        let long = "word ".repeat(21);
        let text = format!(
            "# Check a `deploy`: why?\n\n[one](guides/one.md#a-b) ![two](two.png) <https://skerry.example>\n\n{long}\n\n    code {long}\n| table {long}\n"
        );
        let page = Page::read(&text);
        assert_eq!(page.targets, ["guides/one.md#a-b", "two.png"]);
        assert_eq!(page.anchors.into_iter().collect::<Vec<_>>(), ["check-a-deploy-why"]);
        assert_eq!(page.long_lines, [5]);
    }

    #[test]
    fn links_and_anchors_that_lead_nowhere_are_named() {
        let folder = tempfile::tempdir().unwrap();
        std::fs::create_dir(folder.path().join("docs")).unwrap();
        let write = |name: &str, text: &str| std::fs::write(folder.path().join(name), text).unwrap();
        write("README.md", "[a](docs/a.md#here) [b](docs/a.md#there) [c](docs/c.md)\n");
        write("docs/a.md", "# Here\n\n[up](../README.md) [self](#here)\n");
        assert_eq!(
            mistakes(folder.path()),
            [
                "README.md: docs/a.md#there names no heading",
                "README.md: docs/c.md leads nowhere"
            ]
        );
    }
}
