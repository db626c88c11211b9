//! One page of the docs: Markdown as HTML, with its headings as anchors and its links within the installation.

use pulldown_cmark::{CowStr, Event, HeadingLevel, Options, Parser, Tag, TagEnd, html};

/// A page.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(crate) struct Page {
    /// Its first heading.
    pub title: String,
    /// Its text as HTML.
    pub html: String,
    /// What stands under each heading.
    pub sections: Vec<Section>,
}

/// What stands under a heading, up to the next one.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(crate) struct Section {
    /// The heading's anchor; empty for the page's own.
    pub anchor: String,
    /// The heading.
    pub title: String,
    /// The text without its marks.
    pub text: String,
}

/// Renders Markdown. `folder` is where the page lies within the docs: `guides`, empty at the top. Raw HTML is shown as the
/// text that it is.
pub(crate) fn render(markdown: &str, folder: &str) -> Page {
    let events: Vec<Event<'_>> = Parser::new_ext(markdown, Options::ENABLE_TABLES).collect();
    let mut page = Page::default();
    let mut written = Vec::with_capacity(events.len());
    let mut links: Vec<bool> = vec![];
    let mut is_heading = false;
    for (place, event) in events.iter().enumerate() {
        match event {
            Event::Start(Tag::Heading { level, .. }) => {
                let title = plain(events[place + 1..].iter().take_while(|event| !is_end_of_heading(event)));
                let anchor = if *level == HeadingLevel::H1 {
                    page.title.clone_from(&title);
                    String::new()
                } else {
                    anchor_of(&title, &page.sections)
                };
                is_heading = true;
                written.push(Event::Start(Tag::Heading {
                    level: *level,
                    id: (!anchor.is_empty()).then(|| anchor.clone().into()),
                    classes: vec![],
                    attrs: vec![],
                }));
                page.sections.push(Section {
                    anchor,
                    title,
                    text: String::new(),
                });
            }
            Event::End(TagEnd::Heading(_)) => {
                is_heading = false;
                written.push(event.clone());
            }
            Event::Start(Tag::Link {
                dest_url,
                link_type,
                title,
                id,
            }) => {
                let led = led_to(dest_url, folder);
                links.push(led.is_some());
                written.extend(led.map(|led| {
                    Event::Start(Tag::Link {
                        link_type: *link_type,
                        dest_url: led.into(),
                        title: title.clone(),
                        id: id.clone(),
                    })
                }));
            }
            Event::End(TagEnd::Link) => written.extend(links.pop().unwrap_or_default().then(|| event.clone())),
            Event::Start(Tag::Image {
                dest_url,
                link_type,
                title,
                id,
            }) => written.push(Event::Start(Tag::Image {
                link_type: *link_type,
                dest_url: led_to(dest_url, folder).unwrap_or_default().into(),
                title: title.clone(),
                id: id.clone(),
            })),
            Event::Html(text) | Event::InlineHtml(text) => written.push(Event::Text(text.clone())),
            other => {
                if !is_heading && let (Some(section), Some(text)) = (page.sections.last_mut(), text_of(other)) {
                    section.text.push_str(text);
                }
                written.push(other.clone());
            }
        }
    }
    html::push_html(&mut page.html, written.into_iter());
    // What is wider than a phone scrolls by itself, and by the keyboard too.
    page.html = page
        .html
        .replace(
            "<table>",
            "<div class=\"wide\" tabindex=\"0\" role=\"group\" aria-label=\"Table\"><table>",
        )
        .replace("</table>", "</table></div>")
        .replace("<pre>", "<pre tabindex=\"0\">");
    page
}

fn is_end_of_heading(event: &Event<'_>) -> bool {
    matches!(event, Event::End(TagEnd::Heading(_)))
}

/// What an event adds to a page's text.
fn text_of<'e>(event: &'e Event<'_>) -> Option<&'e str> {
    match event {
        Event::Text(text) | Event::Code(text) => Some(text),
        Event::SoftBreak | Event::HardBreak | Event::End(_) => Some(" "),
        _ => None,
    }
}

fn plain<'e>(events: impl Iterator<Item = &'e Event<'e>>) -> String {
    let text: String = events.filter_map(text_of).collect();
    text.trim().to_owned()
}

/// The anchor of a heading: its letters and digits in lower case, blanks as `-`; numbered where another has the same.
fn anchor_of(title: &str, before: &[Section]) -> String {
    let mut anchor = String::new();
    for one in title.to_lowercase().chars() {
        match one {
            ' ' | '-' => anchor.push('-'),
            one if one.is_alphanumeric() || one == '_' => anchor.push(one),
            _ => {}
        }
    }
    let is_taken = |anchor: &str| before.iter().any(|section| section.anchor == anchor);
    if !is_taken(&anchor) {
        return anchor;
    }
    let numbered = (1..=before.len() + 1).map(|number| format!("{anchor}-{number}"));
    numbered.into_iter().find(|one| !is_taken(one)).unwrap_or_default()
}

/// Where a link of a page leads here; `None` where that is not part of the docs.
fn led_to(link: &CowStr<'_>, folder: &str) -> Option<String> {
    if link.starts_with("https://") || link.starts_with("http://") || link.starts_with('#') {
        return Some(link.to_string());
    }
    let (path, anchor) = link
        .split_once('#')
        .map_or((&**link, None), |(path, anchor)| (path, Some(anchor)));
    let mut within: Vec<&str> = folder.split('/').filter(|part| !part.is_empty()).collect();
    for part in path.split('/') {
        match part {
            "." | "" => {}
            ".." => {
                within.pop()?;
            }
            part => within.push(part),
        }
    }
    let path = within.join("/");
    let path = path.strip_suffix(".md").unwrap_or(&path);
    let path = path.strip_suffix("README").unwrap_or(path).trim_end_matches('/');
    let address = match path {
        "" => "/docs".to_owned(),
        "openapi.json" => "/api/openapi.json".to_owned(),
        path => format!("/docs/{path}"),
    };
    Some(anchor.map_or_else(|| address.clone(), |anchor| format!("{address}#{anchor}")))
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::a_neighbour("language.md", Some("/docs/reference/language"))]
    #[case::an_anchor("language.md#fields", Some("/docs/reference/language#fields"))]
    #[case::another_folder("../guides/operate.md", Some("/docs/guides/operate"))]
    #[case::a_picture("../screenshots/ask.png", Some("/docs/screenshots/ask.png"))]
    #[case::the_start("../README.md", Some("/docs"))]
    #[case::the_start_of_a_folder("../decisions/README.md", Some("/docs/decisions"))]
    #[case::the_api("../openapi.json", Some("/api/openapi.json"))]
    #[case::within_the_page("#time", Some("#time"))]
    #[case::elsewhere(
        "https://www.rfc-editor.org/rfc/rfc9110",
        Some("https://www.rfc-editor.org/rfc/rfc9110")
    )]
    #[case::outside_the_docs("../../LICENSE", None)]
    fn a_link_of_the_reference_leads(#[case] link: &str, #[case] expected: Option<&str>) {
        assert_eq!(led_to(&link.into(), "reference").as_deref(), expected);
    }

    #[test]
    fn headings_are_anchors_and_what_stands_under_them_is_found() {
        let page = render(
            "# The *words*\n\nFirst.\n\n## Time, and `over`\n\n| a | b |\n| - | - |\n| one | [two](../x.md) |\n\n## Time, and over\n",
            "",
        );
        assert_eq!(page.title, "The words");
        let of: Vec<(&str, &str)> = (page.sections.iter())
            .map(|section| (section.anchor.as_str(), section.title.as_str()))
            .collect();
        assert_eq!(
            of,
            [
                ("", "The words"),
                ("time-and-over", "Time, and over"),
                ("time-and-over-1", "Time, and over")
            ]
        );
        assert!(page.sections[1].text.contains("one") && page.sections[1].text.contains("two"));
        assert!(page.html.contains("<h2 id=\"time-and-over\">") && page.html.contains("aria-label=\"Table\""));
        assert!(
            !page.html.contains("<a href"),
            "the link leads out of the docs: {}",
            page.html
        );
    }

    proptest! {
        #[test]
        fn no_text_becomes_markup_of_its_own(text in "[ -~\n]{0,80}") {
            let page = render(&format!("# T\n\n{text}\n\n<script>alert(1)</script>\n"), "guides");
            prop_assert!(!page.html.contains("<script"), "{}", page.html);
            prop_assert!(!page.html.contains("<img onerror"), "{}", page.html);
        }
    }
}
