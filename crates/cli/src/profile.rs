//! Where a person's service is, and their token: written by `outcrop login`.

use std::fs;
use std::io::Write;
use std::os::unix::fs::OpenOptionsExt;
use std::path::PathBuf;

use serde::{Deserialize, Serialize};

use crate::fault::Fault;

#[derive(Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Profile {
    pub url: String,
    pub token: String,
}

/// The profile's file, by the XDG base directory specification.
pub fn path() -> Option<PathBuf> {
    let set = |name: &str| {
        std::env::var_os(name)
            .filter(|value| !value.is_empty())
            .map(PathBuf::from)
    };
    let folder = set("XDG_CONFIG_HOME").or_else(|| Some(set("HOME")?.join(".config")))?;
    Some(folder.join("outcrop/profile.toml"))
}

/// Reads the profile, if there is one.
pub fn read() -> Result<Option<Profile>, Fault> {
    let Some(path) = path() else { return Ok(None) };
    match fs::read_to_string(&path) {
        Ok(text) => toml::from_str(&text)
            .map(Some)
            .map_err(|error| Fault::Usage(format!("{}: {error}", path.display()))),
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => Ok(None),
        Err(error) => Err(Fault::Usage(format!("{}: {error}", path.display()))),
    }
}

/// Writes the profile, readable by its owner alone. Returns where.
pub fn write(profile: &Profile) -> Result<PathBuf, Fault> {
    let path = path().ok_or_else(|| Fault::Usage("neither XDG_CONFIG_HOME nor HOME is set".to_owned()))?;
    let failed = |error: std::io::Error| Fault::Usage(format!("{}: {error}", path.display()));
    if let Some(folder) = path.parent() {
        fs::create_dir_all(folder).map_err(failed)?;
    }
    let text = toml::to_string(profile).map_err(|error| Fault::Usage(error.to_string()))?;
    // Written anew beside it, so that the old file's permissions do not stay.
    let fresh = path.with_extension("new");
    let mut file = fs::OpenOptions::new()
        .write(true)
        .create(true)
        .truncate(true)
        .mode(0o600)
        .open(&fresh)
        .map_err(failed)?;
    file.write_all(text.as_bytes()).map_err(failed)?;
    fs::rename(&fresh, &path).map_err(failed)?;
    Ok(path)
}
