//! What a list of errors is ordered by, and where an error stands in it.

use std::cmp::Reverse;

use outcrop_api::ListPart;
use outcrop_store::errors::Summary;

/// What is asked of an order.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(crate) struct Order {
    pub by: By,
    /// The least first.
    pub up: bool,
}

/// What a list of errors can be ordered by.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(crate) enum By {
    /// How much it matters, 0 to 100.
    #[default]
    Attention,
    /// Its occurrences.
    Count,
    /// Its users.
    Users,
    /// The share of the requests to its endpoints that failed with it.
    RequestShare,
    /// Its first event of all time.
    FirstSeen,
    /// Its last event.
    LastSeen,
}

impl By {
    const ALL: [(&'static str, Self); 6] = [
        ("attention", Self::Attention),
        ("count", Self::Count),
        ("users", Self::Users),
        ("request_share", Self::RequestShare),
        ("first_seen", Self::FirstSeen),
        ("last_seen", Self::LastSeen),
    ];

    /// The word for it.
    pub(crate) fn word(self) -> &'static str {
        Self::ALL
            .iter()
            .find(|(_, by)| *by == self)
            .map_or("", |(word, _)| word)
    }
}

impl Order {
    /// Reads `count` or `count up`.
    ///
    /// # Errors
    /// What may be asked for.
    pub(crate) fn read(text: &str) -> Result<Self, String> {
        let mut words = text.split_whitespace();
        let by = words
            .next()
            .and_then(|word| By::ALL.iter().find(|(known, _)| *known == word));
        let (up, rest) = (words.next(), words.next());
        match (by, up, rest) {
            (Some((_, by)), None, _) => Ok(Self { by: *by, up: false }),
            (Some((_, by)), Some("up"), None) => Ok(Self { by: *by, up: true }),
            _ => {
                let known: Vec<&str> = By::ALL.iter().map(|(word, _)| *word).collect();
                Err(format!("order must be one of {}, with or without up", known.join(", ")))
            }
        }
    }

    /// How an error ranks by its numbers: the greatest comes first.
    pub(crate) fn rank(self, summary: &Summary, score: u8) -> i64 {
        let value = match self.by {
            By::Attention => i64::from(score),
            By::Count => summary.count,
            By::Users => summary.users,
            By::RequestShare => millionths(summary.request_share()),
            By::FirstSeen => summary.first_seen.timestamp_millis(),
            By::LastSeen => summary.last_seen.timestamp_millis(),
        };
        self.turned(value)
    }

    /// A value as it ranks: the least first where that was asked for.
    pub(crate) const fn turned(self, value: i64) -> i64 {
        if self.up { -value } else { value }
    }
}

/// Without requests there is no share: less than none at all.
#[expect(clippy::cast_possible_truncation, reason = "a share is 0 to 1")]
fn millionths(share: Option<f64>) -> i64 {
    share.map_or(-1, |share| (share * 1e6).round() as i64)
}

/// Where an error stands in a list: what is settled or quiet last, the others by part where that was asked for, then by
/// rank, then by number.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) struct Position {
    pub part: ListPart,
    pub rank: Reverse<i64>,
    pub number: u32,
}

impl Position {
    /// As it stands in a cursor of a list of an order.
    pub(crate) fn text(self, order: Order) -> String {
        let way = if order.up { "up" } else { "down" };
        format!(
            "{}:{way}:{}:{}:{}",
            order.by.word(),
            self.part as u8,
            self.rank.0,
            self.number
        )
    }

    /// `None` where the text is no position in a list of this order.
    pub(crate) fn read(text: &str, order: Order) -> Option<Self> {
        let way = if order.up { ":up:" } else { ":down:" };
        let mut parts = text.strip_prefix(order.by.word())?.strip_prefix(way)?.split(':');
        let part = match parts.next()? {
            "0" => ListPart::FromDeploy,
            "1" => ListPart::Rising,
            "2" => ListPart::Known,
            "3" => ListPart::Handled,
            _ => return None,
        };
        let (rank, number) = (parts.next()?.parse().ok()?, parts.next()?.parse().ok()?);
        parts.next().is_none().then_some(Self {
            part,
            rank: Reverse(rank),
            number,
        })
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("count", By::Count, false)]
    #[case(" last_seen  up ", By::LastSeen, true)]
    fn an_order_is_read_as_it_is_said(#[case] text: &str, #[case] by: By, #[case] up: bool) {
        assert_eq!(Order::read(text), Ok(Order { by, up }));
    }

    #[rstest]
    #[case("")]
    #[case("age")]
    #[case("count down")]
    #[case("count up up")]
    fn another_order_is_refused_with_those_there_are(#[case] text: &str) {
        let refused = Order::read(text).unwrap_err();
        assert!(refused.contains("attention, count, users, request_share"), "{refused}");
    }

    #[test]
    fn a_position_is_read_in_a_list_of_its_own_order_alone() {
        let position = Position {
            part: ListPart::Known,
            rank: Reverse(-40),
            number: 7,
        };
        let order = Order::read("count up").unwrap();
        let text = position.text(order);
        assert_eq!(Position::read(&text, order), Some(position));
        assert_eq!(Position::read(&text, Order::read("count").unwrap()), None);
        assert_eq!(Position::read(&text, Order::default()), None);
        assert_eq!(Position::read(&format!("{text}:1"), order), None);
    }

    #[test]
    fn without_requests_a_share_ranks_below_all() {
        assert!(millionths(None) < millionths(Some(0.0)) && millionths(Some(0.25)) == 250_000);
    }
}
