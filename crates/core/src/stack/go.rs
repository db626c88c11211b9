//! Go: panics with goroutine dumps, and stacks printed by `debug.Stack`.

use std::borrow::Cow;

use super::lists::{Parts, anywhere};
use super::search::{Search, lines, sign};
use super::{Dialect, Exception, Frame, Relation};

pub(super) struct Go;

impl Dialect for Go {
    fn runtime(&self) -> &'static str {
        "go"
    }

    fn read<'a>(&self, text: &'a str) -> Option<Vec<Exception<'a>>> {
        if !sign!("goroutine ").is_in(text) && !sign!(".go:").is_in(text) {
            return None;
        }
        if !sign!("goroutine ").is_in(text)
            && let Some(chain) = wrapped(text)
        {
            return Some(chain);
        }
        let mut exception = Exception::default();
        let mut name: Option<&str> = None;
        let mut goroutines = 0;
        for line in lines(text) {
            if line.starts_with("goroutine ") && line.ends_with(':') {
                goroutines += 1;
                // The first goroutine is the one that failed.
                if goroutines > 1 && !exception.frames.is_empty() {
                    break;
                }
                name = None;
            } else if let Some(message) = line
                .strip_prefix("panic: ")
                .or_else(|| line.strip_prefix("fatal error: "))
            {
                exception.message = Cow::Borrowed(message.before_mark(" [recovered]"));
            } else if let Some(place) = line.strip_prefix('\t') {
                if let Some(frame) = name.take().and_then(|name| frame(name, place)) {
                    exception.frames.push(frame);
                }
            } else {
                name = (!line.is_empty() && !line.starts_with("created by ")).then_some(line);
            }
        }
        // What prints or raises the panic stands above where it happened.
        let raised = exception.frames.iter().rposition(|frame| is_raising(frame));
        exception.frames.drain(..raised.map_or(0, |at| at + 1));
        (!exception.frames.is_empty()).then(|| vec![exception])
    }
}

/// What libraries print of an error that was wrapped on its way: the message of the root, the calls
/// that led to it, the message that was put around it, the calls that led there, and so on
/// outwards. `None` where no message stands above the first call.
fn wrapped(text: &str) -> Option<Vec<Exception<'_>>> {
    let mut chain: Vec<Exception<'_>> = vec![];
    let mut all = lines(text).peekable();
    while let Some(line) = all.next() {
        let call = all
            .peek()
            .and_then(|next| next.strip_prefix('\t'))
            .and_then(|place| frame(line, place));
        match (call, chain.last_mut()) {
            (Some(_), None) => return None,
            (Some(frame), Some(exception)) => {
                all.next();
                exception.frames.push(frame);
            }
            (None, _) if line.trim().is_empty() => {}
            (None, Some(exception)) if exception.frames.is_empty() => {
                let message = exception.message.to_mut();
                message.push('\n');
                message.push_str(line);
            }
            (None, _) => chain.push(Exception {
                message: Cow::Borrowed(line),
                relation: Relation::Cause,
                ..Exception::default()
            }),
        }
    }
    chain.reverse();
    // As the error says itself: each message in front of the one that it was put around.
    let whole: Vec<&str> = chain
        .iter()
        .flat_map(|exception| exception.message.lines().rev())
        .collect();
    let whole = whole.join(": ");
    if let Some(outermost) = chain.first_mut() {
        outermost.relation = Relation::Thrown;
        outermost.message = Cow::Owned(whole);
    }
    chain
        .iter()
        .any(|exception| !exception.frames.is_empty())
        .then_some(chain)
}

fn is_raising(frame: &Frame<'_>) -> bool {
    matches!(
        (frame.module.as_ref(), frame.function.as_ref()),
        ("debug", "Stack" | "PrintStack")
            | ("", "panic")
            | ("runtime", "gopanic" | "panicmem" | "sigpanic" | "goPanicIndex")
    )
}

/// `skerry.example/stowage/store.(*Lists).Load(0xc000…)` and `/src/store/lists.go:141 +0x1a5`.
fn frame<'a>(name: &'a str, place: &'a str) -> Option<Frame<'a>> {
    let place = place.before_mark(" +0x").trim();
    let (file, line) = place.rsplit_once(':')?;
    file.strip_suffix(".go").or_else(|| file.strip_suffix(".s"))?;
    // Arguments begin with the last bracket that is no receiver's.
    let name = match name.rfind('(') {
        Some(at) if name.ends_with(')') && !name.get(at..)?.starts_with("(*") => name.get(..at)?,
        _ => name,
    };
    let last = name.rsplit('/').next().unwrap_or(name);
    let (module, function) = last.split_once('.').unwrap_or(("", last));
    Some(Frame {
        function: bare(function),
        module: Cow::Borrowed(module),
        file: Cow::Borrowed(file),
        line: line.parse().ok(),
        own: is_own(file, name),
        repeats: 0,
    })
}

/// `(*Lists).Load.func1.2` is `Lists.Load`; type arguments and closures' numbers change from build to build.
fn bare(function: &str) -> Cow<'_, str> {
    let head = function.before_mark(".func");
    let head = head.strip_suffix("-fm").unwrap_or(head);
    if !head.contains(['(', '*', ')', '[']) {
        return Cow::Borrowed(head);
    }
    let without_types = match (head.find('['), head.rfind(']')) {
        (Some(open), Some(close)) if open < close => {
            format!(
                "{}{}",
                head.get(..open).unwrap_or_default(),
                head.get(close + 1..).unwrap_or_default()
            )
        }
        _ => head.to_owned(),
    };
    Cow::Owned(without_types.replace(['(', '*', ')'], ""))
}

/// Go's own tree, the module cache and vendored code are the library's; so is a path that names no
/// host (`net/http/…`, as `-trimpath` leaves the standard library's).
fn is_own(file: &str, name: &str) -> bool {
    static LIBRARIES: Parts = Parts::new(|| {
        anywhere(&[
            "/go/src/",
            "/pkg/mod/",
            "/vendor/",
            "/usr/local/go/",
            "/usr/lib/go",
            "/gocode/src/",
        ])
    });
    let is_trimmed_standard = !file.starts_with(['/', '.'])
        && !file.holds(":\\")
        && !name.split('/').next().unwrap_or_default().contains('.')
        && name.contains('/')
        || file.starts_with("runtime/");
    let is_versioned = file.holds("@v");
    !is_trimmed_standard && !is_versioned && !LIBRARIES.is_in(file) && !name.starts_with("runtime.")
}
