//! Lines out of files and standard input.

use std::collections::VecDeque;
use std::fs::File;
use std::io::{BufRead, BufReader, Seek, SeekFrom};
use std::os::unix::fs::{FileExt, MetadataExt};
use std::path::{Path, PathBuf};
use std::time::SystemTime;

use outcrop_core::Timestamp;
use outcrop_core::app_log::{Event, Finder};

use super::journal::Journal;
use super::position::Position;
use crate::clock::now;
use crate::fault::Fault;

/// Longest line read in bytes: a longer one is cut, the rest left out.
const MAX_LINE: usize = 1 << 20;

/// A log being read: plain lines, or the journal's entries; the first line decides.
#[derive(Default)]
pub struct Source {
    finder: Finder,
    journal: Option<Journal>,
    has_begun: bool,
}

impl Source {
    /// Takes one line as it was read, with its line end.
    fn take(&mut self, line: &[u8], now: Timestamp) -> Vec<Event> {
        if !self.has_begun && !line.iter().all(u8::is_ascii_whitespace) {
            self.has_begun = true;
            self.journal = Journal::begins_with(line).then(Journal::default);
        }
        if let Some(journal) = &mut self.journal {
            return journal.take(line, &mut self.finder, now);
        }
        let text = String::from_utf8_lossy(line);
        self.finder.push(text.trim_end_matches('\n'), now)
    }

    /// Reads to the end, handing over events as they end, with the number of lines read since.
    /// Stops where nobody takes them.
    pub fn read_all(
        &mut self,
        input: &mut impl BufRead,
        mut hand: impl FnMut(Vec<Event>, u64) -> bool,
    ) -> Result<(), Fault> {
        const EVERY: u64 = 1_000;
        let mut lines = 0;
        let mut events = vec![];
        loop {
            let mut line = vec![];
            let read = read_line(input, &mut line)?;
            if read == 0 {
                events.extend(self.finder.flush(now()));
                hand(events, lines);
                return Ok(());
            }
            lines += 1;
            events.extend(self.take(&line, now()));
            if (!events.is_empty() || lines >= EVERY) && !hand(std::mem::take(&mut events), std::mem::take(&mut lines))
            {
                return Ok(());
            }
        }
    }
}

/// Reads one line with its end, cut to [`MAX_LINE`]. Returns the bytes it took from the input.
fn read_line(input: &mut impl BufRead, line: &mut Vec<u8>) -> Result<u64, Fault> {
    let mut taken = 0;
    loop {
        let available = input.fill_buf()?;
        if available.is_empty() {
            return Ok(taken);
        }
        let end = available.iter().position(|byte| *byte == b'\n').map(|at| at + 1);
        let part = &available[..end.unwrap_or(available.len())];
        let room = MAX_LINE.saturating_sub(line.len()).min(part.len());
        line.extend_from_slice(&part[..room]);
        let count = part.len();
        input.consume(count);
        taken += count as u64;
        if end.is_some() {
            return Ok(taken);
        }
    }
}

/// A file that is read on from where it was left, also when it grows or is replaced.
pub struct FileSource {
    path: PathBuf,
    source: Source,
    file: BufReader<File>,
    identity: (u64, u64),
    /// Bytes read.
    read: u64,
    /// The last line read, to see whether the file is still the one it stood in.
    last: Vec<u8>,
    modified: Option<SystemTime>,
    /// Where lines of events not yet ended begin: the line's number in this run and its offset.
    starts: VecDeque<(u64, u64)>,
    lines: u64,
    /// Whether the path may come to name another file.
    follows: bool,
}

impl FileSource {
    pub fn open(path: &Path, known: Option<Position>, follows: bool) -> Result<Self, Fault> {
        let failed = |error: std::io::Error| Fault::Usage(format!("{}: {error}", path.display()));
        let current = File::open(path).map_err(failed)?;
        stays_within(path, &current)?;
        let is_current = |position: &Position| identity(&current).is_ok_and(|identity| identity == position.identity());
        // Replaced while nobody read: what is left of the old one lies beside it under another name.
        let left = known
            .filter(|position| !is_current(position))
            .and_then(|position| Some((renamed(path, &position)?, position)));
        let (file, from) = match (left, known) {
            (Some((old, position)), _) => (old, position.offset),
            (None, Some(position)) if is_current(&position) => (current, position.offset),
            _ => (current, 0),
        };
        Self::start(path, file, from, follows).map_err(failed)
    }

    fn start(path: &Path, mut file: File, from: u64, follows: bool) -> std::io::Result<Self> {
        let size = file.metadata()?.len();
        // Shorter than where it was left: its content was thrown away, and it began anew.
        let from = if from > size { 0 } else { from };
        file.seek(SeekFrom::Start(from))?;
        Ok(Self {
            path: path.to_owned(),
            identity: identity(&file)?,
            file: BufReader::new(file),
            source: Source::default(),
            read: from,
            last: vec![],
            modified: None,
            starts: VecDeque::new(),
            lines: 0,
            follows,
        })
    }

    /// Reads whole lines, about so many bytes. Returns the events that ended and how many lines were read.
    pub fn read(&mut self, bytes: usize, now: Timestamp) -> Result<(Vec<Event>, u64), Fault> {
        let (mut events, mut lines, mut taken) = (vec![], 0, 0);
        while taken < bytes as u64 {
            let mut line = vec![];
            let count = read_line(&mut self.file, &mut line)?;
            if count == 0 {
                break;
            }
            if !line.ends_with(b"\n") && line.len() < MAX_LINE && self.follows && !self.is_replaced() {
                // Half a line: the rest is still being written.
                self.file.seek(SeekFrom::Start(self.read))?;
                break;
            }
            self.lines += 1;
            self.starts.push_back((self.lines, self.read));
            self.read += count;
            taken += count;
            lines += 1;
            events.extend(self.source.take(&line, now));
            self.forget_ended();
            // A line that was cut cannot be compared.
            self.last = if line.len() as u64 == count { line } else { vec![] };
        }
        if lines == 0 && self.follows {
            events.extend(self.follow_on(now)?);
        }
        Ok((events, lines))
    }

    /// Ends open events.
    pub fn flush(&mut self, now: Timestamp) -> Vec<Event> {
        let events = self.source.finder.flush(now);
        self.starts.clear();
        events
    }

    /// Where to read on after a restart: the first line of an event that has not ended.
    pub fn position(&self) -> Position {
        let offset = self.starts.front().map_or(self.read, |(_, offset)| *offset);
        Position {
            device: self.identity.0,
            inode: self.identity.1,
            offset,
        }
    }

    pub fn path(&self) -> &Path {
        &self.path
    }

    /// What the log is called: its file's name without endings.
    pub fn name(&self) -> String {
        let name = self
            .path
            .file_name()
            .map(|name| name.to_string_lossy().into_owned())
            .unwrap_or_default();
        name.split('.').next().unwrap_or_default().to_owned()
    }

    fn forget_ended(&mut self) {
        let open = self.source.finder.first_open_line().unwrap_or(self.lines + 1);
        while self.starts.front().is_some_and(|(number, _)| *number < open) {
            self.starts.pop_front();
        }
    }

    /// Whether the last line read still stands where it was read: a file emptied and filled anew
    /// may be as long as before.
    fn ends_as_read(&self) -> bool {
        let mut there = vec![0; self.last.len()];
        let Some(at) = self.read.checked_sub(self.last.len() as u64) else {
            return true;
        };
        self.file
            .get_ref()
            .read_at(&mut there, at)
            .is_ok_and(|count| there.get(..count) == Some(self.last.as_slice()))
    }

    fn is_replaced(&self) -> bool {
        std::fs::metadata(&self.path).is_ok_and(|now| (now.dev(), now.ino()) != self.identity)
    }

    /// At the end of the file: goes over to the one that took its place, or to the start of one that was emptied.
    fn follow_on(&mut self, now: Timestamp) -> Result<Vec<Event>, Fault> {
        let metadata = self.file.get_ref().metadata()?;
        let is_written = metadata.modified().ok() != self.modified;
        self.modified = metadata.modified().ok();
        let is_emptied = metadata.len() < self.read || is_written && !self.ends_as_read();
        if !is_emptied && !self.is_replaced() {
            return Ok(vec![]);
        }
        let Ok(next) = File::open(&self.path) else {
            return Ok(vec![]);
        };
        stays_within(&self.path, &next)?;
        let events = self.flush(now);
        *self = Self::start(&self.path.clone(), next, 0, true)?;
        Ok(events)
    }
}

fn identity(file: &File) -> std::io::Result<(u64, u64)> {
    file.metadata().map(|metadata| (metadata.dev(), metadata.ino()))
}

/// Refuses a link that leads out of the folder that a path names: whoever may write into a log's
/// folder would have any file read that whoever collects may read. What is no file, such as a pipe,
/// is let through.
fn stays_within(path: &Path, opened: &File) -> Result<(), Fault> {
    let failed = |error: std::io::Error| Fault::Usage(format!("{}: {error}", path.display()));
    if !opened.metadata().map_err(failed)?.is_file() {
        return Ok(());
    }
    let folder = path
        .parent()
        .filter(|folder| !folder.as_os_str().is_empty())
        .unwrap_or(Path::new("."));
    let (folder, target) = (
        folder.canonicalize().map_err(failed)?,
        path.canonicalize().map_err(failed)?,
    );
    // Looked at after it was opened, and held against what was opened: a link that is changed in between is found out.
    let is_same = std::fs::metadata(&target)
        .is_ok_and(|there| identity(opened).is_ok_and(|own| own == (there.dev(), there.ino())));
    if is_same && target.starts_with(&folder) {
        return Ok(());
    }
    Err(Fault::Usage(format!(
        "{} is a link to {}, which lies outside {}: name that file itself to have it read",
        path.display(),
        target.display(),
        folder.display()
    )))
}

/// The file of an identity beside a path.
fn renamed(path: &Path, position: &Position) -> Option<File> {
    let folder = path
        .parent()
        .filter(|folder| !folder.as_os_str().is_empty())
        .unwrap_or(Path::new("."));
    let found = std::fs::read_dir(folder).ok()?.filter_map(Result::ok).find(|entry| {
        entry
            .metadata()
            .is_ok_and(|metadata| metadata.is_file() && (metadata.dev(), metadata.ino()) == position.identity())
    })?;
    File::open(found.path()).ok()
}

#[cfg(test)]
mod tests {
    use std::os::unix::fs::symlink;

    use super::*;

    /// A folder of its own, removed at the end.
    struct Folder(PathBuf);

    impl Folder {
        fn new() -> Self {
            let path = std::env::temp_dir().join(format!("outcrop-links-{}", std::process::id()));
            std::fs::create_dir_all(path.join("logs/old")).unwrap();
            std::fs::write(path.join("secret"), "a key\n").unwrap();
            std::fs::write(path.join("logs/old/1.log"), "a line\n").unwrap();
            Self(path)
        }
    }

    impl Drop for Folder {
        fn drop(&mut self) {
            drop(std::fs::remove_dir_all(&self.0));
        }
    }

    #[test]
    fn a_link_is_followed_within_its_folder_and_not_out_of_it() {
        let folder = Folder::new();
        let at = |name: &str| folder.0.join(name);
        symlink(at("logs/old/1.log"), at("logs/current.log")).unwrap();
        symlink(at("secret"), at("logs/evil.log")).unwrap();
        symlink("../secret", at("logs/relative.log")).unwrap();
        let open = |name: &str| {
            FileSource::open(&at(name), None, true)
                .map(|source| source.name())
                .map_err(|fault| fault.to_string())
        };
        assert_eq!(open("logs/current.log").as_deref(), Ok("current"));
        assert_eq!(open("logs/old/1.log").as_deref(), Ok("1"));
        for name in ["logs/evil.log", "logs/relative.log"] {
            assert!(
                open(name).is_err_and(|why| why.contains("secret, which lies outside")),
                "{name}"
            );
        }
        // A log that is replaced by such a link while it is followed is not read on.
        let mut followed = FileSource::open(&at("logs/current.log"), None, true).unwrap();
        followed.read(1_000, Timestamp(0)).unwrap();
        std::fs::remove_file(at("logs/current.log")).unwrap();
        symlink(at("secret"), at("logs/current.log")).unwrap();
        let read: Vec<_> = (0..3).map(|_| followed.read(1_000, Timestamp(0)).is_err()).collect();
        assert!(read.contains(&true), "{read:?}");
    }
}
