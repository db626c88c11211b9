//! What the source code is held to.

use proc_macro2::{TokenStream, TokenTree};

use crate::figures::is_described;
use crate::functions::Declared;
use crate::{Package, SourceFile, Workspace, imports};

/// Lines of a file: what is longer holds several ideas.
const FILE_LINES: usize = 500;
/// Lines of a function of the core.
const CORE_FUNCTION_LINES: usize = 60;
/// Arguments of a function, without `self`; more are mixed up.
const ARGUMENTS: usize = 5;
/// Columns of a line, but for what cannot be broken.
const COLUMNS: usize = 120;
/// Columns of a literal that a line may be too long for.
const UNBREAKABLE: usize = 50;

/// Everything that is past a limit, one line each: where, and what.
#[must_use]
pub fn broken(workspace: &Workspace) -> Vec<String> {
    workspace.packages.iter().flat_map(of_package).collect()
}

fn of_package(package: &Package) -> Vec<String> {
    let mut found: Vec<String> = package.sources.iter().chain(&package.tests).flat_map(of_file).collect();
    for file in package.sources.iter().filter(|file| !file.is_test()) {
        found.extend(of_code(file, package.name == "core"));
    }
    let all = imports::of(package);
    for (what, imports) in [("modules", &all), ("folders", &imports::of_folders(&all))] {
        for circle in imports::circles(imports) {
            let names: Vec<String> = circle.iter().map(|module| module.join("::")).collect();
            found.push(format!(
                "crates/{}: {what} import each other: {}",
                package.name,
                names.join(", ")
            ));
            for from in &circle {
                for (to, name) in imports[from].iter().filter(|(to, _)| circle.contains(to)) {
                    found.push(format!("    {} takes {name} from {}", from.join("::"), to.join("::")));
                }
            }
        }
    }
    found
}

fn of_file(file: &SourceFile) -> Vec<String> {
    let mut found = Vec::new();
    let lines = file.text.lines().count();
    if lines > FILE_LINES {
        found.push(format!("{}: {lines} lines (at most {FILE_LINES})", file.path.display()));
    }
    let long = |line: &str| line.chars().count() > COLUMNS;
    if file.text.lines().any(long) {
        let excused = lines_with_long_literals(file);
        for (number, line) in (1..).zip(file.text.lines()).filter(|(_, line)| long(line)) {
            let is_table = line.trim_start().starts_with("//! |") || line.trim_start().starts_with("/// |");
            if !is_table && !excused.iter().any(|(first, last)| (first..=last).contains(&&number)) {
                let columns = line.chars().count();
                found.push(format!(
                    "{}:{number}: {columns} columns (at most {COLUMNS})",
                    file.path.display()
                ));
            }
        }
    }
    found
}

fn of_code(file: &SourceFile, of_core: bool) -> Vec<String> {
    let mut found = Vec::new();
    let path = file.path.display();
    if !is_described(file) {
        found.push(format!("{path}: begins without a doc comment that says what it is"));
    }
    for function in Declared::of(file).functions {
        let place = format!("{path}:{} {}", function.line, function.name);
        if of_core && function.lines > CORE_FUNCTION_LINES {
            found.push(format!(
                "{place}: {} lines (at most {CORE_FUNCTION_LINES} in core)",
                function.lines
            ));
        }
        if function.arguments > ARGUMENTS {
            found.push(format!(
                "{place}: {} arguments (at most {ARGUMENTS})",
                function.arguments
            ));
        }
    }
    found
}

/// The first and last lines of literals that are long by themselves: patterns, recorded lines, links.
fn lines_with_long_literals(file: &SourceFile) -> Vec<(usize, usize)> {
    let mut found = Vec::new();
    if let Ok(tokens) = file.text.parse::<TokenStream>() {
        literals(tokens, &mut found);
    }
    found
}

fn literals(tokens: TokenStream, found: &mut Vec<(usize, usize)>) {
    for token in tokens {
        match token {
            TokenTree::Group(group) => literals(group.stream(), found),
            TokenTree::Literal(literal) if literal.to_string().chars().count() > UNBREAKABLE => {
                found.push((literal.span().start().line, literal.span().end().line));
            }
            _ => {}
        }
    }
}

#[cfg(test)]
mod tests {
    use std::path::Path;

    use super::*;

    fn broken_by(name: &str, text: &str) -> Vec<String> {
        let file = SourceFile::parse(Path::new("a.rs"), vec!["a".to_owned()], text.to_owned()).unwrap();
        broken(&Workspace {
            packages: vec![Package {
                name: name.to_owned(),
                sources: vec![file],
                tests: Vec::new(),
            }],
        })
    }

    #[test]
    fn what_is_within_the_limits_is_fine() {
        assert_eq!(broken_by("core", "//! A.\nfn a(b: u8) {}\n"), Vec::<String>::new());
    }

    #[test]
    fn long_files_functions_and_lines_many_arguments_and_missing_descriptions_are_told() {
        assert_eq!(
            broken_by("core", "fn a() {}"),
            ["a.rs: begins without a doc comment that says what it is"]
        );
        let long = format!("//! A.\nfn a() {{\n{}}}\n", "    b();\n".repeat(600));
        let said = [
            "a.rs: 603 lines (at most 500)",
            "a.rs:2 a: 602 lines (at most 60 in core)",
        ];
        assert_eq!(broken_by("core", &long), said);
        assert_eq!(broken_by("server", &long), [said[0]]);
        let many = "//! A.\nimpl B {\n    fn a(&self, a: u8, b: u8, c: u8, d: u8, e: u8, f: u8) {}\n}\n";
        assert_eq!(broken_by("server", many), ["a.rs:3 a: 6 arguments (at most 5)"]);
        let long = "a ".repeat(60);
        let wide = format!("//! | {long} |\n//! A.\n// {long}\nfn a() {{}}\n");
        assert_eq!(broken_by("server", &wide), ["a.rs:3: 123 columns (at most 120)"]);
        let pattern = format!("//! A.\nconst A: &str = \"{}\";\n", "a".repeat(120));
        assert_eq!(broken_by("server", &pattern), Vec::<String>::new());
    }
}
