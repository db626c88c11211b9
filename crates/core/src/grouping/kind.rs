//! What kind of exception it is: its type, or what stands in for a type in runtimes whose exceptions have none.

use std::borrow::Cow;

use crate::stack::erlang_reason;

/// Words of a message that take part where there is no type: few, since names and values follow.
const MAX_WORDS: usize = 3;

/// The type without its module; without a type, how the message begins.
pub(super) fn of<'a>(type_name: &'a str, message: &'a str) -> Cow<'a, str> {
    match type_name.split_once(':') {
        // Erlang: the class and the reason's first atom; the rest of the reason is data.
        Some((class @ ("error" | "exit" | "throw"), reason)) if !reason.starts_with(':') => {
            erlang_reason(class, reason)
        }
        _ if type_name.is_empty() || matches!(type_name, "error" | "exit" | "throw") => Cow::Owned(beginning(message)),
        _ => Cow::Borrowed(bare_type(type_name)),
    }
}

/// The type without its module: SDKs disagree on whether to send it.
pub(super) fn bare_type(type_name: &str) -> &str {
    type_name.rsplit(['.', '\\']).next().unwrap_or(type_name)
}

/// The first words of a message, as far as they are plain words: what the code says itself, before the first value.
fn beginning(message: &str) -> String {
    // How runtimes begin what they say themselves, in languages whose sentences begin with a capital.
    const FIRST: &[&str] = &[
        "Illegal",
        "Can't",
        "Cannot",
        "Could",
        "Not",
        "No",
        "Use",
        "Undefined",
        "Modification",
        "Deep",
        "Out",
        "RefCell",
        "Division",
        "Unable",
    ];
    let message = message.strip_prefix("runtime error: ").unwrap_or(message);
    let mut words = vec![];
    for (at, word) in message.split_whitespace().take(MAX_WORDS).enumerate() {
        let bare = word.trim_end_matches([':', ',', '.']);
        let is_plain = !bare.is_empty() && bare.bytes().all(|b| b.is_ascii_lowercase() || b == b'\'');
        // `Option::unwrap()` in quotes of code is a function of the language, not a value.
        let is_call = bare.starts_with('`') && bare.ends_with("()`");
        let is_first = at == 0 && FIRST.contains(&bare);
        if !(is_plain || is_call || is_first) {
            break;
        }
        words.push(bare);
        if bare.len() < word.len() {
            break;
        }
    }
    words.join(" ")
}
