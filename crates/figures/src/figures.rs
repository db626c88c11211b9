//! The figures of each crate.

use std::fmt::Write as _;

use crate::functions::Declared;
use crate::{Package, SourceFile, Workspace, imports};

/// The figures of one crate. Its tests are left out, but for their share.
#[derive(Clone, Debug)]
pub struct Figures {
    pub name: String,
    /// Lines of each file, ascending.
    pub files: Vec<usize>,
    /// Lines of each function, ascending.
    pub functions: Vec<usize>,
    pub public_items: usize,
    /// Public items with a doc comment.
    pub documented: usize,
    /// Files that do not begin with a doc comment of their own.
    pub undescribed: usize,
    /// Comments that are not docs, and lines of code, in lines.
    pub comments: usize,
    pub code: usize,
    /// Lines of tests that are not blank.
    pub tests: usize,
    /// Sets of modules that import each other.
    pub circles: usize,
}

impl Figures {
    /// Tests as a part of code and tests together, from 0 to 1.
    #[must_use]
    #[expect(clippy::cast_precision_loss, reason = "lines of code")]
    pub fn test_share(&self) -> f64 {
        self.tests as f64 / ((self.code + self.tests) as f64).max(1.0)
    }
}

/// Measures all crates.
#[must_use]
pub fn of(workspace: &Workspace) -> Vec<Figures> {
    workspace.packages.iter().map(of_package).collect()
}

/// The figures as a table in Markdown, a column for each crate.
#[must_use]
pub fn table(figures: &[Figures]) -> String {
    let mut table = String::new();
    let mut row = |title: &str, of: &dyn Fn(&Figures) -> String| {
        let cells: Vec<String> = figures.iter().map(of).collect();
        writeln!(table, "| {title} | {} |", cells.join(" | ")).unwrap_or_default();
    };
    row("", &|figures| figures.name.clone());
    row("---", &|_| "---".to_owned());
    row("file lines: median / p90 / max", &|f| {
        format!(
            "{} / {} / {}",
            quantile(&f.files, 50),
            quantile(&f.files, 90),
            quantile(&f.files, 100)
        )
    });
    row("function lines: median / p90 / p99 / max", &|f| {
        let of = |percent| quantile(&f.functions, percent);
        format!("{} / {} / {} / {}", of(50), of(90), of(99), of(100))
    });
    row("public items documented", &|f| percent(f.documented, f.public_items));
    row("files without a description", &|f| f.undescribed.to_string());
    row("other comments per code line", &|f| {
        if f.code == 0 {
            "–".to_owned()
        } else {
            format!("{:.3}", ratio(f.comments, f.code))
        }
    });
    row("lines of code", &|f| f.code.to_string());
    row("tests, of code and tests", &|f| percent(f.tests, f.code + f.tests));
    row("circles of modules", &|f| f.circles.to_string());
    table
}

fn of_package(package: &Package) -> Figures {
    let code: Vec<&SourceFile> = package.sources.iter().filter(|file| !file.is_test()).collect();
    let declared: Vec<Declared> = code.iter().map(|file| Declared::of(file)).collect();
    let mut functions: Vec<usize> = declared
        .iter()
        .flat_map(|declared| &declared.functions)
        .map(|function| function.lines)
        .collect();
    let mut files: Vec<usize> = code.iter().map(|file| file.code().len()).collect();
    functions.sort_unstable();
    files.sort_unstable();
    let all_lines = |file: &SourceFile| filled(file.text.lines());
    let with_tests: usize = package.sources.iter().chain(&package.tests).map(all_lines).sum();
    let without: usize = code.iter().map(|file| filled(file.code().into_iter())).sum();
    // What only tests use is tests, as a whole.
    let without = if package.name == "testkit" { 0 } else { without };
    Figures {
        name: package.name.clone(),
        files,
        functions,
        public_items: declared.iter().map(|declared| declared.public_items).sum(),
        documented: declared.iter().map(|declared| declared.documented).sum(),
        undescribed: code.iter().filter(|file| !is_described(file)).count(),
        comments: code.iter().map(|file| comments(file)).sum(),
        code: without,
        tests: with_tests - without,
        circles: imports::circles(&imports::of(package)).len(),
    }
}

/// Whether a file begins with a doc comment of its own.
pub(crate) fn is_described(file: &SourceFile) -> bool {
    file.syntax
        .attrs
        .iter()
        .any(|attribute| attribute.path().is_ident("doc"))
}

fn comments(file: &SourceFile) -> usize {
    let is_comment = |line: &&str| {
        let line = line.trim_start();
        line.starts_with("//") && !line.starts_with("///") && !line.starts_with("//!")
    };
    file.code().iter().filter(|line| is_comment(line)).count()
}

fn filled<'a>(lines: impl Iterator<Item = &'a str>) -> usize {
    lines.filter(|line| !line.trim().is_empty()).count()
}

/// The value that so many percent do not pass (the nearest rank); 0 of nothing.
fn quantile(ascending: &[usize], percent: usize) -> usize {
    let rank = (ascending.len() * percent).div_ceil(100);
    ascending.get(rank.saturating_sub(1)).copied().unwrap_or(0)
}

#[expect(clippy::cast_precision_loss, reason = "lines of code")]
fn ratio(part: usize, all: usize) -> f64 {
    part as f64 / (all as f64).max(1.0)
}

fn percent(part: usize, all: usize) -> String {
    format!("{:.0} %", 100.0 * ratio(part, all))
}

#[cfg(test)]
mod tests {
    use std::path::Path;

    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::nothing(&[], 50, 0)]
    #[case::median(&[1, 2, 9], 50, 2)]
    #[case::most(&[1, 2, 9], 100, 9)]
    #[case::nine_in_ten(&[1, 2, 3, 4, 5, 6, 7, 8, 9, 10], 90, 9)]
    fn a_quantile_is_the_nearest_rank(#[case] ascending: &[usize], #[case] percent: usize, #[case] value: usize) {
        assert_eq!(quantile(ascending, percent), value);
    }

    #[test]
    fn one_small_crate_is_measured() {
        let file = |module: &[&str], text: &str| {
            let module = module.iter().map(|name| (*name).to_owned()).collect();
            SourceFile::parse(Path::new("a.rs"), module, text.to_owned()).unwrap()
        };
        let package = Package {
            name: "a".to_owned(),
            sources: vec![
                file(&[], "//! A crate.\n\nmod b;\n"),
                file(&["b"], "// Why.\npub fn c() {\n}\n#[cfg(test)]\nmod tests {\n}\n"),
            ],
            tests: vec![file(&["d"], "fn d() {}\n\n")],
        };
        insta::assert_snapshot!(table(&of(&Workspace { packages: vec![package] })), @r"
        |  | a |
        | --- | --- |
        | file lines: median / p90 / max | 3 / 3 / 3 |
        | function lines: median / p90 / p99 / max | 2 / 2 / 2 / 2 |
        | public items documented | 0 % |
        | files without a description | 1 |
        | other comments per code line | 0.200 |
        | lines of code | 5 |
        | tests, of code and tests | 44 % |
        | circles of modules | 0 |
        ");
    }
}
