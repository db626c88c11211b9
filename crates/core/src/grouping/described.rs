//! What a report says of a failure: its type, message and stack, read.

use std::borrow::Cow;

use super::{Explanation, Grouping, Subject, explain, group};
use crate::stack;
use crate::stack::Stack;

/// What a sender said of an exception, with its stack read and the contradictions between type, message and stack
/// settled.
#[derive(Clone, Debug)]
pub struct Described<'a> {
    /// The type: as the stack text states it, else as sent.
    pub type_name: Cow<'a, str>,
    /// `exception.type` as sent.
    pub sent_type: &'a str,
    /// The message: as sent, else as the stack text states it.
    pub message: Cow<'a, str>,
    /// The stack, where its runtime is known.
    pub stack: Option<Stack<'a>>,
}

impl<'a> Described<'a> {
    /// Reads what was sent; each part may be empty.
    #[must_use]
    pub fn new(sent_type: &'a str, sent_message: &'a str, stacktrace: &'a str) -> Self {
        let stack = stack::read(stacktrace);
        let top = stack.as_ref().map(Stack::top);
        let stated = |text: &Cow<'a, str>| if text.is_empty() { None } else { Some(text.clone()) };
        // One SDK sends the error's code as its type, another the bare class: only the text is the
        // same for all reports.
        let type_name = top
            .and_then(|top| stated(&top.type_name))
            .unwrap_or_else(|| Cow::Borrowed(sent_type.strip_prefix("__main__.").unwrap_or(sent_type)));
        let message = match top {
            Some(top) if sent_message.is_empty() => top.message.clone(),
            None if sent_message.is_empty() => Cow::Borrowed(first_line(stacktrace)),
            _ => Cow::Borrowed(sent_message),
        };
        Self {
            type_name,
            sent_type,
            message,
            stack,
        }
    }

    /// What was sent, from what was kept of it: the type as shown, `exception.type` where it was
    /// another, the stack as read.
    #[must_use]
    pub fn again(type_name: &'a str, sent_type: Option<&'a str>, message: &'a str, stack: Option<Stack<'a>>) -> Self {
        let sent_type = sent_type.unwrap_or(type_name);
        Self {
            type_name: type_name.into(),
            sent_type,
            message: message.into(),
            stack,
        }
    }

    /// The message as every report of this exception states it: the stack text's own, else as sent.
    #[must_use]
    pub fn stated_message(&self) -> &str {
        match &self.stack {
            Some(stack) if !stack.top().message.is_empty() => &stack.top().message,
            _ => &self.message,
        }
    }

    /// Groups it.
    #[must_use]
    pub fn group(&self) -> Grouping {
        group(&self.subject())
    }

    /// Says why it is grouped so.
    #[must_use]
    pub fn explain(&self) -> Explanation {
        explain(&self.subject())
    }

    /// What is grouped.
    #[must_use]
    pub fn subject(&self) -> Subject<'_> {
        Subject {
            type_name: &self.type_name,
            sent_type: self.sent_type,
            message: self.stated_message(),
            stack: self.stack.as_ref(),
        }
    }
}

/// The first line of an unread stack text that says something, for a report with no message.
fn first_line(stacktrace: &str) -> &str {
    stacktrace
        .lines()
        .map(str::trim)
        .find(|line| !line.is_empty())
        .unwrap_or_default()
}
