//! Reading from a Git repository what a deploy brought: its commits, the lines of each that are
//! still there, who owns which files.

use std::collections::BTreeMap;
use std::path::Path;

use git2::{BlameOptions, Commit as GitCommit, Delta, Oid, Repository, Sort};
use outcrop_api::{DeployChanges, Owned};
use outcrop_core::text::prefix;
use outcrop_core::touching::{ChangedFile, Commit};

use crate::fault::Fault;

/// Commits and files read of one deploy: what brings more is no deploy that a list of commits explains.
const MAX_COMMITS: usize = 500;
const MAX_FILES: usize = 500;
/// Where code owners are written down, the first there counts.
const OWNERS: [&str; 3] = ["CODEOWNERS", "docs/CODEOWNERS", ".config/CODEOWNERS"];
const MAX_OWNERS: usize = 2_000;

/// Reads the commits from one revision (left out) to another. Returns the full id of the later one, and what changed.
pub fn changes(folder: &Path, from: &str, to: &str) -> Result<(String, DeployChanges), Fault> {
    let refused = |what: String| move |error: git2::Error| Fault::Usage(format!("{what}: {}", error.message()));
    let repository = Repository::discover(folder).map_err(refused(format!("--repo {}", folder.display())))?;
    let find =
        |name: &str| -> Result<Oid, git2::Error> { Ok(repository.revparse_single(name)?.peel_to_commit()?.id()) };
    let first = find(from).map_err(refused(format!("--from {from}")))?;
    let last = find(to).map_err(refused(format!("the deployed revision {to}")))?;
    let read = || -> Result<DeployChanges, git2::Error> {
        let mut commits = commits(&repository, first, last)?;
        attribute(&repository, first, last, &mut commits)?;
        Ok(DeployChanges {
            repository: repository
                .workdir()
                .and_then(Path::file_name)
                .map(|name| name.to_string_lossy().into_owned())
                .unwrap_or_default(),
            commits: commits.into_values().collect(),
            owners: owners(&repository, last)?,
        })
    };
    let changes = read().map_err(refused("the repository cannot be read".to_owned()))?;
    Ok((last.to_string(), changes))
}

/// The commits of the deploy, without files yet.
fn commits(repository: &Repository, first: Oid, last: Oid) -> Result<BTreeMap<Oid, Commit>, git2::Error> {
    let mut walk = repository.revwalk()?;
    walk.set_sorting(Sort::TOPOLOGICAL)?;
    walk.push(last)?;
    walk.hide(first)?;
    let mut commits = BTreeMap::new();
    for id in walk.take(MAX_COMMITS) {
        let commit = repository.find_commit(id?)?;
        commits.insert(commit.id(), told(&commit));
    }
    Ok(commits)
}

fn told(commit: &GitCommit<'_>) -> Commit {
    Commit {
        id: commit.id().to_string(),
        author: prefix(commit.author().name().unwrap_or_default(), 100).to_owned(),
        at: commit.time().seconds(),
        summary: prefix(commit.summary().unwrap_or_default(), 200).to_owned(),
        files: vec![],
    }
}

/// Says of each commit which lines of the deployed revision are its own; a file it only took lines
/// from stands there without.
fn attribute(
    repository: &Repository,
    first: Oid,
    last: Oid,
    commits: &mut BTreeMap<Oid, Commit>,
) -> Result<(), git2::Error> {
    let (before, after) = (
        repository.find_commit(first)?.tree()?,
        repository.find_commit(last)?.tree()?,
    );
    let difference = repository.diff_tree_to_tree(Some(&before), Some(&after), None)?;
    let changed: Vec<String> = difference
        .deltas()
        .filter(|delta| delta.status() != Delta::Deleted && !delta.new_file().is_binary())
        .filter_map(|delta| Some(delta.new_file().path()?.to_string_lossy().into_owned()))
        .take(MAX_FILES)
        .collect();
    for path in &changed {
        let mut options = BlameOptions::new();
        options.newest_commit(last).oldest_commit(first);
        let Ok(blame) = repository.blame_file(Path::new(path), Some(&mut options)) else {
            continue;
        };
        for hunk in blame.iter() {
            let Some(commit) = commits.get_mut(&hunk.final_commit_id()) else {
                continue;
            };
            let range = |lines: usize, start: usize| {
                Some((
                    u32::try_from(start).ok()?,
                    u32::try_from(start + lines.max(1) - 1).ok()?,
                ))
            };
            let Some(range) = range(hunk.lines_in_hunk(), hunk.final_start_line()) else {
                continue;
            };
            match commit.files.iter_mut().find(|file| file.path == *path) {
                Some(file) => file.ranges.push(range),
                None => commit.files.push(ChangedFile {
                    path: path.clone(),
                    ranges: vec![range],
                }),
            }
        }
    }
    taken_away(repository, commits, &changed)
}

/// Adds the files that a commit changed and of which no line of its own is left.
fn taken_away(
    repository: &Repository,
    commits: &mut BTreeMap<Oid, Commit>,
    changed: &[String],
) -> Result<(), git2::Error> {
    for (id, commit) in commits {
        let git = repository.find_commit(*id)?;
        let parent = git.parent(0).ok().map(|parent| parent.tree()).transpose()?;
        let difference = repository.diff_tree_to_tree(parent.as_ref(), Some(&git.tree()?), None)?;
        for delta in difference.deltas() {
            let Some(path) = delta.new_file().path().map(|path| path.to_string_lossy().into_owned()) else {
                continue;
            };
            if changed.contains(&path)
                && !commit.files.iter().any(|file| file.path == path)
                && commit.files.len() < MAX_FILES
            {
                commit.files.push(ChangedFile { path, ranges: vec![] });
            }
        }
    }
    Ok(())
}

fn owners(repository: &Repository, last: Oid) -> Result<Vec<Owned>, git2::Error> {
    let tree = repository.find_commit(last)?.tree()?;
    let Some(entry) = OWNERS.iter().find_map(|path| tree.get_path(Path::new(path)).ok()) else {
        return Ok(vec![]);
    };
    let object = entry.to_object(repository)?;
    let Some(blob) = object.as_blob() else {
        return Ok(vec![]);
    };
    let text = String::from_utf8_lossy(blob.content()).into_owned();
    let rule = |line: &str| {
        let line = line.split(" #").next().unwrap_or_default().trim();
        let mut words = line.split_whitespace();
        let pattern = words.next().filter(|pattern| !pattern.starts_with(['#', '[', '^']))?;
        Some(Owned {
            pattern: pattern.to_owned(),
            owners: words.map(str::to_owned).collect(),
        })
    };
    Ok(text.lines().filter_map(rule).take(MAX_OWNERS).collect())
}
