//! What the pages of the stand-ins share.

/// Text as it stands in a page.
pub(crate) fn escaped(text: &str) -> String {
    text.replace('&', "&amp;")
        .replace('<', "&lt;")
        .replace('>', "&gt;")
        .replace('"', "&quot;")
}

/// The same with what looks like a link made one.
pub(crate) fn linked(text: &str) -> String {
    let mut html = String::new();
    for line in text.split_inclusive('\n') {
        for word in line.split_inclusive(' ') {
            let link = word.trim_end();
            if link.starts_with("http://") || link.starts_with("https://") {
                let rest = word.strip_prefix(link).unwrap_or_default();
                let link = escaped(link);
                html.extend(["<a href=\"", &link, "\">", &link, "</a>", rest]);
            } else {
                html.push_str(&escaped(word));
            }
        }
    }
    html
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn links_can_be_followed_and_all_else_is_text() {
        assert_eq!(
            linked("Take: https://a.example/x?a=1&b=2\n<b>"),
            "Take: <a href=\"https://a.example/x?a=1&amp;b=2\">https://a.example/x?a=1&amp;b=2</a>\n&lt;b&gt;"
        );
    }
}
