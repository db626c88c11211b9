//! Which commits of a deploy lie near an error's frames.

use serde::{Deserialize, Serialize};

use crate::source_link::repository_path;
use crate::stack::{Frame, Stack, base_name};

/// A commit of a deploy with the lines of it that are still there in the deployed revision.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Commit {
    /// Its id, as Git writes it.
    pub id: String,
    /// Its author's name.
    pub author: String,
    /// When it was made, in seconds since 1970.
    pub at: i64,
    /// The first line of its message.
    pub summary: String,
    /// The files it changed.
    pub files: Vec<ChangedFile>,
}

/// A file and the lines of it that a commit wrote last.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct ChangedFile {
    /// Its path in the repository.
    pub path: String,
    /// First and last lines, from 1, both included; empty of a file where only lines were taken away.
    pub ranges: Vec<(u32, u32)>,
}

/// A commit that touches what an error is thrown through.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Touch<'c> {
    /// The commit.
    pub commit: &'c Commit,
    /// The file, by its path in the repository.
    pub path: String,
    /// The line of the frame.
    pub line: u32,
    /// The frame's place among the own frames, from where it was thrown: 0 is the innermost.
    pub frame: usize,
    /// How many lines lie between; 0 for the very line. `None` where the commit only took lines of the file away.
    pub distance: Option<u32>,
}

/// Own frames looked at, from where it was thrown.
const FRAMES: usize = 6;
/// Lines between a change and a frame up to which the change is said to be near; further away it is
/// told after all others.
const NEAR: u32 = 40;

/// Ranks the commits that changed files an error is thrown through: the very line first, then by
/// how far the change lies from the frame and the frame from where it was thrown. Each commit once,
/// by its nearest place.
#[must_use]
pub fn touching<'c>(commits: &'c [Commit], stack: &Stack<'_>, root: &str) -> Vec<Touch<'c>> {
    let own: Vec<&Frame<'_>> = stack
        .exceptions
        .iter()
        .flat_map(|exception| &exception.frames)
        .filter(|frame| frame.own)
        .take(FRAMES)
        .collect();
    let mut found: Vec<Touch<'c>> = vec![];
    for commit in commits {
        let touches = own.iter().enumerate().flat_map(|(at, frame)| {
            commit
                .files
                .iter()
                .filter(move |file| is_of(frame, root, &file.path))
                .filter_map(move |file| {
                    let line = frame.line?;
                    let distance = file
                        .ranges
                        .iter()
                        .map(|(first, last)| first.saturating_sub(line).max(line.saturating_sub(*last)))
                        .min();
                    Some(Touch {
                        commit,
                        path: file.path.clone(),
                        line,
                        frame: at,
                        distance,
                    })
                })
        });
        found.extend(touches.min_by_key(rank));
    }
    found.sort_by_key(rank);
    found
}

/// Near changes by line and frame together, far ones behind them, files with lines taken away last.
fn rank(touch: &Touch<'_>) -> (u8, u32, usize, i64) {
    let depth = u32::try_from(touch.frame).unwrap_or(u32::MAX);
    let newest_first = -touch.commit.at;
    match touch.distance {
        Some(distance) if distance <= NEAR => (
            0,
            distance.saturating_add(depth.saturating_mul(10)),
            touch.frame,
            newest_first,
        ),
        Some(distance) => (1, distance, touch.frame, newest_first),
        None => (2, 0, touch.frame, newest_first),
    }
}

/// Whether a frame's file is this one of the repository: its path says so, or ends with it, or the
/// other way round, at a folder's border.
fn is_of(frame: &Frame<'_>, root: &str, path: &str) -> bool {
    let told = repository_path(frame, root).unwrap_or_else(|| frame.file.replace('\\', "/"));
    let told = told.trim_start_matches("./").trim_start_matches('/');
    let ends =
        |long: &str, short: &str| long == short || long.strip_suffix(short).is_some_and(|rest| rest.ends_with('/'));
    // A bare file name alone tells files apart only where the names are the same.
    !told.is_empty() && (ends(told, path) || ends(path, told)) && base_name(told) == base_name(path)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn commit(id: &str, at: i64, files: &[(&str, &[(u32, u32)])]) -> Commit {
        let file = |(path, ranges): &(&str, &[(u32, u32)])| ChangedFile {
            path: (*path).to_owned(),
            ranges: ranges.to_vec(),
        };
        Commit {
            id: id.to_owned(),
            at,
            files: files.iter().map(file).collect(),
            ..Commit::default()
        }
    }

    #[test]
    fn the_commit_at_the_line_stands_first_and_far_ones_last() {
        let text = "Traceback (most recent call last):\n  File \"/srv/skerry/fares/app/quotes.py\", line 45, in \
            create\n    x\n  \
            File \"/srv/skerry/fares/app/tariff.py\", line 92, in quote\n    x\nZeroDivisionError: division by zero";
        let stack = crate::stack::read(text).unwrap();
        let commits = [
            commit("far", 4, &[("app/tariff.py", &[(300, 310)])]),
            commit("outer", 3, &[("app/quotes.py", &[(40, 44)])]),
            commit(
                "elsewhere",
                9,
                &[("app/berths.py", &[(92, 92)]), ("lib/xtariff.py", &[(92, 92)])],
            ),
            commit("line", 1, &[("app/tariff.py", &[(10, 12), (90, 95)])]),
            commit("taken away", 5, &[("app/tariff.py", &[])]),
        ];
        let found: Vec<(&str, Option<u32>, usize)> = touching(&commits, &stack, "")
            .iter()
            .map(|touch| (touch.commit.id.as_str(), touch.distance, touch.frame))
            .collect();
        assert_eq!(
            found,
            [
                ("line", Some(0), 0),
                ("outer", Some(1), 1),
                ("far", Some(208), 0),
                ("taken away", None, 0)
            ]
        );
    }
}
