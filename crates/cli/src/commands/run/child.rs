//! The command as a process: what it writes and is told passes through, and the end of what it wrote is kept.

use std::collections::VecDeque;
use std::ffi::OsString;
use std::io::{ErrorKind, IsTerminal, Read, Write};
use std::os::unix::process::ExitStatusExt;
use std::process::ExitStatus;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use nix::sys::signal::{Signal, kill};
use nix::unistd::Pid;
use tokio::process::{Child, Command};
use tokio::signal::unix::{SignalKind, signal};

use super::tell::tell;

/// How much of the end of what a command wrote to standard error is looked at, in bytes.
const TAIL: usize = 256 * 1024;
/// How long after its end more may come: a command that it left behind may keep standard error open for days.
const AFTER_END: Duration = Duration::from_secs(1);

/// How a command ended.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Ending {
    /// With an exit code.
    Code(u8),
    /// By a signal, given by its number.
    Signal(i32),
    /// It could not be started; with the exit code that shells give, and why.
    NotStarted(u8, String),
}

impl Ending {
    /// The exit code that shells give for it.
    pub fn exit_code(&self) -> u8 {
        match self {
            Self::Code(code) | Self::NotStarted(code, _) => *code,
            Self::Signal(number) => 128_u8.saturating_add(u8::try_from(*number).unwrap_or_default()),
        }
    }
}

/// A command that ended.
#[derive(Debug)]
pub struct Done {
    /// How.
    pub ending: Ending,
    /// Its process id; none where it could not be started.
    pub pid: Option<u32>,
    /// The end of what it wrote to standard error.
    pub last: String,
}

/// Runs a command to its end.
pub async fn run(command: &[OsString], traceparent: &str) -> Done {
    let not_started = |error: &std::io::Error| {
        let code = if error.kind() == ErrorKind::NotFound { 127 } else { 126 };
        let name = command
            .first()
            .map_or_else(String::new, |name| name.to_string_lossy().into_owned());
        Done {
            ending: Ending::NotStarted(code, format!("{name} could not be started: {error}")),
            pid: None,
            last: String::new(),
        }
    };
    // Before the command begins: what comes between would end this process alone.
    let signals = Signals::listen();
    let (child, written) = match start(command, traceparent) {
        Ok(started) => started,
        Err(error) => {
            let done = not_started(&error);
            if let Ending::NotStarted(_, why) = &done.ending {
                tell(why);
            }
            return done;
        }
    };
    let pid = child.id();
    let tail = Tail::default();
    let (copied, at_end) = tokio::sync::oneshot::channel();
    // A thread of its own: one that still waits for what was left behind does not keep this process from ending.
    std::thread::spawn({
        let tail = tail.clone();
        move || {
            copy(written, &tail);
            copied.send(())
        }
    });
    let status = wait(child, signals).await;
    drop(tokio::time::timeout(AFTER_END, at_end).await);
    Done {
        ending: status.map_or_else(|error| not_started(&error).ending, ending),
        pid,
        last: tail.text(),
    }
}

fn start(command: &[OsString], traceparent: &str) -> std::io::Result<(Child, std::io::PipeReader)> {
    let (name, arguments) = command.split_first().ok_or(ErrorKind::NotFound)?;
    let (written, writer) = std::io::pipe()?;
    let child = Command::new(name)
        .args(arguments)
        // What the command reports of itself belongs to this run: OpenTelemetry, "Environment Variables as Context
        // Propagation Carriers".
        .env("TRACEPARENT", traceparent)
        .stderr(writer)
        .spawn()?;
    Ok((child, written))
}

fn ending(status: ExitStatus) -> Ending {
    match (status.code(), status.signal()) {
        (Some(code), _) => Ending::Code(u8::try_from(code).unwrap_or(u8::MAX)),
        (None, Some(number)) => Ending::Signal(number),
        (None, None) => Ending::Code(u8::MAX),
    }
}

/// Passes signals on until the command ends.
async fn wait(mut child: Child, mut signals: Signals) -> std::io::Result<ExitStatus> {
    loop {
        tokio::select! {
            status = child.wait() => return status,
            told = signals.next() => {
                let pid = child.id().and_then(|pid| i32::try_from(pid).ok());
                if let Some(pid) = pid {
                    // It may have ended just now: then nobody is told.
                    let _ended = kill(Pid::from_raw(pid), told);
                }
            }
        }
    }
}

/// Signals that are passed on. A terminal tells a whole process group of its keys and of its end: then the command
/// knows already.
struct Signals {
    listened: Vec<(tokio::signal::unix::Signal, Signal)>,
}

impl Signals {
    fn listen() -> Self {
        let is_at_terminal = std::io::stdin().is_terminal();
        let listened = [
            (Signal::SIGTERM, true),
            (Signal::SIGUSR1, true),
            (Signal::SIGUSR2, true),
            (Signal::SIGINT, !is_at_terminal),
            (Signal::SIGQUIT, !is_at_terminal),
            (Signal::SIGHUP, !is_at_terminal),
        ];
        let listened = listened.into_iter().filter_map(|(one, is_passed_on)| {
            // Once listened to, a signal does not end this process any more, whether it is passed on or not.
            let listener = signal(SignalKind::from_raw(one as i32)).ok()?;
            is_passed_on.then_some((listener, one))
        });
        Self {
            listened: listened.collect(),
        }
    }

    async fn next(&mut self) -> Signal {
        std::future::poll_fn(|context| {
            for (listener, one) in &mut self.listened {
                if listener.poll_recv(context).is_ready() {
                    return std::task::Poll::Ready(*one);
                }
            }
            std::task::Poll::Pending
        })
        .await
    }
}

/// Passes on what a command writes to standard error as it comes, and keeps its end.
fn copy(mut written: impl Read, tail: &Tail) {
    let mut buffer = vec![0; 64 * 1024];
    let mut is_open = true;
    loop {
        match written.read(&mut buffer) {
            Ok(0) => return,
            Ok(n) => {
                let part = buffer.get(..n).unwrap_or_default();
                tail.push(part);
                if is_open {
                    let mut out = std::io::stderr().lock();
                    is_open = out.write_all(part).and_then(|()| out.flush()).is_ok();
                }
            }
            Err(error) if error.kind() == ErrorKind::Interrupted => {}
            Err(_) => return,
        }
    }
}

/// The end of what was written, up to [`TAIL`] bytes.
#[derive(Clone, Default)]
struct Tail(Arc<Mutex<VecDeque<u8>>>);

impl Tail {
    fn push(&self, part: &[u8]) {
        let mut kept = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let part = part.get(part.len().saturating_sub(TAIL)..).unwrap_or_default();
        let over = (kept.len() + part.len()).saturating_sub(TAIL);
        kept.drain(..over);
        kept.extend(part);
    }

    fn text(&self) -> String {
        let kept = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let bytes: Vec<u8> = kept.iter().copied().collect();
        String::from_utf8_lossy(&bytes).into_owned()
    }
}

/// Ends this process by the signal that ended the command, as far as it can be: after it, an exit code stands in.
pub fn end_by(number: i32) {
    drop(signal_hook::low_level::emulate_default_handler(number));
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn the_end_of_what_was_written_is_kept(parts in proptest::collection::vec(0_usize..90_000, 1..12)) {
            let tail = Tail::default();
            let mut all = String::new();
            for (at, length) in parts.into_iter().enumerate() {
                let part = ((b'a' + u8::try_from(at).unwrap()) as char).to_string().repeat(length);
                tail.push(part.as_bytes());
                all.push_str(&part);
            }
            let kept = tail.text();
            prop_assert_eq!(kept.len(), all.len().min(TAIL));
            prop_assert!(all.ends_with(&kept));
        }
    }

    #[test]
    fn shells_exit_codes_stand_for_signals() {
        assert_eq!(Ending::Signal(15).exit_code(), 143);
        assert_eq!(Ending::Code(3).exit_code(), 3);
        assert_eq!(Ending::NotStarted(127, String::new()).exit_code(), 127);
    }
}
