//! How members want to be told, as they write it, and the directory of all who can be.

use std::collections::BTreeMap;

use outcrop_api::{NoticeWishes, PaceOf, TimesOfDay};
use outcrop_core::notice::{Directory, Hours, Member, Pace, Spell, Wishes};
use outcrop_store::notices::wishes;
use outcrop_store::people::teams;
use outcrop_store::{Database, StoreError};

use super::rules::{DAYS, Wrong, days, minute, zone};

/// Services and teams of which something else is said, at most.
const EXCEPTIONS: usize = 200;

/// What holds for a member who never said anything.
pub(crate) fn unsaid() -> NoticeWishes {
    write(&Wishes::default())
}

fn pace(slot: &'static str, word: &str) -> Result<Pace, Wrong> {
    match word {
        "at-once" => Ok(Pace::AtOnce),
        "daily" => Ok(Pace::Daily),
        "nothing" => Ok(Pace::Nothing),
        other => Err(Wrong {
            slot,
            why: format!("`{other}` is no pace; known are at-once, daily, nothing"),
        }),
    }
}

/// Reads what a member wishes.
///
/// # Errors
/// [`Wrong`] with the first part that cannot be read.
pub(crate) fn read(said: &NoticeWishes) -> Result<Wishes, Wrong> {
    let paces = |slot: &'static str, of: &[PaceOf]| -> Result<BTreeMap<String, Pace>, Wrong> {
        if of.len() > EXCEPTIONS {
            let why = format!("it names at most {EXCEPTIONS}");
            return Err(Wrong { slot, why });
        }
        of.iter()
            .map(|one| Ok((one.name.trim().to_owned(), pace(slot, &one.pace)?)))
            .collect()
    };
    let zone = zone("zone", &said.zone)?;
    let hours = said.hours.as_ref().map(|hours| {
        Ok(Hours {
            spell: Spell {
                from: minute("hours", &hours.from)?,
                to: minute("hours", &hours.to)?,
                days: days("hours", &hours.days)?,
            },
            zone,
        })
    });
    Ok(Wishes {
        pace: pace("pace", &said.pace)?,
        of_services: paces("services", &said.services)?,
        of_teams: paces("teams", &said.teams)?,
        hours: hours.transpose()?,
        uncaught_at_any_hour: said.uncaught_at_any_hour,
        zone,
        digest_at: minute("digest_at", &said.digest_at)?,
    })
}

/// The same as it is written.
pub(crate) fn write(wishes: &Wishes) -> NoticeWishes {
    let word = |pace: &Pace| match pace {
        Pace::AtOnce => "at-once".to_owned(),
        Pace::Daily => "daily".to_owned(),
        Pace::Nothing => "nothing".to_owned(),
    };
    let paces = |of: &BTreeMap<String, Pace>| {
        let one = |(name, pace): (&String, &Pace)| PaceOf {
            name: name.clone(),
            pace: word(pace),
        };
        of.iter().map(one).collect()
    };
    let clock = |minute: u16| format!("{:02}:{:02}", minute / 60, minute % 60);
    let chosen = |days: [bool; 7]| {
        let names = DAYS.iter().zip(days).filter(|(_, is)| *is);
        names.map(|(name, _)| (*name).to_owned()).collect()
    };
    NoticeWishes {
        pace: word(&wishes.pace),
        services: paces(&wishes.of_services),
        teams: paces(&wishes.of_teams),
        hours: wishes.hours.map(|hours| TimesOfDay {
            from: clock(hours.spell.from),
            to: clock(hours.spell.to),
            days: chosen(hours.spell.days),
        }),
        uncaught_at_any_hour: wishes.uncaught_at_any_hour,
        zone: wishes.zone.name().to_owned(),
        digest_at: clock(wishes.digest_at),
    }
}

/// Reads who can be told, and how. What a later release wrote in another form counts as never said.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
pub(super) async fn directory(database: &Database) -> Result<Directory, StoreError> {
    let recipients = wishes::recipients(database).await?;
    let teams = teams::list(database).await?;
    let member = |recipient: wishes::Recipient| {
        let said: Option<NoticeWishes> = serde_json::from_value(recipient.wishes).ok();
        let member = Member {
            is_admin: recipient.role == "admin",
            closed: recipient.closed.into_iter().collect(),
            wishes: said.and_then(|said| read(&said).ok()).unwrap_or_default(),
        };
        (recipient.email, member)
    };
    Ok(Directory {
        members: recipients.into_iter().map(member).collect(),
        teams: teams.into_iter().map(|team| (team.name, team.members)).collect(),
    })
}

#[cfg(test)]
mod tests {
    use rstest::rstest;
    use serde_json::json;

    use super::*;

    #[test]
    fn what_a_member_wishes_is_read_and_written_alike() {
        let said: NoticeWishes = serde_json::from_value(json!({
            "pace": "daily", "services": [{"name": "fares", "pace": "at-once"}],
            "teams": [{"name": "deck team", "pace": "nothing"}],
            "hours": {"from": "08:00", "to": "17:30", "days": ["mon", "fri"]}, "uncaught_at_any_hour": true,
            "zone": "Europe/Oslo", "digest_at": "07:15",
        }))
        .unwrap();
        assert_eq!(write(&read(&said).unwrap()), said);
        assert_eq!(read(&unsaid()).unwrap(), Wishes::default());
    }

    #[rstest]
    #[case(json!({"pace": "soon"}), "pace: `soon` is no pace")]
    #[case(json!({"zone": "Skerry"}), "zone: ")]
    #[case(json!({"digest_at": "25:00"}), "digest_at: `25:00` is no time")]
    #[case(json!({"services": [{"name": "fares", "pace": "x"}]}), "services: ")]
    #[case(json!({"hours": {"from": "08:00", "to": "9"}}), "hours: ")]
    fn what_is_wrong_is_said_with_its_place(#[case] part: serde_json::Value, #[case] wrong: &str) {
        let mut said = serde_json::to_value(unsaid()).unwrap();
        for (name, part) in part.as_object().unwrap() {
            said[name] = part.clone();
        }
        let said: NoticeWishes = serde_json::from_value(said).unwrap();
        let why = read(&said).unwrap_err().to_string();
        assert!(why.starts_with(wrong), "{why}");
    }
}
