//! What a question is.

use crate::Timestamp;
use crate::query::{Field, Predicate};

/// Most measures of a question.
pub const MAX_MEASURES: usize = 8;
/// Most fields that a question groups by.
pub const MAX_GROUPS: usize = 4;
/// Most groups that are shown: the others are one row.
pub const MAX_TOP: u32 = 200;
/// Groups shown where a question does not say how many.
pub const TOP: u32 = 20;
/// The window of a question that names none, in milliseconds: 24 hours.
pub const WINDOW_MS: i64 = 86_400_000;
/// Most steps of a question over time.
pub const MAX_STEPS: i64 = 750;
/// Most groups times steps of a question over time: what a chart and a table can show, in an answer of some megabytes.
pub const MAX_POINTS: i64 = 40_000;

/// A question: what to count of which records, by which fields, over which time.
#[derive(Clone, Debug, PartialEq)]
pub struct Question {
    /// What is measured, in the order of the columns; 1 to [`MAX_MEASURES`].
    pub measures: Vec<Measure>,
    /// The records that are looked at.
    pub source: Source,
    /// The fields that they are grouped by; [`MAX_GROUPS`] at most.
    pub by: Vec<Group>,
    /// The records that alone count.
    pub matching: Option<Matching>,
    /// The step over time, in milliseconds.
    pub each: Option<i64>,
    /// How many groups are shown.
    pub top: Option<u32>,
    /// The measure or group that the rows are ordered by.
    pub order: Option<Order>,
    /// The time that is looked at; the last 24 hours where `None`.
    pub window: Option<Window>,
    /// The period that it is compared with.
    pub against: Option<Against>,
}

/// A predicate with the text that it was read from.
#[derive(Clone, Debug, PartialEq)]
pub struct Matching {
    /// The text, as it was written.
    pub text: String,
    /// What it says.
    pub predicate: Predicate,
}

/// The records of a question.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Source {
    /// Failures, each counted once.
    Occurrences,
    /// Log records.
    Lines,
    /// Requests and runs: what services were asked for, failed or not.
    Requests,
}

impl Source {
    /// All of them.
    pub const ALL: [Self; 3] = [Self::Occurrences, Self::Requests, Self::Lines];

    /// The word for it.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Occurrences => "occurrences",
            Self::Lines => "lines",
            Self::Requests => "requests",
        }
    }

    /// Whether its records have a field.
    ///
    /// # Example
    /// ```
    /// use outcrop_core::query::Field;
    /// use outcrop_core::question::Source;
    /// assert!(Source::Occurrences.has(&Field::Endpoint) && !Source::Lines.has(&Field::Endpoint));
    /// ```
    #[must_use]
    pub const fn has(self, field: &Field) -> bool {
        match self {
            Self::Occurrences => true,
            Self::Lines => field.is_of_line(),
            Self::Requests => field.is_of_request(),
        }
    }

    /// The names of its fields that records can be grouped by and measured of, without attributes.
    pub fn fields(self) -> impl Iterator<Item = &'static str> {
        Field::names()
            .filter(move |name| {
                let field = Field::of(name);
                self.has(&field) && Group::takes(&field) && !matches!(field, Field::Attribute(_))
            })
            .chain(
                (self == Self::Lines)
                    .then_some(["template", "number_1"])
                    .into_iter()
                    .flatten(),
            )
    }
}

/// A measure of a group of records.
#[derive(Clone, Debug, PartialEq)]
pub enum Measure {
    /// How many there are.
    Count,
    /// How many of them failed; of requests alone.
    Failed,
    /// Which share of them failed, 0 to 1; of requests alone.
    Share,
    /// How many values of a field they have.
    Distinct(Field),
    /// The sum of a number.
    Sum(Field),
    /// The mean of a number.
    Mean(Field),
    /// The least value of a number.
    Least(Field),
    /// The greatest value of a number.
    Most(Field),
    /// A percentile of a number, in tenths of a percent: 950 for the 95th.
    Percentile(u16, Field),
    /// When the first of them was.
    First,
    /// When the last of them was.
    Last,
    /// The value of a field in the last of them that has it.
    Latest(Field),
}

/// Measures of distinct values that have a word of their own.
pub(super) const DISTINCT: [(&str, Field); 3] = [
    ("users", Field::User),
    ("errors", Field::Error),
    ("services", Field::Service),
];

impl Measure {
    /// The field that it looks at.
    #[must_use]
    pub const fn field(&self) -> Option<&Field> {
        match self {
            Self::Distinct(field)
            | Self::Sum(field)
            | Self::Mean(field)
            | Self::Least(field)
            | Self::Most(field)
            | Self::Percentile(_, field)
            | Self::Latest(field) => Some(field),
            Self::Count | Self::Failed | Self::Share | Self::First | Self::Last => None,
        }
    }
}

/// What records are grouped by.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Group {
    /// The value of a field.
    Field(Field),
    /// The hour of the day, 0 to 23, in UTC.
    HourOfDay,
    /// The day of the week, in UTC.
    DayOfWeek,
}

impl Group {
    /// Whether records can be grouped by a field: states, counts of errors and slices are none of an occurrence's.
    pub(super) fn takes(field: &Field) -> bool {
        !matches!(
            field,
            Field::Count
                | Field::Users
                | Field::Attention
                | Field::FirstSeen
                | Field::LastSeen
                | Field::FirstVersion
                | Field::TakenBy
                | Field::Slice
                | Field::State(_)
        )
    }
}

/// What rows are ordered by.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Order {
    /// The column.
    pub column: Column,
    /// The least first.
    pub up: bool,
}

/// A column of an answer, counted from 0.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Column {
    /// Of what it is grouped by.
    Group(usize),
    /// Of the measures.
    Measure(usize),
}

/// The time that a question looks at.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Window {
    /// The last milliseconds.
    Last(i64),
    /// From a time up to another one, excluded.
    Fixed(Timestamp, Timestamp),
}

/// The period that a question's window is compared with.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Against {
    /// As long, just before.
    Before,
    /// The same, so many milliseconds earlier.
    Earlier(i64),
}

impl Question {
    /// The window at a time: from, and to, excluded. Where it ends now and has steps, it begins with a whole one.
    #[must_use]
    pub fn window_at(&self, now: Timestamp) -> (Timestamp, Timestamp) {
        match self.window {
            None => self.from_a_whole_step((now.plus_millis(-WINDOW_MS), now)),
            Some(Window::Last(millis)) => self.from_a_whole_step((now.plus_millis(-millis), now)),
            Some(Window::Fixed(from, to)) => (from, to),
        }
    }

    /// A window that begins with a whole step, counted from midnight UTC as far as steps divide a day: so the same time
    /// lies in the same step whenever it is asked for.
    ///
    /// # Example
    /// ```
    /// use outcrop_core::Timestamp;
    /// use outcrop_core::question::read;
    /// let hourly = read("count of occurrences each 1h over 2h").unwrap();
    /// let now = Timestamp(7_200_000_000_000 + 60_000_000_000);
    /// assert_eq!(hourly.window_at(now).0, Timestamp(0));
    /// ```
    #[must_use]
    pub fn from_a_whole_step(&self, (from, to): (Timestamp, Timestamp)) -> (Timestamp, Timestamp) {
        let beyond = self.each.map_or(0, |step| from.0.rem_euclid(step.max(1) * 1_000_000));
        (Timestamp(from.0 - beyond), to)
    }

    /// The period that a window is compared with.
    #[must_use]
    pub fn against_at(&self, (from, to): (Timestamp, Timestamp)) -> Option<(Timestamp, Timestamp)> {
        let back = match self.against? {
            Against::Before => to.millis() - from.millis(),
            Against::Earlier(millis) => millis,
        };
        Some((from.plus_millis(-back), to.plus_millis(-back)))
    }

    /// How many groups are shown.
    #[must_use]
    pub fn shown(&self) -> u32 {
        if self.by.is_empty() { 1 } else { self.top.unwrap_or(TOP) }
    }

    /// What the rows are ordered by: as asked, else by the first measure, the greatest first.
    #[must_use]
    pub fn ordered(&self) -> Order {
        self.order.unwrap_or(Order {
            column: Column::Measure(0),
            up: false,
        })
    }

    /// Why the question is not answered over a window: it has too many steps, or too many groups for its steps.
    #[must_use]
    pub fn too_many(&self, window: (Timestamp, Timestamp)) -> Option<String> {
        let steps = self.steps(window);
        // A window that ends now may begin with a step more.
        if steps > MAX_STEPS + 1 {
            return Some(format!(
                "the window has {steps} such steps, and {MAX_STEPS} are answered at most: choose a longer step or a \
                 shorter window"
            ));
        }
        let groups = i64::from(self.shown());
        (groups * steps > MAX_POINTS).then(|| {
            format!(
                "{groups} groups over {steps} steps are more than {MAX_POINTS} points: show fewer groups, or choose a \
                 longer step"
            )
        })
    }

    /// How many steps a window has, the last of which may be shorter; 0 where the question is not over time.
    #[must_use]
    pub fn steps(&self, (from, to): (Timestamp, Timestamp)) -> i64 {
        let length = to.millis() - from.millis();
        self.each.map_or(0, |step| (length + step - 1) / step)
    }
}
