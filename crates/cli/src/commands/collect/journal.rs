//! The journal's export format: fields a line each, an empty line after each entry; a field with
//! line breaks stands as its name alone, then its length in eight bytes, little-endian, then its
//! value (systemd, "Journal Export Formats").

use outcrop_core::Timestamp;
use outcrop_core::app_log::{Event, Finder};

/// An entry in the making.
#[derive(Default)]
pub struct Journal {
    message: Option<String>,
    process: String,
    pid: String,
    time: Option<Timestamp>,
    lines: u64,
    /// A field whose value is being read: its name and bytes so far.
    binary: Option<(String, Vec<u8>)>,
}

impl Journal {
    pub fn begins_with(line: &[u8]) -> bool {
        line.starts_with(b"__CURSOR=") || line.starts_with(b"__REALTIME_TIMESTAMP=")
    }

    /// Takes one line as it was read; returns events that ended.
    pub fn take(&mut self, line: &[u8], finder: &mut Finder, now: Timestamp) -> Vec<Event> {
        self.lines += 1;
        if let Some((name, mut bytes)) = self.binary.take() {
            bytes.extend_from_slice(line);
            match value_of(&bytes) {
                Some(value) => self.set(&name, &value),
                None => self.binary = Some((name, bytes)),
            }
            return vec![];
        }
        let bare = line.strip_suffix(b"\n").unwrap_or(line);
        if bare.is_empty() {
            return self.end(finder, now);
        }
        match bare.iter().position(|byte| *byte == b'=') {
            Some(at) => self.set(
                &String::from_utf8_lossy(&bare[..at]),
                &String::from_utf8_lossy(&bare[at + 1..]),
            ),
            None => self.binary = Some((String::from_utf8_lossy(bare).into_owned(), vec![])),
        }
        vec![]
    }

    fn set(&mut self, name: &str, value: &str) {
        match name {
            "MESSAGE" => self.message = Some(value.to_owned()),
            "SYSLOG_IDENTIFIER" => value.clone_into(&mut self.process),
            "_PID" => value.clone_into(&mut self.pid),
            "__REALTIME_TIMESTAMP" => {
                self.time = value
                    .parse::<i64>()
                    .ok()
                    .map(|micros| Timestamp(micros.saturating_mul(1_000)));
            }
            _ => {}
        }
    }

    fn end(&mut self, finder: &mut Finder, now: Timestamp) -> Vec<Event> {
        let entry = std::mem::take(self);
        let Some(message) = entry.message else {
            finder.skip(entry.lines);
            return vec![];
        };
        let process = if entry.pid.is_empty() {
            entry.process
        } else {
            format!("{}[{}]", entry.process, entry.pid)
        };
        finder.push_entry(&process, &message, entry.time, entry.lines, now)
    }
}

/// The value of a field once all of it is there: eight bytes of length, the value, a line break.
fn value_of(bytes: &[u8]) -> Option<String> {
    let length = u64::from_le_bytes(bytes.get(..8)?.try_into().ok()?);
    let length = usize::try_from(length).ok()?;
    (bytes.len() > length.checked_add(8)?).then(|| String::from_utf8_lossy(&bytes[8..8 + length]).into_owned())
}
