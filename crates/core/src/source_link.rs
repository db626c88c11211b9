//! From a frame to its line in a repository: a link by a service's URL template, and the path within a checkout.

use crate::stack::Frame;

/// The path of a frame's file in its repository, as far as the frame tells: what follows the folder
/// the service runs in; on a JVM, the package's folders and the file. `None` where it is not known
/// which part of the path is the repository's.
#[must_use]
pub fn repository_path(frame: &Frame<'_>, root: &str) -> Option<String> {
    let file = frame.file.replace('\\', "/");
    let file = file.trim_start_matches("file://").trim_start_matches("./");
    if file.is_empty() || file.starts_with('<') || file.split('/').any(|part| part == "..") {
        return None;
    }
    if let Some(rest) = file
        .strip_prefix(root.trim_end_matches('/'))
        .filter(|_| !root.is_empty())
    {
        let rest = rest.trim_start_matches('/');
        return (!rest.is_empty()).then(|| rest.to_owned());
    }
    if file.starts_with('/') || file.split('/').next().is_some_and(|first| first.ends_with(':')) {
        return None;
    }
    let is_of_jvm = [".java", ".kt", ".scala", ".clj", ".groovy"]
        .iter()
        .any(|ending| file.ends_with(ending));
    if is_of_jvm && !file.contains('/') {
        let package: Vec<&str> = frame.module.split('.').collect();
        let folders = package.get(..package.len().saturating_sub(1)).unwrap_or_default();
        return Some(folders.iter().chain([&file]).copied().collect::<Vec<_>>().join("/"));
    }
    Some(file.to_owned())
}

/// Fills a URL template: `{path}`, `{line}`, `{revision}`, and `{service}` for templates that hold
/// for many. Each value is percent-encoded, a path's slashes stay.
///
/// # Example
/// ```
/// use outcrop_core::source_link::filled;
/// let template = "https://git.skerry.example/fares/{revision}/{path}#L{line}";
/// assert_eq!(filled(template, "fares", "app/tariff.py", Some(92), "v2.4.0"), "https://git.skerry.example/fares/v2.4.0/app/tariff.py#L92");
/// ```
#[must_use]
pub fn filled(template: &str, service: &str, path: &str, line: Option<u32>, revision: &str) -> String {
    template
        .replace("{service}", &encoded(service))
        .replace("{path}", &encoded(path))
        .replace("{line}", &line.map(|line| line.to_string()).unwrap_or_default())
        .replace("{revision}", &encoded(revision))
}

/// Says what is wrong with a template, if anything.
///
/// # Errors
/// In words, for whoever wrote it.
pub fn check(template: &str) -> Result<(), String> {
    if !template.starts_with("https://") && !template.starts_with("http://") {
        return Err("the template must begin with https:// or http://".to_owned());
    }
    if !template.contains("{path}") {
        return Err("the template needs {path}; {line}, {revision} and {service} may stand in it too".to_owned());
    }
    let mut rest = template;
    while let Some((_, after)) = rest.split_once('{') {
        let name = after.split('}').next().unwrap_or(after);
        if !["path", "line", "revision", "service"].contains(&name) {
            return Err(format!(
                "{{{name}}} is not known; {{path}}, {{line}}, {{revision}} and {{service}} are"
            ));
        }
        rest = after;
    }
    Ok(())
}

fn encoded(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for byte in text.bytes() {
        if byte.is_ascii_alphanumeric() || b"-._~/@+".contains(&byte) {
            out.push(char::from(byte));
        } else {
            out.extend(format!("%{byte:02X}").chars());
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("/srv/skerry/fares/app/tariff.py", "", "/srv/skerry/fares", Some("app/tariff.py"))]
    #[case("/usr/lib/python3/json.py", "", "/srv/skerry/fares", None)]
    #[case("app/tariff.py", "", "", Some("app/tariff.py"))]
    #[case(
        "Timetable.java",
        "example.skerry.Timetable",
        "",
        Some("example/skerry/Timetable.java")
    )]
    #[case("C:\\fares\\Tariff.cs", "", "C:/fares", Some("Tariff.cs"))]
    #[case("C:\\fares\\Tariff.cs", "", "", None)]
    #[case("../../etc/passwd", "", "", None)]
    #[case("<string>", "", "", None)]
    fn a_path_is_taken_from_the_repository_root(
        #[case] file: &str,
        #[case] module: &str,
        #[case] root: &str,
        #[case] expected: Option<&str>,
    ) {
        let frame = Frame {
            file: file.into(),
            module: module.into(),
            ..Frame::default()
        };
        assert_eq!(repository_path(&frame, root).as_deref(), expected);
    }

    #[rstest]
    #[case("https://git.example/{path}", Ok(()))]
    #[case("javascript:alert({path})", Err("must begin with https"))]
    #[case("https://git.example/{revision}", Err("needs {path}"))]
    #[case("https://git.example/{path}/{branch}", Err("{branch} is not known"))]
    fn a_template_is_checked(#[case] template: &str, #[case] expected: Result<(), &str>) {
        match (check(template), expected) {
            (Ok(()), Ok(())) => {}
            (Err(said), Err(part)) => assert!(said.contains(part), "{said}"),
            (said, _) => panic!("{said:?}"),
        }
    }
}
