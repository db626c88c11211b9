//! Reading from a Git repository what a deploy brought: its commits, the lines of each that are
//! still there, who owns which files.

use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;

use git2::{BlameOptions, Commit as GitCommit, Delta, Oid, Repository, Sort};
use outcrop_api::{DeployChanges, Owned};
use outcrop_core::Reference;
use outcrop_core::text::prefix;
use outcrop_core::touching::{ChangedFile, Commit};

use crate::fault::Fault;

/// Commits and files read of one deploy: what brings more is no deploy that a list of commits explains.
const MAX_COMMITS: usize = 500;
const MAX_FILES: usize = 500;
/// Where code owners are written down, the first there counts.
const OWNERS: [&str; 3] = ["CODEOWNERS", "docs/CODEOWNERS", ".config/CODEOWNERS"];
const MAX_OWNERS: usize = 2_000;

/// What a repository says of a deploy.
pub struct Brought {
    /// The full id of the deployed commit.
    pub revision: String,
    /// What changed.
    pub changes: DeployChanges,
    /// The errors that its commits say they settle.
    pub settles: Vec<String>,
}

/// How a commit says which error it settles: a line of its own at the end of its message, as Git's trailers stand there.
const SETTLES: &str = "Settles";

/// Reads the commits from one revision (left out) to another.
pub fn changes(folder: &Path, from: &str, to: &str) -> Result<Brought, Fault> {
    let refused = |what: String| move |error: git2::Error| Fault::Usage(format!("{what}: {}", error.message()));
    let repository = Repository::discover(folder).map_err(refused(format!("--repo {}", folder.display())))?;
    let find =
        |name: &str| -> Result<Oid, git2::Error> { Ok(repository.revparse_single(name)?.peel_to_commit()?.id()) };
    let first = find(from).map_err(refused(format!("--from {from}")))?;
    let last = find(to).map_err(refused(format!("the deployed revision {to}")))?;
    let read = || -> Result<(DeployChanges, Vec<String>), git2::Error> {
        let mut commits = commits(&repository, first, last)?;
        attribute(&repository, first, last, &mut commits)?;
        let settles = settled(&repository, &commits)?;
        let changes = DeployChanges {
            repository: repository
                .workdir()
                .and_then(Path::file_name)
                .map(|name| name.to_string_lossy().into_owned())
                .unwrap_or_default(),
            commits: commits.into_values().collect(),
            owners: owners(&repository, last)?,
        };
        Ok((changes, settles))
    };
    let (changes, settles) = read().map_err(refused("the repository cannot be read".to_owned()))?;
    Ok(Brought {
        revision: last.to_string(),
        changes,
        settles,
    })
}

/// The references that the commits' trailers name, each once.
fn settled(repository: &Repository, commits: &BTreeMap<Oid, Commit>) -> Result<Vec<String>, git2::Error> {
    let mut named = BTreeSet::new();
    for id in commits.keys() {
        let commit = repository.find_commit(*id)?;
        let Ok(trailers) = git2::message_trailers_strs(commit.message().unwrap_or_default()) else {
            continue;
        };
        let of_ours = trailers.iter().filter(|(key, _)| key.eq_ignore_ascii_case(SETTLES));
        named.extend(of_ours.flat_map(|(_, value)| references(value)));
    }
    Ok(named.into_iter().collect())
}

/// The references in a trailer's value, separated by commas or blanks; what is none is left out.
fn references(value: &str) -> Vec<String> {
    let words = value
        .split([',', ' '])
        .filter_map(|word| word.parse::<Reference>().ok());
    words.map(|reference| reference.to_string()).collect()
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

#[cfg(test)]
mod tests {
    use git2::Signature;
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::one("kobal-tirun", &["kobal-tirun"])]
    #[case::several("kobal-tirun, lusab-babad", &["kobal-tirun", "lusab-babad"])]
    #[case::none("#4110 and more", &[])]
    fn references_of_a_trailer_are_read_and_the_rest_left_out(#[case] value: &str, #[case] expected: &[&str]) {
        assert_eq!(references(value), expected);
    }

    #[test]
    fn commits_say_which_errors_they_settle_in_trailers_alone() {
        let folder = tempfile::tempdir().unwrap();
        let repository = Repository::init(folder.path()).unwrap();
        let (by, mut last) = (Signature::now("ada", "ada@skerry.example").unwrap(), None);
        let mut commit = |message: &str| {
            let tree = repository.index().unwrap().write_tree().unwrap();
            let tree = repository.find_tree(tree).unwrap();
            let parent = last.map(|id| repository.find_commit(id).unwrap());
            let parents: Vec<_> = parent.iter().collect();
            let id = repository
                .commit(Some("HEAD"), &by, &by, message, &tree, &parents)
                .unwrap();
            last = Some(id);
            id.to_string()
        };
        let before = commit("Fares of winter\n\nSettles: gutih-tugad\n");
        commit(
            "Look tariffs up by season\n\nkobal-tirun was one of them.\n\nSettles: lusab-babad\nReviewed-by: mate\n",
        );
        let deployed = commit("Log less\n\nsettles: kobal-tirun, lusab-babad\n");
        let read = changes(folder.path(), &before, "HEAD").unwrap();
        assert_eq!(read.revision, deployed);
        assert_eq!(read.settles, ["kobal-tirun", "lusab-babad"]);
        assert_eq!(read.changes.commits.len(), 2);
    }
}
