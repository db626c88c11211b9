//! Edits that teams make between two versions, done to stacks that were read: what a refactoring
//! does to an error's frames.

use std::borrow::Cow;
use std::collections::HashMap;
use std::hash::{DefaultHasher, Hash, Hasher};

use outcrop_core::stack::{Exception, Frame, Stack};
use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng;

/// One edit.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Edit {
    /// Nothing was done to this error's code.
    None,
    /// A function of its own was put around one of the three innermost frames, or what is thrown was put into one.
    Helper,
    /// A function was made part of its caller.
    Inlined,
    /// A file, class or module got another name.
    FileRenamed,
    /// A function went to another file, class or module.
    FunctionMoved,
    /// A function got another name.
    FunctionRenamed,
}

impl Edit {
    /// Every edit.
    pub const ALL: [Self; 6] = [
        Self::None,
        Self::Helper,
        Self::Inlined,
        Self::FileRenamed,
        Self::FunctionMoved,
        Self::FunctionRenamed,
    ];
}

/// The edits of one version of all services.
pub struct Refactoring {
    seed: u64,
    renamed: HashMap<(String, String), String>,
}

impl Refactoring {
    /// Draws the edits of a version.
    #[must_use]
    pub fn new(seed: u64) -> Self {
        Self {
            seed,
            renamed: HashMap::new(),
        }
    }

    fn chance(&self, parts: impl Hash) -> ChaCha8Rng {
        let mut hasher = DefaultHasher::new();
        (self.seed, parts).hash(&mut hasher);
        ChaCha8Rng::seed_from_u64(hasher.finish())
    }

    /// What is done to the code of a defect.
    #[must_use]
    pub fn edit(&self, service: &str, defect: &str) -> Edit {
        Edit::ALL[self.chance((service, defect)).random_range(0..Edit::ALL.len())]
    }

    /// Which of six lots a defect has drawn.
    #[must_use]
    pub fn lot(&self, service: &str, defect: &str) -> u8 {
        self.chance((service, defect, "lot")).random_range(0..6)
    }

    /// A stack of a defect as the version after the edit prints it; as it was where the edit has nothing to work on.
    pub fn edited(&mut self, service: &str, defect: &str, stack: &Stack<'_>) -> Stack<'static> {
        let mut chance = self.chance((service, defect, "how"));
        let (pick, other, shared) = (
            chance.random_range(0..3_usize),
            chance.random_range(0..1_000_u32),
            chance.random_bool(0.3),
        );
        let mut edited = stack.clone().into_owned();
        let edit = self.edit(service, defect);
        let Some(exception) = edited
            .exceptions
            .iter_mut()
            .find(|exception| exception.frames.iter().any(|frame| frame.own))
        else {
            return edited;
        };
        let own: Vec<usize> = exception
            .frames
            .iter()
            .enumerate()
            .filter(|(_, frame)| frame.own)
            .map(|(at, _)| at)
            .collect();
        let at = own[pick.min(own.len() - 1)];
        match edit {
            Edit::None => {}
            Edit::Inlined => {
                if own.len() > 1 {
                    exception.frames.remove(at);
                }
            }
            Edit::Helper => {
                let name = if shared {
                    "timed".to_owned()
                } else {
                    format!("settled_{other}")
                };
                let frame = helper(&exception.frames[at], &name, shared);
                exception.frames.insert(at, frame);
            }
            Edit::FunctionMoved => elsewhere(&mut exception.frames[at], &format!("moved{other}")),
            Edit::FunctionRenamed => {
                let (scope, function) = named(&exception.frames[at].function);
                if !function.is_empty() {
                    exception.frames[at].function = Cow::Owned(format!("{scope}renamed_{function}"));
                }
            }
            Edit::FileRenamed => {
                let place = place(&exception.frames[at]);
                let name = self
                    .renamed
                    .entry((service.to_owned(), place))
                    .or_insert_with(|| format!("renamed{other}"));
                let name = name.clone();
                rename(exception, at, &name);
            }
        }
        edited
    }
}

fn place(frame: &Frame<'_>) -> String {
    if frame.module.is_empty() {
        frame.file.to_string()
    } else {
        frame.module.to_string()
    }
}

fn rename(exception: &mut Exception<'static>, at: usize, name: &str) {
    let renamed = place(&exception.frames[at]);
    for frame in exception
        .frames
        .iter_mut()
        .filter(|frame| frame.own && place(frame) == renamed)
    {
        elsewhere(frame, name);
    }
}

/// The function's name apart from its scope.
fn named(function: &str) -> (&str, &str) {
    let at = ["::", ".", "#", "/"]
        .iter()
        .filter_map(|mark| function.rfind(mark).map(|at| at + mark.len()))
        .max()
        .unwrap_or(0);
    function.split_at(at)
}

fn elsewhere(frame: &mut Frame<'static>, name: &str) {
    if !frame.module.is_empty() {
        let folder = before_last(&frame.module, &['.', '\\', '/']);
        frame.module = Cow::Owned(format!("{folder}{name}"));
    }
    if !frame.file.is_empty() {
        let folder = before_last(&frame.file, &['/', '\\']);
        let ending = frame
            .file
            .strip_prefix(folder)
            .and_then(|file| file.rsplit_once('.'))
            .map_or("", |(_, ending)| ending);
        let dot = if ending.is_empty() { "" } else { "." };
        frame.file = Cow::Owned(format!("{folder}{name}{dot}{ending}"));
    }
}

/// What stands before the last part of a name, the sign between them included.
fn before_last<'a>(text: &'a str, signs: &[char]) -> &'a str {
    text.rfind(signs).and_then(|at| text.get(..=at)).unwrap_or("")
}

fn helper(beside: &Frame<'static>, name: &str, is_shared: bool) -> Frame<'static> {
    let (scope, _) = named(&beside.function);
    let mut frame = Frame {
        function: Cow::Owned(format!("{scope}{name}")),
        repeats: 0,
        ..beside.clone()
    };
    if is_shared {
        elsewhere(&mut frame, "watch");
    }
    frame
}
