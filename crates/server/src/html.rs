//! Text within HTML.

/// Text as it stands in HTML, between tags and in quoted values.
pub(crate) fn escaped(text: &str) -> String {
    let mut escaped = String::with_capacity(text.len());
    for c in text.chars() {
        match c {
            '&' => escaped.push_str("&amp;"),
            '<' => escaped.push_str("&lt;"),
            '>' => escaped.push_str("&gt;"),
            '"' => escaped.push_str("&quot;"),
            '\'' => escaped.push_str("&#39;"),
            c => escaped.push(c),
        }
    }
    escaped
}

#[cfg(test)]
mod tests {
    #[test]
    fn nothing_of_a_text_is_markup() {
        assert_eq!(
            super::escaped("<a title=\"x\" id='y'>&amp;"),
            "&lt;a title=&quot;x&quot; id=&#39;y&#39;&gt;&amp;amp;"
        );
        assert_eq!(super::escaped("é “ship”"), "é “ship”");
    }
}
