//! What of an error is compared where its code may have moved.

use serde::{Deserialize, Serialize};

use crate::grouping::{Subject, codes, kind, template};
use crate::stack::{Frame, Relation, base_name};

/// Exceptions of a chain that are compared: a chain has rarely more.
const MAX_EXCEPTIONS: usize = 6;
/// Own frames compared per exception: beyond, what dispatches requests is the same for every error.
const MAX_SPOTS: usize = 12;
/// Frames that V8 takes down where nobody asks for more (`Error.stackTraceLimit`).
const V8_LIMIT: usize = 10;
/// Longest name of a class that may be a minifier's: another in every build.
const MINIFIED: usize = 2;
/// Longest part of a shape in bytes, so that one stays below a few kilobytes whatever is sent.
const MAX_TEXT: usize = 200;

/// An error's place in the code, as far as a refactoring leaves it alone: its chain of exceptions
/// with their own frames, and the message's template. Small, since one is kept for every cause.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Shape {
    /// The exceptions, as in the stack.
    pub exceptions: Vec<Link>,
    /// The template of the message.
    pub message: String,
}

/// One exception of a shape.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Link {
    /// How it belongs to the one before it.
    pub relation: Relation,
    /// Its type, or what stands for one.
    #[serde(rename = "type")]
    pub type_name: String,
    /// Codes of its message that mean something.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub codes: Vec<String>,
    /// Its own frames, the innermost first.
    pub spots: Vec<Spot>,
    /// Whether there were more further out that are not known.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub is_cut: bool,
}

/// An own frame, apart from its line.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
pub struct Spot {
    /// The file or module, and the class where the function's name holds one.
    pub place: String,
    /// The function's own name; empty where it has none.
    pub function: String,
}

impl Shape {
    /// The shape of what is grouped; `None` where no own frame says where in the code it failed.
    #[must_use]
    pub fn of(subject: &Subject<'_>) -> Option<Self> {
        let stack = subject.stack?;
        let links = stack
            .exceptions
            .iter()
            .take(MAX_EXCEPTIONS)
            .enumerate()
            .map(|(at, exception)| {
                let or_sent = |stated: &'_ str, sent: &str| {
                    if stated.is_empty() && at == 0 {
                        sent.to_owned()
                    } else {
                        stated.to_owned()
                    }
                };
                let (type_name, message) = (
                    or_sent(&exception.type_name, subject.type_name),
                    or_sent(&exception.message, subject.message),
                );
                let mut spots: Vec<Spot> = Vec::new();
                for frame in exception.frames.iter().filter(|frame| frame.own) {
                    let spot = Spot::of(frame);
                    if spots.last() != Some(&spot) {
                        spots.push(spot);
                    }
                }
                let is_cut = spots.len() > MAX_SPOTS || exception.frames.len() == V8_LIMIT && stack.runtime == "nodejs";
                spots.truncate(MAX_SPOTS);
                Link {
                    relation: exception.relation,
                    type_name: cut(&kind::of(&type_name, &message)),
                    codes: codes::in_message(&message).iter().map(|code| cut(code)).collect(),
                    spots,
                    is_cut,
                }
            });
        let shape = Self {
            exceptions: links.collect(),
            message: cut(&template(subject.message)),
        };
        let is_placed = shape.spots().next().is_some();
        is_placed.then_some(shape)
    }

    /// All own frames of the chain.
    pub fn spots(&self) -> impl Iterator<Item = &Spot> {
        self.exceptions.iter().flat_map(|link| &link.spots)
    }
}

impl Spot {
    fn of(frame: &Frame<'_>) -> Self {
        let full = frame.function.as_ref();
        let is_unnamed = full.is_empty() || full.starts_with('<');
        let full = if is_unnamed { "" } else { full };
        let cut_at = ["::", ".", "#", "/"]
            .iter()
            .filter_map(|mark| full.rfind(mark).map(|at| at + mark.len()))
            .max()
            .unwrap_or(0);
        let (scope, function) = full.split_at_checked(cut_at).unwrap_or(("", full));
        let place = if frame.module.is_empty() {
            base_name(&frame.file)
        } else {
            frame.module.as_ref()
        };
        // Clojure's functions are classes, each with methods of the same names.
        if let ("invoke" | "invokeStatic" | "doInvoke", Some((file, function))) = (function, place.split_once('$')) {
            return Self {
                place: cut(file),
                function: cut(function),
            };
        }
        let scope = scope.trim_end_matches([':', '.', '#', '/']);
        let scope = if scope.len() <= MINIFIED { "" } else { scope };
        let place = if scope.is_empty() {
            place.to_owned()
        } else {
            format!("{place} {scope}")
        };
        Self {
            place: cut(&place),
            function: cut(function),
        }
    }
}

impl std::fmt::Display for Spot {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let place = self.place.rsplit(' ').next().unwrap_or_default();
        match (place, self.function.as_str()) {
            (place, "") => f.write_str(place),
            ("", function) => f.write_str(function),
            (place, function) => write!(f, "{place}: {function}"),
        }
    }
}

fn cut(text: &str) -> String {
    crate::text::prefix(text, MAX_TEXT).to_owned()
}
