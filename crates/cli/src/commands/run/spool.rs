//! Reports of runs that could not be sent, as files in a folder: one for each run, the oldest first by name.

use std::fs::{self, OpenOptions};
use std::io::{self, Write};
use std::os::unix::fs::{DirBuilderExt, OpenOptionsExt};
use std::path::PathBuf;
use std::time::{SystemTime, UNIX_EPOCH};

use crate::fault::Fault;
use crate::state_folder::state_folder;

pub struct Spool {
    folder: PathBuf,
    most: u64,
}

impl Spool {
    /// The reports for a service's address, `most` bytes of them.
    pub fn new(given: Option<PathBuf>, url: &str, most: u64) -> Result<Self, Fault> {
        let folder = given.map_or_else(default_folder, Ok)?;
        // Reports for one service are not sent to another.
        let of_url: String = url
            .chars()
            .map(|c| if c.is_ascii_alphanumeric() || c == '.' { c } else { '_' })
            .collect();
        Ok(Self {
            folder: folder.join(of_url),
            most,
        })
    }

    /// Keeps a report; returns how many older ones were dropped to make room.
    pub fn keep(&self, body: &str) -> io::Result<usize> {
        let length = body.len() as u64;
        if length > self.most {
            return Err(io::Error::other(format!(
                "it has {length} bytes, and --spool-bytes are {}",
                self.most
            )));
        }
        // What a command wrote is nobody else's.
        fs::DirBuilder::new().recursive(true).mode(0o700).create(&self.folder)?;
        let dropped = self.make_room(length);
        let since = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default();
        let name = format!("{:020}-{}", since.as_nanos(), std::process::id());
        let (part, whole) = (
            self.folder.join(format!("{name}.part")),
            self.folder.join(format!("{name}.json")),
        );
        let mut file = OpenOptions::new()
            .write(true)
            .create_new(true)
            .mode(0o600)
            .open(&part)?;
        file.write_all(body.as_bytes())?;
        file.sync_all()?;
        fs::rename(&part, &whole)?;
        Ok(dropped)
    }

    /// The files of reports that are kept, the oldest first.
    pub fn kept(&self) -> Vec<PathBuf> {
        let entries = fs::read_dir(&self.folder).into_iter().flatten().flatten();
        let mut files: Vec<PathBuf> = entries
            .map(|entry| entry.path())
            .filter(|path| path.extension().is_some_and(|extension| extension == "json"))
            .collect();
        files.sort();
        files
    }

    fn make_room(&self, length: u64) -> usize {
        let size = |path: &PathBuf| fs::metadata(path).map_or(0, |data| data.len());
        let files = self.kept();
        let mut all: u64 = files.iter().map(size).sum();
        let mut dropped = 0;
        for file in &files {
            if all + length <= self.most {
                break;
            }
            all -= size(file);
            dropped += usize::from(fs::remove_file(file).is_ok());
        }
        dropped
    }
}

fn default_folder() -> Result<PathBuf, Fault> {
    let folder = state_folder().ok_or_else(|| Fault::Usage("no place to keep runs: give --spool FOLDER".to_owned()))?;
    Ok(folder.join("runs"))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn spool(folder: &tempfile::TempDir, most: u64) -> Spool {
        Spool::new(Some(folder.path().join("runs")), "http://127.0.0.1:8471", most).unwrap()
    }

    #[test]
    fn reports_are_kept_in_their_order_for_their_service() {
        let folder = tempfile::tempdir().unwrap();
        let kept = spool(&folder, 100);
        for body in ["one", "two", "three"] {
            assert_eq!(kept.keep(body).unwrap(), 0);
        }
        let bodies: Vec<String> = kept
            .kept()
            .iter()
            .map(|file| fs::read_to_string(file).unwrap())
            .collect();
        assert_eq!(bodies, ["one", "two", "three"]);
        let other = Spool::new(Some(folder.path().join("runs")), "https://outcrop.skerry.example", 100).unwrap();
        assert_eq!(other.kept(), Vec::<PathBuf>::new());
    }

    #[test]
    fn the_oldest_make_room() {
        let folder = tempfile::tempdir().unwrap();
        let kept = spool(&folder, 10);
        for body in ["aaaa", "bbbb"] {
            kept.keep(body).unwrap();
        }
        assert_eq!(kept.keep("cccccc").unwrap(), 1);
        let bodies: Vec<String> = kept
            .kept()
            .iter()
            .map(|file| fs::read_to_string(file).unwrap())
            .collect();
        assert_eq!(bodies, ["bbbb", "cccccc"]);
        assert!(kept.keep("more than ten bytes").is_err());
        assert_eq!(kept.kept().len(), 2, "what is too large drops nothing");
    }
}
