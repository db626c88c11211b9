//! What happened to an error, in one course: what people did, what was said, what was deployed.

use std::collections::BTreeSet;

use chrono::{DateTime, Utc};
use outcrop_api::{History, HistoryEntry, HistoryKind};
use outcrop_core::Reference;
use outcrop_core::deploy::FlagKind;
use outcrop_store::deploys::{self, Deploy};
use outcrop_store::errors::handling::{self, Change};
use outcrop_store::flags::{self, Flag};
use outcrop_store::{Database, StoreError, errors, find, ids};

use super::flag_items::flag_item;

/// Reads the entries before a time, `limit` of them; nothing of an error that is not known.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
pub(crate) async fn of_error(
    database: &Database,
    error: Reference,
    before: DateTime<Utc>,
    limit: usize,
) -> Result<Option<History>, StoreError> {
    let Some(found) = find::error(database, error).await? else {
        return Ok(None);
    };
    let sightings = errors::sightings(database, error).await?;
    let environments: BTreeSet<&str> = sightings.iter().map(|seen| seen.environment.as_str()).collect();
    // One more than asked for tells whether there is a page after this one.
    let most = i64::try_from(limit).unwrap_or(i64::MAX).saturating_add(1);
    let mut entries: Vec<HistoryEntry> = vec![];
    let changes = handling::changes_before(database, error, Some(before), most).await?;
    entries.extend(changes.into_iter().map(of_change));
    let flagged = flags::of_error(database, ids::number(error), before, most).await?;
    entries.extend(flagged.iter().flat_map(of_flag).filter(|entry| entry.at < before));
    for environment in environments {
        let of = (Some(found.service.as_str()), Some(environment));
        let deployed = deploys::list(database, of, (DateTime::UNIX_EPOCH, before), most).await?;
        entries.extend(deployed.iter().map(of_deploy));
    }
    Ok(Some(page(entries, limit)))
}

/// The newest entries, `limit` of them, and those of the same time as the last one.
fn page(mut entries: Vec<HistoryEntry>, limit: usize) -> History {
    entries.sort_by_key(|entry| std::cmp::Reverse(entry.at));
    let last = limit
        .checked_sub(1)
        .and_then(|last| entries.get(last))
        .map(|entry| entry.at);
    let kept = last.map_or(entries.len(), |last| entries.partition_point(|entry| entry.at >= last));
    let next = last.filter(|_| kept < entries.len());
    entries.truncate(kept);
    History { items: entries, next }
}

fn of_change(change: Change) -> HistoryEntry {
    let what = &change.what;
    let text = match change.verb.as_str() {
        "take" if *what == change.by => "took it".to_owned(),
        "take" => format!("gave it to {what}"),
        "hand back" => "handed it back".to_owned(),
        "settle" if what.is_empty() => "settled it from then on".to_owned(),
        "settle" if change.by == "outcrop" => format!("settled it in {what}, which holds the commit"),
        "settle" => format!("settled it in {what}"),
        "settle by" => format!("settled it by commit {what}"),
        "quiet" => format!("made it quiet until {what}"),
        "reopen" => "reopened it".to_owned(),
        "return" => format!("opened it again: it returned in {what}"),
        "speak up" => format!("ended its quiet: {what}"),
        "note" => what.clone(),
        // A later release writes more verbs.
        other => format!("{other} {what}"),
    };
    HistoryEntry {
        at: change.at,
        kind: if change.verb == "note" {
            HistoryKind::Note
        } else {
            HistoryKind::Handling
        },
        by: Some(change.by),
        text,
    }
}

fn of_flag(flag: &Flag) -> Vec<HistoryEntry> {
    let entry = |at: DateTime<Utc>, text: String| HistoryEntry {
        at,
        kind: HistoryKind::Flag,
        by: None,
        text,
    };
    let said = format!(
        "{} in {}: {}",
        flag.kind.word(),
        flag.environment,
        flag_item(flag).evidence
    );
    let mut entries = vec![entry(flag.said_at, said)];
    if let Some(at) = flag.ended_at.filter(|_| flag.kind == FlagKind::Surging) {
        entries.push(entry(at, format!("no longer surging in {}", flag.environment)));
    }
    if let Some(at) = flag.withdrawn_at {
        let text = format!(
            "not {} in {} after all: data that came late showed it",
            flag.kind.word(),
            flag.environment
        );
        entries.push(entry(at, text));
    }
    entries
}

fn of_deploy(deploy: &Deploy) -> HistoryEntry {
    let went = if deploy.rollback { "went back into" } else { "went into" };
    let share = deploy
        .share
        .map(|share| format!(", for {:.0} % of the requests", share * 100.0))
        .unwrap_or_default();
    HistoryEntry {
        at: deploy.at,
        kind: HistoryKind::Deploy,
        by: None,
        text: format!(
            "{} {} {went} {}{share}",
            deploy.service, deploy.version, deploy.environment
        ),
    }
}

#[cfg(test)]
mod tests {
    use chrono::TimeDelta;
    use proptest::prelude::*;
    use rstest::rstest;

    use super::*;

    fn at(minute: i64) -> DateTime<Utc> {
        DateTime::UNIX_EPOCH + TimeDelta::minutes(minute)
    }

    #[rstest]
    #[case::took("purser", "take", "purser", "took it")]
    #[case::gave("purser", "take", "deck team", "gave it to deck team")]
    #[case::settled("purser", "settle", "2.4.1", "settled it in 2.4.1")]
    #[case::from_now("purser", "settle", "", "settled it from then on")]
    #[case::by_commit("purser", "settle by", "3f2a1c9", "settled it by commit 3f2a1c9")]
    #[case::met("outcrop", "settle", "2.4.1", "settled it in 2.4.1, which holds the commit")]
    #[case::back("outcrop", "return", "2.4.2", "opened it again: it returned in 2.4.2")]
    #[case::spoke_up("outcrop", "speak up", "users > 50", "ended its quiet: users > 50")]
    #[case::of_a_later_release("purser", "hand on", "mate", "hand on mate")]
    fn what_was_done_is_said_after_the_name(
        #[case] by: &str,
        #[case] verb: &str,
        #[case] what: &str,
        #[case] text: &str,
    ) {
        let change = Change {
            id: 1,
            at: at(0),
            by: by.to_owned(),
            verb: verb.to_owned(),
            what: what.to_owned(),
            can_be_undone: false,
        };
        let entry = of_change(change);
        assert_eq!((entry.text.as_str(), entry.kind), (text, HistoryKind::Handling));
    }

    #[test]
    fn a_surge_that_ended_and_was_taken_back_has_three_entries() {
        let flag = Flag {
            error_id: 7,
            title: "TariffMissing".to_owned(),
            service: "fares".to_owned(),
            environment: "production".to_owned(),
            kind: FlagKind::Surging,
            version: "2.4.0".to_owned(),
            by_deploy: true,
            since: at(0),
            said_at: at(9),
            ended_at: Some(at(30)),
            count: 23,
            expected: 1.2,
            evidence: 20.0,
            requests: Some(4_100),
            why: None,
            withdrawn_at: Some(at(50)),
        };
        let said: Vec<_> = of_flag(&flag).into_iter().map(|entry| entry.text).collect();
        assert_eq!(
            said,
            [
                "surging in production: 23 in 10 min at 4100 requests; expected 1.2; since fares 2.4.0",
                "no longer surging in production",
                "not surging in production after all: data that came late showed it"
            ]
        );
    }

    proptest! {
        #[test]
        fn paged_through_each_entry_comes_once(
            minutes in prop::collection::vec(0_i64..20, 0..40),
            limit in 1_usize..9,
        ) {
            let all: Vec<HistoryEntry> = minutes
                .iter()
                .enumerate()
                .map(|(number, minute)| HistoryEntry {
                    at: at(*minute),
                    kind: HistoryKind::Note,
                    by: None,
                    text: number.to_string(),
                })
                .collect();
            let (mut before, mut read) = (at(1_000), vec![]);
            loop {
                let page = page(all.iter().filter(|entry| entry.at < before).cloned().collect(), limit);
                prop_assert!(page.items.is_sorted_by(|one, other| one.at >= other.at));
                read.extend(page.items);
                match page.next {
                    Some(next) => before = next,
                    None => break,
                }
            }
            let (mut read, mut expected): (Vec<_>, Vec<_>) =
                (read.into_iter().map(|entry| entry.text).collect(), all.into_iter().map(|entry| entry.text).collect());
            read.sort();
            expected.sort();
            prop_assert_eq!(read, expected);
        }
    }
}
