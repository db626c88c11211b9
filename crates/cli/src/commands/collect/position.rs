//! How far each file was read and sent, kept over restarts.

use std::collections::BTreeMap;
use std::io::Write;
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};

use crate::fault::Fault;
use crate::state_folder::state_folder;

/// A place in a file that may be renamed meanwhile.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Position {
    pub device: u64,
    pub inode: u64,
    pub offset: u64,
}

impl Position {
    pub const fn identity(&self) -> (u64, u64) {
        (self.device, self.inode)
    }
}

/// The positions of all files, in one file of their own.
pub struct Positions {
    file: PathBuf,
    known: BTreeMap<PathBuf, Position>,
}

impl Positions {
    pub fn open(given: Option<PathBuf>) -> Result<Self, Fault> {
        let file = given.map_or_else(default_file, Ok)?;
        let known = match std::fs::read(&file) {
            Ok(bytes) => serde_json::from_slice(&bytes).map_err(|error| {
                Fault::Usage(format!(
                    "{}: {error}; remove it to read all files from their start",
                    file.display()
                ))
            })?,
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => BTreeMap::new(),
            Err(error) => return Err(Fault::Usage(format!("{}: {error}", file.display()))),
        };
        Ok(Self { file, known })
    }

    pub fn of(&self, path: &Path) -> Option<Position> {
        self.known.get(&absolute(path)).copied()
    }

    /// Sets a position, durably: the file is replaced as a whole.
    pub fn set(&mut self, path: &Path, position: Position) -> Result<(), Fault> {
        if self.known.insert(absolute(path), position) == Some(position) {
            return Ok(());
        }
        let failed = |error: std::io::Error| Fault::Usage(format!("{}: {error}", self.file.display()));
        if let Some(folder) = self.file.parent() {
            std::fs::create_dir_all(folder).map_err(failed)?;
        }
        let beside = self.file.with_extension("new");
        let mut out = std::fs::File::create(&beside).map_err(failed)?;
        serde_json::to_writer(&mut out, &self.known).map_err(|error| failed(error.into()))?;
        out.flush().and_then(|()| out.sync_all()).map_err(failed)?;
        std::fs::rename(&beside, &self.file).map_err(failed)
    }
}

fn absolute(path: &Path) -> PathBuf {
    std::path::absolute(path).unwrap_or_else(|_| path.to_owned())
}

fn default_file() -> Result<PathBuf, Fault> {
    let folder =
        state_folder().ok_or_else(|| Fault::Usage("no place to remember positions: give --state FILE".to_owned()))?;
    Ok(folder.join("collect.json"))
}
