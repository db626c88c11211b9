//! Whether an error has risen, and whether it is over.

use crate::deploy::asked::Asked;
use crate::deploy::event::{FlagKind, FlagLine, Minute};
use crate::deploy::group::{Episode, Group};
use crate::deploy::place::{PAST, Place, Told};
use crate::deploy::rise::Rise;

/// Minutes after a deploy for which it is asked what it changed.
const WATCHED: Minute = 180;
/// What an error tells that is flagged already, in nats.
const FLAGGED: f64 = 8.0;
/// Minutes by which the beginnings of rises may lie apart that have one cause.
const NEAR: Minute = 10;
/// Minutes for which what was told is of late.
const LATELY: Minute = 12;
/// The smallest rise that is worth a flag, and the fewest occurrences.
const LEAST_RATIO: f64 = 1.3;

const LEAST_ANYWHERE: f64 = 1.4;

const LEAST_COUNT: f64 = 3.0;
/// Nats by which the usual rate must explain the latest minutes better than the raised one for a
/// surge to be over, and the lengths that are looked at.
const OVER: f64 = 8.0;

const LOOKED_AT: [Minute; 5] = [15, 30, 60, 120, 240];
/// The variance of small counts over their mean.
const CLUMP: f64 = 1.1;
/// Minutes after which a raised rate that did not go back is taken for the usual one.
pub(super) const SETTLED: Minute = 1_440;
/// Minutes after that for which nothing is said: it is learnt first.
const AFTERWARDS: Minute = 180;

/// A rise with the version that its deploy brought, and by how much it exceeds what is asked of it.
pub(super) type Lead = (Told, Option<u32>, f64);

/// How many errors of a service occurred in its past, and how many have strong evidence of late with this one.
pub(super) fn many(place: &Place, error: &str, minute: Minute, asked: &Asked) -> (usize, usize) {
    let watched = place
        .groups
        .values()
        .filter(|group| group.events.last().is_some_and(|(at, _, _)| minute - at <= PAST))
        .count();
    let is_strong = |(name, group): &(&String, &Group)| {
        *name != error && minute - group.lately.1 <= LATELY && group.lately.0 >= asked.after_deploy
    };
    (watched, 1 + place.groups.iter().filter(is_strong).count())
}

/// Whether a rise of another error may have the cause of one: the same deploy, or about the same beginning.
pub(super) fn is_alike(rise: &Rise, since: Minute, by_deploy: bool) -> bool {
    if rise.versions.is_some() {
        by_deploy && since == rise.since
    } else {
        (since - rise.since).abs() <= NEAR
    }
}

/// What other errors of the service tell of a rise that began with one, in nats: each what it has
/// above what chance often makes.
pub(super) fn others(place: &Place, error: &str, rise: &Rise, minute: Minute, asked: &Asked) -> f64 {
    let told = |group: &Group| {
        if group
            .episode
            .as_ref()
            .is_some_and(|episode| is_alike(rise, episode.since, episode.by_deploy))
        {
            return FLAGGED;
        }
        let alike = group.rises.iter().filter(|other| {
            other.versions == rise.versions
                && is_alike(rise, other.since, true)
                && (rise.versions.is_some() || minute - other.until <= LATELY)
        });
        let told = alike.map(|other| {
            let nats = group.nats(other);
            let hurdle = group.habits.hurdle(minute + 1 - other.since, minute, other.clumps);
            nats.least(other.clumps).min(nats.of(other.clumps) - hurdle) - asked.hint
        });
        told.fold(0.0, f64::max)
    };
    place
        .groups
        .iter()
        .filter(|(name, _)| *name != error)
        .map(|(_, group)| told(group))
        .sum()
}

/// The rise that exceeds most what is asked of it, since a deploy or anywhere.
pub(super) fn strongest(place: &Place, error: &str, group: &Group, minute: Minute, nats: &Asked) -> Option<Lead> {
    let until = minute + 1;
    let mut strongest: Option<Lead> = None;
    for rise in &group.rises {
        let told = place.told(group, rise);
        let length = until - rise.since;
        let (ratio, alone) = match rise.versions {
            Some(_) => (LEAST_RATIO, nats.alone_after_deploy),
            None => (LEAST_ANYWHERE, nats.alone_anywhere),
        };
        if told.expected <= 0.0
            || told.count < LEAST_COUNT
            || told.count <= ratio * told.expected
            || told.evidence() < nats.alone_after_deploy
        {
            continue;
        }
        let (is_by_deploy, is_reported) = (rise.versions.is_some(), place.traffic.reports(minute));
        // Where no requests are reported, errors that rise together speak for more of them.
        let joined = if is_by_deploy || is_reported {
            nats.joined * others(place, error, rise, minute, nats)
        } else {
            0.0
        };
        let asked = nats.of(length, is_by_deploy);
        let asked = asked - joined.min(asked - alone) + nats.besides(length, is_by_deploy, is_reported);
        let hurdle = group.habits.hurdle(length, minute, told.clumps);
        let lead = (told.nats.of(told.clumps) - hurdle).min(told.evidence() - asked);
        if strongest.as_ref().is_none_or(|(_, _, best)| lead > *best) {
            strongest = Some((told, rise.versions.map(|versions| versions.first), lead));
        }
    }
    strongest
}

/// Whether an error surges, by the end of a minute in which it occurred.
pub(super) fn surge(place: &mut Place, error: &str, minute: Minute, asked: &Asked) -> Option<FlagLine> {
    place.learn(error, minute);
    place.follow(error, minute, WATCHED);
    let group = place.groups.get(error)?;
    let anywhere: Vec<_> = group
        .rises
        .iter()
        .filter(|rise| rise.versions.is_none())
        .map(|rise| group.nats(rise))
        .collect();
    let strongest = strongest(place, error, group, minute, asked);
    let (watched, strong) = many(place, error, minute, asked);
    let running = group.events.last().map(|(_, version, _)| *version).unwrap_or_default();
    let (quiet_until, is_learning) = (group.quiet_until, place.is_learning(minute));
    let group = place.groups.get_mut(error)?;
    if let Some(episode) = &mut group.episode {
        episode.evidence = anywhere
            .iter()
            .map(|nats| nats.by_count)
            .fold(episode.evidence, f64::max);
        return None;
    }
    for nats in anywhere {
        group.habits.record(minute, nats);
    }
    let (told, version, lead) = strongest.filter(|_| minute >= quiet_until && !is_learning)?;
    group.lately = (told.evidence(), minute);
    if lead < asked.of_many(watched, strong) {
        return None;
    }
    group.episode = Some(Episode {
        since: told.since,
        said: minute,
        ratio: told.count / told.expected,
        evidence: told.nats.by_count,
        by_deploy: version.is_some(),
    });
    #[expect(
        clippy::cast_possible_truncation,
        clippy::cast_sign_loss,
        reason = "counts of some hours"
    )]
    Some(FlagLine {
        flag: FlagKind::Surging,
        service: String::new(),
        environment: String::new(),
        group: String::new(),
        version: place.order.label(version.unwrap_or(running)).to_owned(),
        at: minute,
        since: told.since,
        by_deploy: version.is_some(),
        count: told.count as u64,
        expected: told.expected,
        evidence: told.evidence(),
        requests: Some(place.traffic.exposure.between(told.since, minute + 1) as u64),
    })
}

/// From when on the usual rate of an error explains what it does better than the raised one.
pub(super) fn over_since(place: &Place, group: &Group, episode: &Episode, minute: Minute) -> Option<Minute> {
    let until = minute + 1;
    let exposure = |from, until| (place.traffic.exposure.between(from, until), 1.0);
    let is_over = |from: &Minute| {
        // What was seen while it was raised tells how much it was: when it was flagged it looked higher than it is.
        let before = place.expected(
            group,
            episode.since,
            from - episode.since,
            exposure(episode.since, *from),
        );
        let ratio = (group.counts.between(episode.since, *from) / before)
            .min(episode.ratio)
            .max(LEAST_RATIO);
        let usual = place.expected(group, episode.since, until - from, exposure(*from, until));
        // The likelihood ratio of two Poisson rates, less what scatter explains (quasi-likelihood, Wedderburn 1974).
        let lead = (ratio - 1.0) * usual - group.counts.between(*from, until) * ratio.ln();
        lead / (CLUMP + usual * group.nature.over(until - from)) > OVER
    };
    LOOKED_AT
        .into_iter()
        .map(|length| until - length)
        .take_while(|from| *from > episode.said)
        .find(is_over)
}

/// Ends raised rates that went back to what was usual, and takes those for usual that did not within a day.
pub(super) fn end_episodes(place: &mut Place, minute: Minute) -> Vec<(String, Minute, Minute)> {
    let mut ended = vec![];
    if minute % 5 != 0 {
        return ended;
    }
    let open: Vec<String> = place
        .groups
        .iter()
        .filter(|(_, group)| group.episode.is_some())
        .map(|(name, _)| name.clone())
        .collect();
    for name in open {
        let Some((group, episode)) = place
            .groups
            .get(&name)
            .and_then(|group| Some((group, group.episode.as_ref()?)))
        else {
            continue;
        };
        let said = episode.said;
        let over = if minute - said >= SETTLED {
            None
        } else {
            over_since(place, group, episode, minute)
        };
        let Some(group) = place.groups.get_mut(&name) else {
            continue;
        };
        if minute - said >= SETTLED {
            group.settle_down(minute + AFTERWARDS);
            ended.push((name, said, minute));
        } else if let Some(from) = over {
            group.end(from);
            ended.push((name, said, from));
        }
    }
    ended
}
