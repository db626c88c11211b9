//! Whether a settled error is gone, in a sentence.

use chrono::{DateTime, TimeDelta, Utc};
use outcrop_api::{SettledError, SettledOutcome, SettledVerdict};
use outcrop_core::deploy::{Exposed, Settled, settled};
use outcrop_store::errors::since_settled::{SinceSettled, settled_in, since_settled};
use outcrop_store::{Database, StoreError, ids};

/// The errors that are settled in a version of a service, and whether each is gone.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
pub(crate) async fn of_version(
    database: &Database,
    service: i32,
    version: &str,
    now: DateTime<Utc>,
) -> Result<Vec<SettledError>, StoreError> {
    let mut errors = vec![];
    for (error, title) in settled_in(database, service, version).await? {
        if let Some(known) = since_settled(database, error).await? {
            errors.push(SettledError {
                reference: ids::reference(error).to_string(),
                title,
                verdict: verdict(&known, now),
            });
        }
    }
    Ok(errors)
}

/// Judges what is known of a settled error.
#[expect(
    clippy::cast_precision_loss,
    clippy::cast_possible_truncation,
    reason = "counts of a week"
)]
pub(crate) fn verdict(known: &SinceSettled, now: DateTime<Utc>) -> SettledVerdict {
    if let Some(commit) = &known.awaits {
        let sentence = format!("No deploy of {} is known to hold commit {commit} yet.", known.service);
        return of(SettledOutcome::Unknown, sentence, known, None);
    }
    let is_moment = known.version.is_empty();
    let named = if is_moment {
        "it was settled".to_owned()
    } else {
        format!("{} {}", known.service, known.version)
    };
    let Some(began) = known.began_at else {
        return of(
            SettledOutcome::Unknown,
            format!("No telemetry of {named} was received yet."),
            known,
            None,
        );
    };
    let (since, hours) = (now - began, known.hours_before as f64);
    let by_requests = known.requests_before > 0 && known.requests_since > 0;
    let exposed = |occurrences: i64, requests: i64, hours: f64| Exposed {
        occurrences: occurrences as f64,
        exposure: if by_requests { requests as f64 } else { hours },
    };
    let before = exposed(known.before, known.requests_before, hours);
    let after = exposed(known.since, known.requests_since, since.num_minutes() as f64 / 60.0);
    // Hourly counts scatter more than by chance where occurrences come in bursts.
    let mean = known.before as f64 / hours.max(1.0);
    let scatter = if mean > 0.0 {
        (known.squares_before / hours.max(1.0) - mean * mean) / mean
    } else {
        1.0
    };
    let unseen = {
        let requests = if by_requests {
            format!(" and {}", counted(known.requests_since, "request"))
        } else {
            String::new()
        };
        format!("Not seen for {}{requests} since {named}", lasting(since))
    };
    let usual = if known.before == 0 {
        "in the seven days before neither".to_owned()
    } else if by_requests {
        format!(
            "before, in 1 of {} requests",
            grouped((known.requests_before as f64 / known.before as f64).round().max(1.0) as i64)
        )
    } else {
        format!(
            "before, {} in {}",
            counted(known.before, "occurrence"),
            lasting(TimeDelta::hours(known.hours_before))
        )
    };
    let older = match known.of_older {
        0 => String::new(),
        n => format!(" Older versions had it {} meanwhile.", times(n)),
    };
    match settled(before, after, scatter) {
        Settled::Back => {
            let sentence = format!(
                "Seen {} since {named}{} {} ago.{older}",
                times(known.since),
                if is_moment { "" } else { ", which began" },
                lasting(since)
            );
            of(SettledOutcome::Back, sentence, known, None)
        }
        Settled::Unknown => of(
            SettledOutcome::Unknown,
            format!("{unseen}; {usual}: nothing tells whether it is gone.{older}"),
            known,
            None,
        ),
        Settled::Gone { chance } => {
            let sentence = format!(
                "{unseen}; {usual}. At that rate chance alone keeps it away so long {}: it is gone.{older}",
                rarely(chance)
            );
            of(SettledOutcome::Gone, sentence, known, Some(chance))
        }
        Settled::TooEarly { chance, further } => {
            let wait = if by_requests {
                format!("about {} more requests", grouped(further.ceil() as i64))
            } else {
                format!(
                    "about {} more",
                    lasting(TimeDelta::minutes((further * 60.0).ceil() as i64))
                )
            };
            let often = format!("in {:.0} of 100 cases", (chance * 100.0).clamp(1.0, 99.0));
            let sentence = format!(
                "{unseen}; {usual}. At that rate chance alone keeps it away so long {often}; {wait} will tell.{older}"
            );
            of(SettledOutcome::TooEarly, sentence, known, Some(chance))
        }
    }
}

fn of(outcome: SettledOutcome, sentence: String, known: &SinceSettled, chance: Option<f64>) -> SettledVerdict {
    SettledVerdict {
        outcome,
        sentence,
        since: known.began_at,
        requests: known.requests_since,
        chance,
    }
}

#[expect(clippy::cast_possible_truncation, reason = "a million at most")]
fn rarely(chance: f64) -> String {
    match chance {
        0.000_001.. => format!("in fewer than 1 of {} cases", grouped((1.0 / chance).floor() as i64)),
        _ => "in fewer than 1 of 1,000,000 cases".to_owned(),
    }
}

fn times(n: i64) -> String {
    if n == 1 {
        "once".to_owned()
    } else {
        format!("{} times", grouped(n))
    }
}

fn counted(n: i64, what: &str) -> String {
    format!("{} {what}{}", grouped(n), if n == 1 { "" } else { "s" })
}

fn grouped(n: i64) -> String {
    crate::answers::sentences::grouped(n.unsigned_abs())
}

fn lasting(length: TimeDelta) -> String {
    match length.num_minutes() {
        ..1 => "less than a minute".to_owned(),
        minutes @ 1..120 => format!("{minutes} min"),
        minutes @ 120..2_880 => format!("{} h", minutes / 60),
        minutes => format!("{} days", minutes / 1_440),
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn known(before: i64, requests_before: i64, (since, requests_since): (i64, i64)) -> SinceSettled {
        SinceSettled {
            service: "fares".to_owned(),
            version: "2.4.1".to_owned(),
            began_at: Some(DateTime::UNIX_EPOCH),
            before,
            requests_before,
            hours_before: 100,
            squares_before: f64::from(i32::try_from(before).unwrap()),
            since,
            requests_since,
            of_older: 0,
            awaits: None,
        }
    }

    #[rstest]
    #[case::gone(
        known(100, 90_000, (0, 120_000)),
        41,
        "Not seen for 41 h and 120,000 requests since fares 2.4.1; before, in 1 of 900 requests. At that rate chance \
         alone keeps it away so long in fewer than 1 of 1,000,000 cases: it is gone."
    )]
    #[case::too_early(
        known(100, 90_000, (0, 900)),
        1,
        "Not seen for 60 min and 900 requests since fares 2.4.1; before, in 1 of 900 requests. At that rate chance \
         alone keeps it away so long in 37 of 100 cases; about 1,824 more requests will tell."
    )]
    #[case::without_requests(
        known(200, 0, (0, 0)),
        3,
        "Not seen for 3 h since fares 2.4.1; before, 200 occurrences in 4 days. At that rate chance alone keeps it \
         away so long in fewer than 1 of 374 cases: it is gone."
    )]
    #[case::back(known(100, 90_000, (2, 5_000)), 5, "Seen 2 times since fares 2.4.1, which began 5 h ago.")]
    #[case::never_before(
        known(0, 90_000, (0, 5_000)),
        5,
        "Not seen for 5 h and 5,000 requests since fares 2.4.1; in the seven days before neither: nothing tells \
         whether it is gone."
    )]
    fn the_verdict_says_how_sure_it_is(#[case] known: SinceSettled, #[case] hours: i64, #[case] sentence: &str) {
        assert_eq!(
            verdict(&known, DateTime::UNIX_EPOCH + TimeDelta::hours(hours)).sentence,
            sentence
        );
    }

    #[test]
    fn bursts_and_older_versions_are_said() {
        // All of a hundred occurrences in four hours: they came four times, not a hundred.
        let bursts = SinceSettled {
            squares_before: 2_500.0,
            of_older: 3,
            ..known(100, 90_000, (0, 3_000))
        };
        let said = verdict(&bursts, DateTime::UNIX_EPOCH + TimeDelta::hours(3));
        assert_eq!(said.outcome, SettledOutcome::TooEarly, "{said:?}");
        assert!(
            said.sentence.ends_with("Older versions had it 3 times meanwhile."),
            "{said:?}"
        );
        let moment = SinceSettled {
            version: String::new(),
            ..known(100, 90_000, (2, 5_000))
        };
        assert_eq!(
            verdict(&moment, DateTime::UNIX_EPOCH + TimeDelta::hours(5)).sentence,
            "Seen 2 times since it was settled 5 h ago."
        );
        let waits = SinceSettled {
            awaits: Some("3f2a1c9".to_owned()),
            ..bursts.clone()
        };
        assert_eq!(
            verdict(&waits, Utc::now()).sentence,
            "No deploy of fares is known to hold commit 3f2a1c9 yet."
        );
        let unseen = SinceSettled {
            began_at: None,
            ..bursts
        };
        assert_eq!(
            verdict(&unseen, Utc::now()).sentence,
            "No telemetry of fares 2.4.1 was received yet."
        );
    }
}
