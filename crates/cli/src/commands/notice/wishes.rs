//! `outcrop notice wishes`: how you want to be told.

use clap::Args;
use outcrop_api::{NoticeWishes, PaceOf, TimesOfDay};
use outcrop_core::text::printable;

use crate::client::Api;
use crate::fault::Fault;
use crate::output::{json, line};

#[derive(Args)]
#[command(
    after_help = "Examples:\n  outcrop notice wishes\n  outcrop notice wishes --pace daily --of fares=at-once --digest-at 07:30 \
        --zone Europe/Oslo\n  outcrop notice wishes --hours 08:00-17:00 --days mon,tue,wed,thu,fri --uncaught-at-any-hour yes"
)]
pub struct SetWishes {
    /// How soon: at-once, daily (in a digest) or nothing.
    #[arg(long, value_name = "PACE")]
    pace: Option<String>,
    /// How soon of a service, as fares=at-once; fares= takes it back; may be given several times.
    #[arg(long, value_name = "SERVICE=PACE", value_delimiter = ',')]
    of: Vec<String>,
    /// How soon as one of a team, as 'deck team=daily'; may be given several times.
    #[arg(long, value_name = "TEAM=PACE", value_delimiter = ',')]
    as_one_of: Vec<String>,
    /// Within which hours alone, as 08:00-17:00; always: at all hours.
    #[arg(long, value_name = "FROM-TO")]
    hours: Option<String>,
    /// On which days: mon,tue,…
    #[arg(long, value_name = "DAY", value_delimiter = ',')]
    days: Vec<String>,
    /// Whether uncaught errors do not wait for these hours: yes or no.
    #[arg(long, value_name = "YES|NO", value_parser = clap::builder::BoolishValueParser::new())]
    uncaught_at_any_hour: Option<bool>,
    /// Your time zone, such as Europe/Oslo.
    #[arg(long, value_name = "ZONE")]
    zone: Option<String>,
    /// When the digest is made, as 07:30.
    #[arg(long, value_name = "TIME")]
    digest_at: Option<String>,
}

impl SetWishes {
    fn apply(&self, mut wishes: NoticeWishes) -> Result<NoticeWishes, Fault> {
        set(&mut wishes.services, "of", &self.of)?;
        set(&mut wishes.teams, "as-one-of", &self.as_one_of)?;
        if let Some(text) = &self.hours {
            wishes.hours = match text.split_once(['-', '–']) {
                Some((from, to)) => Some(TimesOfDay {
                    from: from.to_owned(),
                    to: to.to_owned(),
                    days: wishes.hours.map(|hours| hours.days).unwrap_or_default(),
                }),
                None if text == "always" => None,
                None => {
                    return Err(Fault::Usage(format!(
                        "--hours is `{text}`; write it like 08:00-17:00, or always"
                    )));
                }
            };
        }
        if !self.days.is_empty() {
            let hours = wishes.hours.get_or_insert_with(|| TimesOfDay {
                from: "00:00".to_owned(),
                to: "00:00".to_owned(),
                days: vec![],
            });
            hours.days.clone_from(&self.days);
        }
        Ok(NoticeWishes {
            pace: self.pace.clone().unwrap_or(wishes.pace),
            uncaught_at_any_hour: self.uncaught_at_any_hour.unwrap_or(wishes.uncaught_at_any_hour),
            zone: self.zone.clone().unwrap_or(wishes.zone),
            digest_at: self.digest_at.clone().unwrap_or(wishes.digest_at),
            ..wishes
        })
    }
}

fn set(paces: &mut Vec<PaceOf>, option: &str, given: &[String]) -> Result<(), Fault> {
    for text in given {
        let (name, pace) = text
            .rsplit_once('=')
            .ok_or_else(|| Fault::Usage(format!("--{option} is `{text}`; write it like fares=at-once")))?;
        paces.retain(|known| known.name != name);
        if !pace.is_empty() {
            paces.push(PaceOf {
                name: name.to_owned(),
                pace: pace.to_owned(),
            });
        }
    }
    Ok(())
}

pub(super) async fn run(api: &Api, given: SetWishes, as_json: bool) -> Result<(), Fault> {
    let before: NoticeWishes = api.get("/notice-wishes", &[]).await?;
    let asked = given.apply(before.clone())?;
    let wishes = if asked == before {
        before
    } else {
        api.put("/notice-wishes", &asked).await?
    };
    if as_json {
        return json(&wishes);
    }
    for said in sentences(&wishes) {
        line(printable(&said))?;
    }
    Ok(())
}

fn soon(pace: &str) -> &str {
    match pace {
        "at-once" => "told at once",
        "daily" => "told once a day",
        _ => "not told",
    }
}

fn sentences(wishes: &NoticeWishes) -> Vec<String> {
    let mut said = vec![format!("You are {}.", soon(&wishes.pace))];
    said.extend(
        wishes
            .services
            .iter()
            .map(|of| format!("Of {} you are {}.", of.name, soon(&of.pace))),
    );
    said.extend(
        wishes
            .teams
            .iter()
            .map(|of| format!("As one of {} you are {}.", of.name, soon(&of.pace))),
    );
    if let Some(hours) = &wishes.hours {
        let days = if hours.days.is_empty() {
            String::new()
        } else {
            format!(" on {}", hours.days.join(", "))
        };
        let uncaught = if wishes.uncaught_at_any_hour {
            "; of uncaught errors at any hour"
        } else {
            ""
        };
        said.push(format!("Within {}–{}{days} alone{uncaught}.", hours.from, hours.to));
    }
    said.push(format!("A digest is made at {}, {}.", wishes.digest_at, wishes.zone));
    said
}

#[cfg(test)]
mod tests {
    use clap::Parser;

    use super::*;

    #[derive(Parser)]
    struct Only {
        #[command(flatten)]
        set: SetWishes,
    }

    fn applied(options: &[&str], before: NoticeWishes) -> Result<NoticeWishes, Fault> {
        let given = std::iter::once("x").chain(options.iter().copied());
        Only::try_parse_from(given).unwrap().set.apply(before)
    }

    fn unsaid() -> NoticeWishes {
        NoticeWishes {
            pace: "at-once".to_owned(),
            zone: "UTC".to_owned(),
            digest_at: "08:00".to_owned(),
            ..NoticeWishes::default()
        }
    }

    #[test]
    fn what_is_not_given_stays() {
        let options = [
            "--pace",
            "daily",
            "--of",
            "fares=at-once",
            "--hours",
            "08:00-17:00",
            "--days",
            "mon,fri",
            "--uncaught-at-any-hour",
            "yes",
        ];
        let wishes = applied(&options, unsaid()).unwrap();
        assert_eq!(
            sentences(&wishes),
            [
                "You are told once a day.",
                "Of fares you are told at once.",
                "Within 08:00–17:00 on mon, fri alone; of uncaught errors at any hour.",
                "A digest is made at 08:00, UTC."
            ]
        );
        let less = applied(&["--of", "fares=", "--hours", "always"], wishes).unwrap();
        assert_eq!(
            sentences(&less),
            ["You are told once a day.", "A digest is made at 08:00, UTC."]
        );
        assert_eq!(applied(&[], less.clone()).unwrap(), less);
        assert!(applied(&["--hours", "noon"], unsaid()).is_err() && applied(&["--of", "fares"], unsaid()).is_err());
    }
}
