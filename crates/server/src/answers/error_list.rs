//! A page of the errors of a scope, in the order of what to look at first.

use std::cmp::Reverse;
use std::collections::{BTreeMap, BTreeSet, HashMap};

use chrono::{DateTime, Utc};
use outcrop_api::{
    Attention, ErrorItem, ErrorPage, FlagCounts, ListPart, PartCounts, Period, RequestCounts, Sentence, Timeline,
};
use outcrop_core::Reference;
use outcrop_store::board::Listing;
use outcrop_store::errors::handling::Handling;
use outcrop_store::errors::{Latest, Summary, handling};
use outcrop_store::flags::Said;
use outcrop_store::traffic::timeline::Steps;
use outcrop_store::{Database, Scope, StoreError, asking, board, errors, flags, ids, traces};

use super::against::{gone, held_against, then};
use super::error_order::{By, Order, Position};
use super::errors::{HEADLINE_STEPS, attention, is_since_deploy, item, origin_of, part, words};
use super::headline;
use super::timelines::timelines;
use super::unknown::unknown;

/// What is asked of a list.
pub(crate) struct Asked {
    pub scope: Scope,
    /// The period it is held against.
    pub earlier: Option<Scope>,
    /// In small letters; none: all errors.
    pub words: Vec<String>,
    pub by_part: bool,
    pub order: Order,
    pub limit: usize,
    pub after: Option<Position>,
    /// The most steps of the small timelines.
    pub strip: Option<usize>,
}

/// An error in its place in a list.
struct Ranked {
    position: Position,
    part: ListPart,
    /// Its attention.
    score: u8,
    error: i32,
    uncaught: bool,
    came_with_version: bool,
    first_seen: DateTime<Utc>,
    /// Its numbers and its attention; read once they are shown, where the board has them.
    known: Option<(Summary, Attention)>,
}

impl Ranked {
    /// The same once more, to be read beside the list.
    fn again(&self) -> Self {
        Self {
            known: self.known.clone(),
            ..*self
        }
    }

    /// Takes its place in a list as it was asked for: by its part, and within it by its rank.
    fn take_place(&mut self, asked: &Asked) {
        let is_apart = asked.by_part && asked.order.by == By::Attention || self.part == ListPart::Handled;
        self.position.part = if is_apart { self.part } else { ListPart::Known };
        self.position.rank = Reverse(match &self.known {
            Some((summary, _)) => asked.order.rank(summary, self.score),
            None => asked.order.turned(i64::from(self.score)),
        });
    }

    fn is_young(&self, now: DateTime<Utc>) -> bool {
        self.uncaught && headline::is_young(self.first_seen, now)
    }
}

/// A page of the errors of a scope, and where the next one begins.
pub(crate) async fn page(
    database: &Database,
    asked: Asked,
    now: DateTime<Utc>,
) -> Result<(ErrorPage, Option<Position>), StoreError> {
    let scope = &asked.scope;
    // To count all requests takes longer than all else of a list.
    let traffic = async {
        if asked.earlier.is_none() {
            return Ok(None);
        }
        let (requests, failed) = errors::traffic_of(database, scope).await?;
        Ok(Some(RequestCounts { requests, failed }))
    };
    let (listing, traffic, then) = futures_util::try_join!(
        listed(database, &asked, now),
        traffic,
        then(database, asked.earlier.as_ref())
    )?;
    let period = then.as_ref().map(|(summaries_then, period)| Period {
        gone: gone(&listing.counted, summaries_then),
        ..period.clone()
    });
    let flags = flags::said(database, (scope.from, scope.to)).await?;
    let handled = handling::of(database, None).await?;
    let mut ranked = ranked(database, &asked, &listing, (&flags, &handled), now).await?;
    if asked.order.by != By::Attention {
        fill(database, &listing, ranked.iter_mut(), (scope, &handled), now).await?;
        ranked.retain(|error| error.known.is_some());
    }
    for error in &mut ranked {
        error.take_place(&asked);
    }
    ranked.sort_by_key(|error| error.position);
    let total_without_words = total(&ranked);
    let mut counts = Counts::of(&ranked, &flags, now);
    if !asked.words.is_empty() {
        let known = |error: &Ranked| error.known.as_ref().map(|(summary, _)| summary.reference);
        let references: Vec<Reference> = ranked.iter().filter_map(known).collect();
        let latest = errors::latest(database, &references).await?;
        ranked.retain(|error| {
            (error.known.as_ref())
                .is_some_and(|(summary, _)| has_words(summary, latest.get(&summary.reference), &asked.words))
        });
    }
    let total = total(&ranked);
    let from = asked
        .after
        .map_or(0, |after| ranked.partition_point(|error| error.position <= after));
    let is_more = ranked.len() > from + asked.limit;
    let mut shown: Vec<Ranked> = ranked.into_iter().skip(from).take(asked.limit).collect();
    let next = shown.last().filter(|_| is_more).map(|error| error.position);
    let leading = counts.leading.iter_mut();
    fill(
        database,
        &listing,
        shown.iter_mut().chain(leading),
        (scope, &handled),
        now,
    )
    .await?;
    shown.retain(|error| error.known.is_some());
    let read = Read::of(database, &shown, &counts, &asked, now).await?;
    let headline = headline(&counts, &read, now);
    let page = ErrorPage {
        items: items(shown, &asked, &read, (&flags, then.as_ref().map(|(then, _)| then)), now),
        total,
        total_without_words,
        handled: counts.parts.handled,
        parts: counts.parts,
        flagged: counts.flagged,
        headline,
        traffic,
        against: period,
        next: None,
        note: if total_without_words == 0 {
            unknown(database, scope.predicate.as_deref()).await?
        } else {
            None
        },
    };
    Ok((page, next))
}

/// The errors of a list: from the board where it has them, else counted.
async fn listed(database: &Database, asked: &Asked, now: DateTime<Utc>) -> Result<Listing, StoreError> {
    if asked.earlier.is_none()
        && asked.words.is_empty()
        && let Some(listing) = board::listing(database, &asked.scope, now).await?
    {
        return Ok(listing);
    }
    Ok(Listing::counted(asking::list_errors(database, &asked.scope).await?))
}

type Flags = HashMap<i32, Vec<Said>>;
type Handled = HashMap<i32, Handling>;

async fn ranked(
    database: &Database,
    asked: &Asked,
    listing: &Listing,
    (flags, handled): (&Flags, &Handled),
    now: DateTime<Utc>,
) -> Result<Vec<Ranked>, StoreError> {
    let open = Handling::default();
    let handling = |error: i32| handled.get(&error).unwrap_or(&open);
    let numbers: Vec<i32> = (listing.counted.iter())
        .map(|summary| ids::number(summary.reference))
        .collect();
    let origins = traces::main_origins(database, &numbers, asked.scope.from, asked.scope.to).await?;
    let counted = listing
        .counted
        .iter()
        .filter(|summary| summary.count > 0)
        .map(|summary| {
            let error = ids::number(summary.reference);
            let (part, attention) = (
                part(handling(error), flags.get(&error), now),
                attention(summary, &origins, now),
            );
            Ranked {
                position: position(error, part, attention.score),
                part,
                score: attention.score,
                error,
                uncaught: summary.uncaught,
                came_with_version: summary.came_with_version,
                first_seen: summary.first_seen,
                known: Some((summary.clone(), attention)),
            }
        });
    let kept = listing.keys.iter().map(|key| {
        let part = part(handling(key.error_id), flags.get(&key.error_id), now);
        let score = u8::try_from(key.score).unwrap_or_default();
        let score = if part == ListPart::Handled {
            outcrop_core::attention::of_handled(score)
        } else {
            score
        };
        Ranked {
            position: position(key.error_id, part, score),
            part,
            score,
            error: key.error_id,
            uncaught: key.uncaught,
            came_with_version: key.came_with_version,
            first_seen: key.first_seen,
            known: None,
        }
    });
    Ok(counted.chain(kept).collect())
}

/// Reads the numbers of what is shown, where the board has them.
async fn fill<'r>(
    database: &Database,
    listing: &Listing,
    errors: impl Iterator<Item = &'r mut Ranked>,
    (scope, handled): (&Scope, &Handled),
    now: DateTime<Utc>,
) -> Result<(), StoreError> {
    let mut unknown: Vec<&mut Ranked> = errors.filter(|error| error.known.is_none()).collect();
    if unknown.is_empty() {
        return Ok(());
    }
    // What leads stands on the page as well.
    let numbers: BTreeSet<i32> = unknown.iter().map(|error| error.error).collect();
    let numbers: Vec<i32> = numbers.into_iter().collect();
    let (summaries, origins) = futures_util::try_join!(
        board::numbers(database, listing, &numbers, scope),
        traces::main_origins(database, &numbers, scope.from, scope.to)
    )?;
    for error in &mut unknown {
        if let Some(summary) = summaries.get(&error.error) {
            let summary = Summary {
                handling: handled.get(&error.error).cloned().unwrap_or_default(),
                ..summary.clone()
            };
            // It ranks by the score that it had when its numbers were counted.
            let attention = Attention {
                score: error.score,
                ..attention(&summary, &origins, now)
            };
            error.known = Some((summary, attention));
        }
    }
    Ok(())
}

/// What is read of the errors that are shown, and of those that lead the list.
struct Read {
    latest: HashMap<Reference, Latest>,
    strips: HashMap<Reference, Timeline>,
    origins: HashMap<i32, (i32, i64)>,
}

impl Read {
    async fn of(
        database: &Database,
        shown: &[Ranked],
        counts: &Counts,
        asked: &Asked,
        now: DateTime<Utc>,
    ) -> Result<Self, StoreError> {
        let scope = &asked.scope;
        let numbers: Vec<i32> = shown.iter().map(|error| error.error).collect();
        let summaries = || (shown.iter().filter_map(|error| error.known.as_ref())).map(|(summary, _)| summary);
        let references: Vec<Reference> = summaries().map(|summary| summary.reference).collect();
        // Strips of both are one reading: those that lead mostly stand on the page.
        let mut drawn: BTreeMap<i32, &Summary> = (counts.came(now).into_iter())
            .map(|summary| (ids::number(summary.reference), summary))
            .collect();
        if asked.strip.is_some() {
            drawn.extend(summaries().map(|summary| (ids::number(summary.reference), summary)));
        }
        let drawn: Vec<&Summary> = drawn.into_values().collect();
        let steps = asked.strip.unwrap_or(HEADLINE_STEPS);
        let (latest, strips, origins) = futures_util::try_join!(
            errors::latest(database, &references),
            timelines(
                database,
                &drawn,
                scope,
                Steps::cut_coarsely(scope.from, scope.to, steps)
            ),
            traces::main_origins(database, &numbers, scope.from, scope.to)
        )?;
        Ok(Self {
            latest,
            strips: drawn.iter().map(|summary| summary.reference).zip(strips).collect(),
            origins,
        })
    }
}

/// Rows as they are shown.
fn items(
    shown: Vec<Ranked>,
    asked: &Asked,
    read: &Read,
    (flags, then): (&Flags, Option<&HashMap<Reference, Summary>>),
    now: DateTime<Utc>,
) -> Vec<ErrorItem> {
    shown
        .into_iter()
        .filter_map(|error| Some((error.error, error.part, error.known?)))
        .map(|(error, part, (summary, attention))| {
            let strip = (read.strips.get(&summary.reference)).filter(|_| asked.strip.is_some());
            let version_share = strip.and_then(|strip| headline::version_share(&summary, strip, now));
            ErrorItem {
                against: then.map(|then| held_against(&summary, then.get(&summary.reference))),
                flags: words(flags.get(&error)),
                since_deploy: is_since_deploy(flags.get(&error)),
                part,
                origin: origin_of(&summary, &read.origins),
                version_share,
                sentence: headline::row(&summary, version_share, now),
                strip: strip.cloned(),
                ..item(read.latest.get(&summary.reference), summary, attention)
            }
        })
        .collect()
}

fn total(ranked: &[Ranked]) -> i64 {
    i64::try_from(ranked.len()).unwrap_or(i64::MAX)
}

/// Errors of a version whose share of its requests is looked up for the headline.
const LOOKED_AT: usize = 8;

/// What a whole list is headed by.
struct Counts {
    open: usize,
    parts: PartCounts,
    flagged: FlagCounts,
    young: usize,
    /// The first young errors that came with a version, then the first young one or else the first of all.
    leading: Vec<Ranked>,
}

impl Counts {
    /// Of a list in its order; what leads it is what matters most, whatever the order.
    fn of(ranked: &[Ranked], flags: &Flags, now: DateTime<Utc>) -> Self {
        let mut open: Vec<&Ranked> = ranked.iter().filter(|error| error.part != ListPart::Handled).collect();
        open.sort_by_key(|error| (error.position.part, Reverse(error.score)));
        let (mut parts, mut flagged) = (PartCounts::default(), FlagCounts::default());
        for error in ranked {
            *match error.part {
                ListPart::FromDeploy => &mut parts.from_deploy,
                ListPart::Rising => &mut parts.rising,
                ListPart::Known => &mut parts.known,
                ListPart::Handled => &mut parts.handled,
            } += 1;
        }
        for word in open.iter().flat_map(|error| words(flags.get(&error.error))) {
            *match word.as_str() {
                "new" => &mut flagged.new,
                "surging" => &mut flagged.surging,
                _ => &mut flagged.returned,
            } += 1;
        }
        let young: Vec<&Ranked> = open.iter().copied().filter(|error| error.is_young(now)).collect();
        let came = young
            .iter()
            .copied()
            .filter(|error| error.came_with_version)
            .take(LOOKED_AT);
        let first = young.first().or(open.first()).copied();
        Self {
            open: open.len(),
            parts,
            flagged,
            young: young.len(),
            leading: came.chain(first).map(Ranked::again).collect(),
        }
    }

    fn leading(&self) -> impl Iterator<Item = &Summary> {
        (self.leading.iter())
            .filter_map(|error| error.known.as_ref())
            .map(|(summary, _)| summary)
    }

    /// The young errors that came with a version, whose share of its requests the headline says.
    fn came(&self, now: DateTime<Utc>) -> Vec<&Summary> {
        self.leading()
            .filter(|summary| summary.came_with_version && headline::is_young(summary.first_seen, now))
            .take(LOOKED_AT)
            .collect()
    }
}

fn headline(counts: &Counts, read: &Read, now: DateTime<Utc>) -> Sentence {
    let came = (counts.came(now).into_iter()).find_map(|summary| {
        let strip = read.strips.get(&summary.reference)?;
        Some((summary, headline::version_share(summary, strip, now)?))
    });
    headline::page(
        came,
        counts.leading().last(),
        counts.young,
        (counts.open, usize::try_from(counts.parts.handled).unwrap_or_default()),
        now,
    )
}

/// Whether all words stand in what is shown of an error.
fn has_words(summary: &Summary, latest: Option<&Latest>, words: &[String]) -> bool {
    let text = [
        summary.title.as_str(),
        &summary.service,
        summary.own_frame.as_deref().unwrap_or_default(),
        &summary.reference.to_string(),
        latest.map_or("", |latest| &latest.message),
        &summary.versions.join(" "),
    ]
    .join("\n")
    .to_lowercase();
    words.iter().all(|word| text.contains(word.as_str()))
}

/// Where an error stands before it is known what the list is ordered by.
fn position(error: i32, part: ListPart, score: u8) -> Position {
    Position {
        part,
        rank: Reverse(i64::from(score)),
        number: ids::reference(error).number(),
    }
}
