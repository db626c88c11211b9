//! What goes into a grouping key.

use serde::Serialize;

use crate::grouping::algorithm::PREVIOUS;
use crate::grouping::{codes, kind, template};
use crate::stack::{Exception, Frame, Stack, base_name};
use crate::{Digest, Hasher};

/// Own frames that take part per exception, from where it was thrown outwards. Enough to tell call paths apart, few
/// enough that a text cut off at a maximum depth keeps its key.
pub(super) const MAX_OWN_FRAMES: usize = 3;

/// Library frames that take part where there is no own frame: middleware further out changes with every upgrade.
pub(super) const MAX_LIBRARY_FRAMES: usize = 1;

/// Endings of JavaScript and of what is compiled to it.
pub(super) const SCRIPTS: &[&str] = &["js", "mjs", "cjs", "ts", "mts", "cts", "jsx", "tsx"];

/// Longest title in bytes.
pub(super) const MAX_TITLE_BYTES: usize = 200;

/// What is grouped.
#[derive(Clone, Copy, Debug)]
pub struct Subject<'a> {
    /// The exception's type; empty where unknown.
    pub type_name: &'a str,
    /// `exception.type` as sent, which may be a code (`23505`) rather than a type; empty where none was sent.
    pub sent_type: &'a str,
    /// Its message.
    pub message: &'a str,
    /// Its stack, where one was read.
    pub stack: Option<&'a Stack<'a>>,
}

/// Which part of an occurrence made the key.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum Tier {
    /// Frames of the service's own code.
    OwnFrames,
    /// Frames of libraries: no own frame was there.
    LibraryFrames,
    /// The message's template: no frame was there.
    Message,
}

/// The outcome of grouping one occurrence.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Grouping {
    /// Equal exactly when two occurrences of one service are one error.
    pub key: Digest,
    /// The key that the previous algorithm makes: an error known by it stays the same error.
    pub previous: Digest,
    /// Whether a rule of people made the key, whatever the algorithm.
    pub by_rule: bool,
    /// What made the key.
    pub tier: Tier,
    /// Type and message template, for people.
    pub title: String,
    /// The innermost own frame in one line, where there is one.
    pub own_frame: Option<String>,
}

/// Groups one occurrence. Cost is linear in the stack's and the message's length.
///
/// # Example: the line does not matter, the function does
/// ```
/// use outcrop_core::{grouping::{Subject, group}, stack};
/// let key = |function: &str, line: u32| {
///     let text = format!("Traceback (most recent call last):\n  File \"/srv/fares/tariff.py\", line {line}, in {function}\nKeyError: 'a'");
///     let stack = stack::read(&text).unwrap();
///     group(&Subject { type_name: "KeyError", sent_type: "", message: "'a'", stack: Some(&stack) }).key
/// };
/// assert_eq!(key("quote", 26), key("quote", 31));
/// assert_ne!(key("quote", 26), key("refund", 26));
/// ```
#[must_use]
pub fn group(subject: &Subject<'_>) -> Grouping {
    made(subject, Key::default()).0
}

/// Explains a grouping: the parts are those that [`group`] hashes, taken down as it does.
#[must_use]
pub fn explain(subject: &Subject<'_>) -> Explanation {
    let (grouping, counted) = made(
        subject,
        Key {
            noted: Some(vec![]),
            ..Key::default()
        },
    );
    Explanation {
        tier: grouping.tier,
        ignored: ignored(subject, grouping.tier, &counted),
        counted,
    }
}

/// What of a subject takes no part in its key.
pub(super) fn ignored(subject: &Subject<'_>, tier: Tier, counted: &[KeyPart]) -> Vec<String> {
    let mut ignored = vec![];
    let mut say = |count: usize, one: &str, many: &str, why: &str| {
        if count > 0 {
            ignored.push(format!("{count} {}: {why}", if count == 1 { one } else { many }));
        }
    };
    let frames = subject
        .stack
        .iter()
        .flat_map(|stack| &stack.exceptions)
        .flat_map(|exception| &exception.frames);
    let (own, library): (Vec<_>, Vec<_>) = frames.partition(|frame| frame.own);
    let frames_counted = counted.iter().filter(|part| part.kind == KeyPartKind::Frame).count();
    match tier {
        Tier::OwnFrames => {
            say(
                library.len(),
                "library frame",
                "library frames",
                "an upgrade or other middleware changes them",
            );
            let repeats = own.iter().map(|frame| frame.repeats as usize).sum();
            say(
                repeats,
                "repeated frame",
                "repeated frames",
                "the depth of a recursion says nothing",
            );
            let beyond = own.len().saturating_sub(frames_counted);
            say(
                beyond,
                "own frame",
                "own frames",
                "further out than the first three, or repeating the one before it",
            );
        }
        Tier::LibraryFrames => say(
            library.len().saturating_sub(frames_counted),
            "library frame",
            "library frames",
            "only the innermost tells the failure apart",
        ),
        Tier::Message => {}
    }
    say_of_all(&mut ignored, tier, counted);
    ignored
}

/// What takes no part in any key of a tier.
fn say_of_all(ignored: &mut Vec<String>, tier: Tier, counted: &[KeyPart]) {
    if tier != Tier::Message {
        ignored.push("lines, columns and the folders of files: they move with every version and deploy".to_owned());
        ignored.push(
            "numbers of lambdas, closures, proxies and generated code: they change from build to build".to_owned(),
        );
    }
    if counted.iter().all(|part| part.kind != KeyPartKind::Message) {
        ignored.push(
            "the message, save for codes in it: its values vary while the place of the failure is known".to_owned(),
        );
    } else {
        ignored.push(
            "values in the message: numbers, ids, times, quoted input and the like, written {n}, {id}, {time}, {text}"
                .to_owned(),
        );
    }
}

pub(super) fn made(subject: &Subject<'_>, mut key: Key) -> (Grouping, Vec<KeyPart>) {
    let template = template(subject.message);
    let own_frame = subject.stack.and_then(Stack::own_frame);
    let has_frames = subject.stack.is_some_and(|stack| stack.frame_count() > 0);
    let tier = match (own_frame, has_frames) {
        (Some(_), _) => Tier::OwnFrames,
        (None, true) => Tier::LibraryFrames,
        (None, false) => Tier::Message,
    };
    match (tier, subject.stack) {
        (Tier::OwnFrames, Some(stack)) => own_frames(&mut key, stack, subject),
        (Tier::LibraryFrames, Some(stack)) => library_frames(&mut key, stack, subject, &template),
        _ => {
            key.part(KeyPartKind::Structure, "message");
            key.part(KeyPartKind::Type, kind::bare_type(subject.type_name));
            key.either(
                KeyPartKind::Message,
                &template,
                &template::by(subject.message, PREVIOUS),
            );
        }
    }
    let grouping = Grouping {
        key: key.current.finish(),
        previous: key.previous.finish(),
        by_rule: false,
        tier,
        title: title(subject, &template),
        own_frame: own_frame.map(Frame::short),
    };
    (grouping, key.noted.unwrap_or_default())
}

/// Whether the chain has a named own frame anywhere, without which the message must help to tell defects apart.
pub(super) fn has_named_own_frame(stack: &Stack<'_>) -> bool {
    stack
        .exceptions
        .iter()
        .flat_map(|exception| &exception.frames)
        .any(|frame| frame.own && !frame.function.is_empty())
}

/// The key in the making, and the previous algorithm's beside it; what goes into the first is noted
/// where somebody asks.
#[derive(Default)]
pub(super) struct Key {
    pub(super) current: Hasher,
    pub(super) previous: Hasher,
    pub(super) noted: Option<Vec<KeyPart>>,
}

impl Key {
    /// A part that both algorithms see alike.
    pub(super) fn part(&mut self, kind: KeyPartKind, part: &str) {
        self.part_of(kind, &[part]);
    }

    /// One part that is in pieces.
    pub(super) fn part_of(&mut self, kind: KeyPartKind, pieces: &[&str]) {
        self.current.part_of(pieces);
        self.previous.part_of(pieces);
        self.note(kind, pieces);
    }

    /// A part that only the current algorithm sees, in pieces.
    pub(super) fn current_of(&mut self, kind: KeyPartKind, pieces: &[&str]) {
        self.current.part_of(pieces);
        self.note(kind, pieces);
    }

    /// A part that the algorithms see differently.
    pub(super) fn either(&mut self, kind: KeyPartKind, current: &str, previous: &str) {
        self.current.part(current.as_bytes());
        self.previous.part(previous.as_bytes());
        self.note(kind, &[current]);
    }

    pub(super) fn note(&mut self, kind: KeyPartKind, pieces: &[&str]) {
        if let Some(noted) = &mut self.noted {
            noted.push(KeyPart {
                kind,
                text: pieces.concat(),
            });
        }
    }
}

/// Something that went into a key.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct KeyPart {
    /// What it is.
    pub kind: KeyPartKind,
    /// As it went in.
    pub text: String,
}

/// What a part of a key is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum KeyPartKind {
    /// The tier, or how an exception belongs to the one before it.
    Structure,
    /// The exception's type, or what stands in for one.
    Type,
    /// A frame's name.
    Frame,
    /// A code that means something.
    Code,
    /// The message's template.
    Message,
}

/// Why an occurrence is in its error: what counted and what did not.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Explanation {
    /// What made the key.
    pub tier: Tier,
    /// All that went into the key, in order.
    pub counted: Vec<KeyPart>,
    /// What was left out, and why.
    pub ignored: Vec<String>,
}

pub(super) fn own_frames(key: &mut Key, stack: &Stack<'_>, subject: &Subject<'_>) {
    key.part(KeyPartKind::Structure, "own");
    for (at, exception) in distinct(stack).enumerate() {
        let said = Said::of(exception, subject, at == 0);
        let relation = match exception.relation {
            crate::stack::Relation::Member => "member",
            crate::stack::Relation::Thrown => "thrown",
            crate::stack::Relation::Cause | crate::stack::Relation::Handled => "cause",
        };
        key.part(KeyPartKind::Structure, relation);
        said.add_kind(key);
        let own = || exception.frames.iter().filter(|frame| frame.own);
        for name in names_before(own()).take(MAX_OWN_FRAMES) {
            key.previous.part_of(&name.pieces());
        }
        // Functions without a name take no place from those that have one.
        let mut named = 0;
        for name in names(own()) {
            if named == MAX_OWN_FRAMES {
                break;
            }
            named += usize::from(!name.function.is_empty());
            key.current_of(KeyPartKind::Frame, &name.pieces());
        }
        said.add_codes(key);
    }
    if let Some(code) = codes::in_type(subject.sent_type) {
        key.part(KeyPartKind::Code, code);
    }
    if !has_named_own_frame(stack) {
        // Anonymous code at the top of a file: only the message tells its places apart.
        let said = Said::of(stack.top(), subject, true);
        key.either(
            KeyPartKind::Message,
            &template(said.message),
            &template::by(said.message, PREVIOUS),
        );
    }
}

/// Type and message of an exception: as its text states them, else, for the outermost one, as they were sent.
pub(super) struct Said<'a> {
    pub(super) type_name: &'a str,
    pub(super) message: &'a str,
}

impl<'a> Said<'a> {
    pub(super) fn of(exception: &'a Exception<'_>, subject: &Subject<'a>, is_top: bool) -> Self {
        let or_sent = |stated: &'a str, sent: &'a str| if stated.is_empty() && is_top { sent } else { stated };
        Self {
            type_name: or_sent(&exception.type_name, subject.type_name),
            message: or_sent(&exception.message, subject.message),
        }
    }

    pub(super) fn add_kind(&self, key: &mut Key) {
        key.part(KeyPartKind::Type, &kind::of(self.type_name, self.message));
    }

    pub(super) fn add_codes(&self, key: &mut Key) {
        for code in codes::by(self.message, PREVIOUS) {
            key.previous.part(code.as_bytes());
        }
        // A term can stand in the type's place: `error:{status,404}`.
        let in_type = if self.type_name.contains(['{', '(']) {
            codes::in_message(self.type_name)
        } else {
            vec![]
        };
        for code in in_type.into_iter().chain(codes::in_message(self.message)) {
            key.current_of(KeyPartKind::Code, &[&code]);
        }
    }
}

pub(super) fn library_frames(key: &mut Key, stack: &Stack<'_>, subject: &Subject<'_>, template: &str) {
    key.part(KeyPartKind::Structure, "library");
    for (at, exception) in distinct(stack).enumerate() {
        Said::of(exception, subject, at == 0).add_kind(key);
        for name in names(exception.frames.iter()).take(MAX_LIBRARY_FRAMES) {
            key.current_of(KeyPartKind::Frame, &name.pieces());
        }
        for name in names_before(exception.frames.iter()).take(MAX_LIBRARY_FRAMES) {
            key.previous.part_of(&name.pieces());
        }
    }
    key.either(KeyPartKind::Message, template, &template::by(subject.message, PREVIOUS));
}

/// The exceptions of a stack; equal members of a group count once.
pub(super) fn distinct<'a>(stack: &'a Stack<'a>) -> impl Iterator<Item = &'a Exception<'a>> {
    let is_same = |a: &Exception<'_>, b: &Exception<'_>| {
        a.relation == b.relation
            && a.type_name == b.type_name
            && names(a.frames.iter().filter(|f| f.own)).eq(names(b.frames.iter().filter(|f| f.own)))
    };
    stack
        .exceptions
        .iter()
        .enumerate()
        .filter(move |(at, exception)| {
            exception.relation != crate::stack::Relation::Member
                || !stack.exceptions[..*at]
                    .iter()
                    .any(|earlier| is_same(earlier, exception))
        })
        .map(|(_, exception)| exception)
}

/// Names of frames for a key, with those that repeat in a row (recursion) taken once.
pub(super) fn names<'a>(frames: impl Iterator<Item = &'a Frame<'a>>) -> impl Iterator<Item = Name<'a>> {
    let mut last = None;
    frames
        .map(Name::of)
        .filter(move |name| last.replace(*name) != Some(*name))
}

/// The same, as the previous algorithm named frames.
pub(super) fn names_before<'a>(frames: impl Iterator<Item = &'a Frame<'a>>) -> impl Iterator<Item = Name<'a>> {
    let mut last = None;
    frames
        .map(Name::before)
        .filter(move |name| last.replace(*name) != Some(*name))
}

/// A frame's name without what changes: the path down to the file's own name, lambdas' and comprehensions' names.
#[derive(Clone, Copy, PartialEq)]
pub(super) struct Name<'a> {
    pub(super) place: &'a str,
    /// Empty where it has no name of its own.
    pub(super) function: &'a str,
}

impl<'a> Name<'a> {
    /// One module is known by the same name whether its source or what was compiled from it is
    /// named: `rates.ts`, `rates.js`.
    pub(super) fn of(frame: &'a Frame<'a>) -> Self {
        let name = Self::before(frame);
        let bare = name
            .place
            .rsplit_once('.')
            .filter(|(stem, ending)| !stem.is_empty() && SCRIPTS.contains(ending));
        Self {
            place: bare.map_or(name.place, |(stem, _)| stem),
            ..name
        }
    }

    pub(super) fn before(frame: &'a Frame<'a>) -> Self {
        let function = frame.function.as_ref();
        let is_unnamed = function.is_empty() || function.starts_with('<');
        let place = if frame.module.is_empty() {
            base_name(&frame.file)
        } else {
            frame.module.as_ref()
        };
        Self {
            place,
            function: if is_unnamed { "" } else { function },
        }
    }

    /// What is hashed, in pieces.
    pub(super) fn pieces(self) -> [&'a str; 3] {
        [
            self.place,
            if self.function.is_empty() { "" } else { ":" },
            self.function,
        ]
    }
}

pub(super) fn title(subject: &Subject<'_>, template: &str) -> String {
    let first_line = template.lines().next().unwrap_or_default().trim();
    let mut title = match (subject.type_name, first_line) {
        ("", "") => "(no type, no message)".to_owned(),
        ("", message) => message.to_owned(),
        (type_name, "") => type_name.to_owned(),
        (type_name, message) => format!("{type_name}: {message}"),
    };
    crate::text::cut(&mut title, MAX_TITLE_BYTES);
    title
}
