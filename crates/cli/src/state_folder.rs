//! Where the client keeps what it has to remember, by the XDG base directory specification.

use std::path::PathBuf;

/// The folder `outcrop` for the state of whoever runs it; `None` where neither `XDG_STATE_HOME` nor `HOME` is set.
pub fn state_folder() -> Option<PathBuf> {
    let state = std::env::var_os("XDG_STATE_HOME")
        .map(PathBuf::from)
        .filter(|folder| folder.is_absolute());
    let home = || std::env::var_os("HOME").map(|home| PathBuf::from(home).join(".local/state"));
    Some(state.or_else(home)?.join("outcrop"))
}
