//! Lines of source from a local Git checkout, at the revision that ran.

use std::path::{Path, PathBuf};

use git2::{ObjectType, Repository, Tree, TreeWalkMode, TreeWalkResult};
use outcrop_core::source_link::repository_path;
use outcrop_core::stack::Frame;

/// Lines shown before and after a frame's line.
const AROUND: u32 = 5;
/// Largest file looked into, in bytes: what people write by hand is smaller.
const MAX_FILE: usize = 2 << 20;
/// Files of a repository looked through for one whose path ends as a frame's does.
const MAX_FILES: usize = 200_000;

/// Lines around a frame's line.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Lines {
    /// The number of the first, from 1.
    pub first: u32,
    pub text: Vec<String>,
    /// The path in the repository.
    pub path: String,
}

/// A checkout at one revision.
pub(crate) struct Checkout {
    repository: Repository,
    revision: git2::Oid,
    /// The revision in words: as asked for, or `HEAD` where that is not there.
    pub named: String,
}

impl Checkout {
    /// Opens a checkout at the first of these revisions that it has, else at what is checked out.
    pub(crate) fn open(folder: &Path, revisions: &[String]) -> Option<Self> {
        let repository = match Repository::open(folder) {
            Ok(repository) => repository,
            Err(error) => {
                tracing::warn!(folder = %folder.display(), %error, "a checkout cannot be read");
                return None;
            }
        };
        let wanted = revisions.iter().map(String::as_str).chain(["HEAD"]);
        let (revision, named) = wanted.filter(|name| !name.is_empty()).find_map(|name| {
            Some((
                repository.revparse_single(name).ok()?.peel_to_commit().ok()?.id(),
                name.to_owned(),
            ))
        })?;
        Some(Self {
            repository,
            revision,
            named,
        })
    }

    /// The lines around a frame's line. A path that the root does not explain is looked for by its
    /// end; it must be the only one.
    pub(crate) fn lines(&self, frame: &Frame<'_>, root: &str) -> Option<Lines> {
        let line = frame.line?;
        let tree = self.repository.find_commit(self.revision).ok()?.tree().ok()?;
        let path = repository_path(frame, root)
            .filter(|path| tree.get_path(Path::new(path)).is_ok())
            .or_else(|| by_end(&tree, frame))?;
        let blob = tree
            .get_path(Path::new(&path))
            .ok()?
            .to_object(&self.repository)
            .ok()?
            .into_blob()
            .ok()?;
        if blob.size() > MAX_FILE || blob.is_binary() {
            return None;
        }
        let text = String::from_utf8_lossy(blob.content());
        let first = line.saturating_sub(AROUND).max(1);
        let lines: Vec<String> = text
            .lines()
            .skip(first as usize - 1)
            .take((line + AROUND + 1).saturating_sub(first) as usize)
            .map(str::to_owned)
            .collect();
        // A line past the end: this is another state of the file.
        (lines.len() > (line - first) as usize).then_some(Lines {
            first,
            text: lines,
            path,
        })
    }
}

/// The only file whose path ends with the most of a frame's path.
fn by_end(tree: &Tree<'_>, frame: &Frame<'_>) -> Option<String> {
    let told = repository_path(frame, "").unwrap_or_else(|| frame.file.replace('\\', "/"));
    let told: Vec<&str> = told
        .split('/')
        .filter(|part| !part.is_empty() && *part != "..")
        .collect();
    let name = *told.last()?;
    let mut found: Vec<(usize, PathBuf)> = vec![];
    let mut seen = 0;
    let walked = tree.walk(TreeWalkMode::PreOrder, |folder, entry| {
        seen += 1;
        if seen > MAX_FILES {
            return TreeWalkResult::Abort;
        }
        if entry.kind() == Some(ObjectType::Blob) && entry.name() == Some(name) {
            let path = format!("{folder}{name}");
            let common = path
                .rsplit('/')
                .zip(told.iter().rev())
                .take_while(|(one, other)| one == *other)
                .count();
            found.push((common, PathBuf::from(path)));
        }
        TreeWalkResult::Ok
    });
    walked.ok()?;
    let most = found.iter().map(|(common, _)| *common).max()?;
    let mut best = found.into_iter().filter(|(common, _)| *common == most);
    let (_, path) = best.next()?;
    best.next().is_none().then(|| path.to_string_lossy().into_owned())
}
