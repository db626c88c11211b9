//! The crates of the workspace, parsed.

use std::path::{Path, PathBuf};

/// All crates of the workspace, sorted by name.
#[derive(Debug)]
pub struct Workspace {
    pub packages: Vec<Package>,
}

/// One crate.
#[derive(Debug)]
pub struct Package {
    /// The name of its folder below `crates/`.
    pub name: String,
    /// The files below `src/`, sorted by path.
    pub sources: Vec<SourceFile>,
    /// The files below `tests/`, sorted by path.
    pub tests: Vec<SourceFile>,
}

/// One file of Rust code.
#[derive(Debug)]
pub struct SourceFile {
    /// Relative to the workspace.
    pub path: PathBuf,
    /// The names of the modules from the crate's root down to this one; empty for the root itself.
    pub module: Vec<String>,
    pub text: String,
    pub syntax: syn::File,
}

/// Why the source code could not be read.
#[derive(Debug, thiserror::Error)]
pub enum ReadError {
    #[error("cannot read {path}: is this the folder of the workspace?")]
    Unreadable {
        path: PathBuf,
        #[source]
        source: std::io::Error,
    },
    #[error("{path} is not Rust: {source}")]
    NotRust {
        path: PathBuf,
        #[source]
        source: syn::Error,
    },
}

impl Workspace {
    /// Reads and parses all crates below `root/crates`.
    ///
    /// # Errors
    /// When a folder or file cannot be read, or a file does not parse.
    pub fn read(root: &Path) -> Result<Self, ReadError> {
        let mut packages = Vec::new();
        for folder in entries(&root.join("crates"))? {
            let name = file_name(&folder);
            let read = |part: &str| -> Result<Vec<SourceFile>, ReadError> {
                let below = folder.join(part);
                if !below.is_dir() {
                    return Ok(Vec::new());
                }
                let paths = rust_files(&below)?;
                let mut files: Vec<SourceFile> = paths
                    .iter()
                    .map(|path| SourceFile::read(root, &below, path))
                    .collect::<Result<_, _>>()?;
                apart_from_library(&mut files);
                Ok(files)
            };
            packages.push(Package {
                sources: read("src")?,
                tests: read("tests")?,
                name,
            });
        }
        Ok(Self { packages })
    }
}

impl SourceFile {
    fn read(root: &Path, below: &Path, path: &Path) -> Result<Self, ReadError> {
        let text = std::fs::read_to_string(path).map_err(|source| ReadError::Unreadable {
            path: path.to_owned(),
            source,
        })?;
        let relative = path.strip_prefix(root).unwrap_or(path).to_owned();
        Self::parse(&relative, module_of(path.strip_prefix(below).unwrap_or(path)), text)
    }

    /// Parses the text of one file.
    ///
    /// # Errors
    /// When it does not parse.
    pub fn parse(path: &Path, module: Vec<String>, text: String) -> Result<Self, ReadError> {
        let syntax = syn::parse_file(&text).map_err(|source| ReadError::NotRust {
            path: path.to_owned(),
            source,
        })?;
        Ok(Self {
            path: path.to_owned(),
            module,
            text,
            syntax,
        })
    }

    /// Its lines, without the tests at its end: those from a `#[cfg(test)]` module on.
    #[must_use]
    pub fn code(&self) -> Vec<&str> {
        let lines: Vec<&str> = self.text.lines().collect();
        let end = lines
            .windows(2)
            .position(|pair| pair[0].trim() == "#[cfg(test)]" && pair[1].trim_start().starts_with("mod "))
            .filter(|_| self.text.contains("mod tests {"))
            .unwrap_or(lines.len());
        lines[..end].to_vec()
    }

    /// Whether the whole file is tests, or what only tests use.
    #[must_use]
    pub fn is_test(&self) -> bool {
        self.module.iter().any(|name| name == "tests" || name == "testing")
    }
}

/// `errors/list.rs` is `errors::list`; `errors/mod.rs` is `errors`; `lib.rs` and `main.rs` are the root.
fn module_of(path: &Path) -> Vec<String> {
    let mut names: Vec<String> = path
        .with_extension("")
        .components()
        .map(|part| part.as_os_str().to_string_lossy().into_owned())
        .collect();
    if names
        .last()
        .is_some_and(|last| last == "mod" || (names.len() == 1 && (last == "lib" || last == "main")))
    {
        names.pop();
    }
    names
}

/// A binary beside a library is a crate of its own, which takes from the library by its name.
fn apart_from_library(files: &mut [SourceFile]) {
    if files.iter().any(|file| file.path.ends_with("lib.rs")) {
        for file in files.iter_mut().filter(|file| file.path.ends_with("src/main.rs")) {
            file.module = vec!["main".to_owned()];
        }
    }
}

fn rust_files(folder: &Path) -> Result<Vec<PathBuf>, ReadError> {
    let mut files = Vec::new();
    for path in entries(folder)? {
        if path.is_dir() {
            files.extend(rust_files(&path)?);
        } else if path.extension().is_some_and(|extension| extension == "rs") {
            files.push(path);
        }
    }
    Ok(files)
}

fn entries(folder: &Path) -> Result<Vec<PathBuf>, ReadError> {
    let unreadable = |source| ReadError::Unreadable {
        path: folder.to_owned(),
        source,
    };
    let mut found = Vec::new();
    for entry in std::fs::read_dir(folder).map_err(unreadable)? {
        found.push(entry.map_err(unreadable)?.path());
    }
    found.sort();
    Ok(found)
}

fn file_name(path: &Path) -> String {
    path.file_name().unwrap_or_default().to_string_lossy().into_owned()
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::root("lib.rs", "")]
    #[case::of_a_binary("main.rs", "")]
    #[case::folder("errors/mod.rs", "errors")]
    #[case::file("errors/list.rs", "errors::list")]
    #[case::not_a_root("errors/main.rs", "errors::main")]
    fn a_file_is_a_module(#[case] path: &str, #[case] module: &str) {
        assert_eq!(module_of(Path::new(path)).join("::"), module);
    }

    #[test]
    fn code_ends_where_the_tests_begin() {
        let text = "fn a() {}\n\n#[cfg(test)]\nmod tests {\n    fn b() {}\n}\n";
        let file = SourceFile::parse(Path::new("a.rs"), vec!["a".to_owned()], text.to_owned()).unwrap();
        assert_eq!(file.code(), ["fn a() {}", ""]);
    }

    #[test]
    fn what_is_no_workspace_or_no_rust_is_said() {
        let missing = Workspace::read(Path::new("/nowhere")).unwrap_err();
        assert_eq!(
            missing.to_string(),
            "cannot read /nowhere/crates: is this the folder of the workspace?"
        );
        let broken = SourceFile::parse(Path::new("a.rs"), vec![], "fn (".to_owned()).unwrap_err();
        assert!(broken.to_string().starts_with("a.rs is not Rust: "), "{broken}");
    }
}
