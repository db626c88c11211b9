//! JavaScript of engines that write `name@place:line:column`: `SpiderMonkey` and `JavaScriptCore`,
//! in workers and server runtimes.

use std::borrow::Cow;

use super::search::{Search, lines};
use super::{Dialect, Exception, Frame};

pub(super) struct Gecko;

impl Dialect for Gecko {
    fn runtime(&self) -> &'static str {
        "javascript"
    }

    fn read<'a>(&self, text: &'a str) -> Option<Vec<Exception<'a>>> {
        if !text.contains('@') {
            return None;
        }
        let mut exception = Exception::default();
        for line in lines(text) {
            let content = line.trim();
            if let Some(frame) = frame(content) {
                exception.frames.push(frame);
            } else if exception.frames.is_empty() && !content.is_empty() {
                let (name, message) = content.split_at_mark(": ").unwrap_or(("", content));
                let is_type = !name.is_empty()
                    && name
                        .bytes()
                        .all(|b| b.is_ascii_alphanumeric() || matches!(b, b'_' | b'.' | b'$'));
                if exception.type_name.is_empty() && exception.message.is_empty() {
                    exception.type_name = Cow::Borrowed(if is_type { name } else { "" });
                    exception.message = Cow::Borrowed(if is_type { message } else { content });
                }
            }
        }
        (!exception.frames.is_empty()).then(|| vec![exception])
    }
}

/// `quote@https://fares.skerry.example/app.js:12:34`, `@app.js:3:1`, `map@[native code]`.
fn frame(content: &str) -> Option<Frame<'_>> {
    let (name, place) = content.split_once('@')?;
    if name.contains([' ', '(']) && !name.starts_with("async") {
        return None;
    }
    // `async*load`, `load/<`, `prototype.load`: what holds the function.
    let name = name.rsplit('*').next().unwrap_or(name).trim_start_matches("async ");
    let name = name.split('/').next().unwrap_or(name);
    if place == "[native code]" {
        return Some(Frame {
            function: Cow::Borrowed(name),
            ..Frame::default()
        });
    }
    let (rest, column) = place.rsplit_once(':')?;
    let (file, line) = rest.rsplit_once(':')?;
    let is_number = |text: &str| !text.is_empty() && text.bytes().all(|b| b.is_ascii_digit());
    if !is_number(column) || !is_number(line) {
        return None;
    }
    let file = file.split('?').next().unwrap_or(file);
    let own = !file.holds("/node_modules/") && !file.starts_with("resource:") && !file.starts_with("node:");
    Some(Frame {
        function: Cow::Borrowed(name),
        module: Cow::Borrowed(""),
        file: Cow::Borrowed(file),
        line: line.parse().ok(),
        own,
        repeats: 0,
    })
}
