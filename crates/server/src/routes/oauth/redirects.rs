//! Where a program may be sent back to.

use reqwest::Url;

/// Longest address that a program is sent back to.
pub(super) const LONGEST: usize = 500;
/// Schemes by which a browser would run or read something, instead of handing over to a program.
const NEVER: [&str; 11] = [
    "about",
    "blob",
    "data",
    "file",
    "filesystem",
    "ftp",
    "javascript",
    "vbscript",
    "view-source",
    "ws",
    "wss",
];

/// Whether a program may be sent back to an address: over TLS, to this machine, or by a scheme of its own (RFC 8252, 7).
pub(super) fn may_be(address: &str) -> bool {
    let Ok(url) = Url::parse(address) else { return false };
    let is_plain = address.len() <= LONGEST
        && !address.contains(|one: char| one.is_control() || one.is_whitespace())
        && url.fragment().is_none()
        && url.username().is_empty()
        && url.password().is_none();
    is_plain
        && match url.scheme() {
            "https" => true,
            "http" => is_here(&url),
            scheme => !NEVER.contains(&scheme),
        }
}

/// Whether an address is the registered one. A program on the reader's machine listens where it finds a free port (RFC
/// 8252, 7.3); everything else must be the same to the letter.
pub(super) fn is_same(registered: &str, presented: &str) -> bool {
    if registered == presented {
        return true;
    }
    let (Ok(mut one), Ok(mut other)) = (Url::parse(registered), Url::parse(presented)) else {
        return false;
    };
    let are_here = is_here(&one) && is_here(&other);
    let are_set = one.set_port(None).is_ok() && other.set_port(None).is_ok();
    are_here && are_set && one == other && may_be(presented)
}

/// Whether an address is one of the reader's own machine, in clear text.
fn is_here(url: &Url) -> bool {
    url.scheme() == "http" && matches!(url.host_str(), Some("127.0.0.1" | "[::1]" | "localhost"))
}

/// An address with more parameters behind it.
pub(super) fn with(address: &str, parameters: &[(&str, &str)]) -> String {
    Url::parse(address).map_or_else(
        |_no_address| address.to_owned(),
        |mut url| {
            url.query_pairs_mut().extend_pairs(parameters);
            url.into()
        },
    )
}

/// What of an address tells a person where it leads.
pub(in crate::routes) fn place(address: &str) -> String {
    match Url::parse(address) {
        Ok(url) if matches!(url.scheme(), "http" | "https") => url.origin().ascii_serialization(),
        Ok(url) => format!("{}:", url.scheme()),
        Err(_) => String::new(),
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::over_tls("https://editor.skerry.example/back?kind=1", true)]
    #[case::this_machine("http://127.0.0.1:33418/back", true)]
    #[case::this_machine_by_ipv6("http://[::1]/back", true)]
    #[case::this_machine_by_name("http://localhost:7/", true)]
    #[case::a_programs_own_scheme("skerry-editor://back/outcrop", true)]
    #[case::clear_text("http://editor.skerry.example/back", false)]
    #[case::a_name_that_begins_like_it("http://127.0.0.1.evil.example/", false)]
    #[case::a_name_before_an_at("http://localhost@evil.example/", false)]
    #[case::a_script("javascript:alert(1)", false)]
    #[case::a_script_in_capitals("JavaScript:alert(1)", false)]
    #[case::data("data:text/html,x", false)]
    #[case::a_file("file:///etc/passwd", false)]
    #[case::a_fragment("https://editor.skerry.example/back#x", false)]
    #[case::a_header("https://editor.skerry.example/\r\nset-cookie: x", false)]
    #[case::no_address("back", false)]
    fn a_program_may_be_sent_to(#[case] address: &str, #[case] expected: bool) {
        assert_eq!(may_be(address), expected);
    }

    #[rstest]
    #[case::itself("https://editor.skerry.example/back", "https://editor.skerry.example/back", true)]
    #[case::another_port_of_this_machine("http://127.0.0.1/back", "http://127.0.0.1:51004/back", true)]
    #[case::this_machine_by_another_name("http://127.0.0.1/back", "http://localhost:51004/back", false)]
    #[case::another_path("http://127.0.0.1/back", "http://127.0.0.1/else", false)]
    #[case::more_behind_it("http://127.0.0.1/back", "http://127.0.0.1/back?x=1", false)]
    #[case::another_port_elsewhere("https://editor.skerry.example/", "https://editor.skerry.example:444/", false)]
    #[case::a_longer_path(
        "https://editor.skerry.example/back",
        "https://editor.skerry.example/back/../x",
        false
    )]
    #[case::a_fragment("http://127.0.0.1/back", "http://127.0.0.1:7/back#x", false)]
    #[case::a_name_before_an_at("http://127.0.0.1/back", "http://x@127.0.0.1:7/back", false)]
    fn an_address_is_the_registered_one(#[case] registered: &str, #[case] presented: &str, #[case] expected: bool) {
        assert_eq!(is_same(registered, presented), expected);
    }

    #[test]
    fn parameters_join_those_that_are_there_and_a_person_is_told_the_place() {
        let back = with("https://editor.skerry.example/back?kind=1", &[("state", "a&b")]);
        assert_eq!(back, "https://editor.skerry.example/back?kind=1&state=a%26b");
        assert_eq!(place(&back), "https://editor.skerry.example");
        assert_eq!(
            with("skerry-editor:back", &[("code", "7")]),
            "skerry-editor:back?code=7"
        );
        assert_eq!(place("skerry-editor://back/x"), "skerry-editor:");
    }
}
