//! The slots of a rule as options.

use clap::Args;
use outcrop_api::{ExpectedRun, NoticeRule, PassedOn, QuietHours, Threshold};

use crate::fault::Fault;

#[derive(Args)]
pub struct Slots {
    /// What happens, any of several: `new,returned`.
    #[arg(long, value_name = "EVENT", value_delimiter = ',')]
    when: Vec<String>,
    /// The environment's name, or a pattern of it: `prod*`.
    #[arg(long, value_name = "E")]
    environment: Option<String>,
    /// A predicate that must hold.
    #[arg(long = "where", value_name = "PREDICATE")]
    predicate: Option<String>,
    /// Of a threshold: what is counted; occurrences, share (of the requests, in percent), log-lines or metric.
    #[arg(long, value_name = "WHAT")]
    of: Option<String>,
    /// Of a threshold: the metric that it is of.
    #[arg(long, value_name = "NAME")]
    metric: Option<String>,
    /// Of a threshold: what it must be above.
    #[arg(long, value_name = "N")]
    above: Option<f64>,
    /// Of a threshold: over how long it is counted, such as 10m.
    #[arg(long, value_name = "TIME")]
    within: Option<String>,
    /// Of what is to have run by a time: the service, or the service and its job, as `ledger/settle`.
    #[arg(long, value_name = "SERVICE[/JOB]", requires = "run_by")]
    run_of: Option<String>,
    /// By when it is to have run, and in which time zone: `02:30 Europe/Oslo`.
    #[arg(long, value_name = "TIME [ZONE]")]
    run_by: Option<String>,
    /// Whom to tell by mail and browser: owner, taker, deployer, members, teams.
    #[arg(long, value_name = "WHO", value_delimiter = ',')]
    tell: Vec<String>,
    /// A member or team to tell where those are nobody.
    #[arg(long, value_name = "WHO")]
    otherwise: Option<String>,
    /// By which ways: mail, browser, ticket, names of chats and webhooks.
    #[arg(long, value_name = "WAY", value_delimiter = ',')]
    by: Vec<String>,
    /// The least time between two notices to the same person, such as 1h.
    #[arg(long, value_name = "TIME")]
    at_most_every: Option<String>,
    /// Hours in which it does not tell, such as 22:00-06:00; what happens meanwhile comes after them.
    #[arg(long, value_name = "FROM-TO")]
    not: Option<String>,
    /// The days on which these hours begin: mon,tue,…
    #[arg(long, value_name = "DAY", value_delimiter = ',')]
    days: Vec<String>,
    /// The time zone of these hours, such as Europe/Oslo.
    #[arg(long, value_name = "ZONE")]
    zone: Option<String>,
    /// A predicate: what fulfils it is told in these hours too.
    #[arg(long, value_name = "PREDICATE")]
    except: Option<String>,
    /// How long somebody has to take an error before it is passed on, such as 30m.
    #[arg(long, value_name = "TIME", requires = "pass_on_to")]
    pass_on_after: Option<String>,
    /// Who is told then.
    #[arg(long, value_name = "WHO", value_delimiter = ',', requires = "pass_on_after")]
    pass_on_to: Vec<String>,
    /// What to do, in your own words: stands in each notice.
    #[arg(long, value_name = "TEXT")]
    text: Option<String>,
    /// A link to a runbook.
    #[arg(long, value_name = "URL")]
    runbook: Option<String>,
}

impl Slots {
    /// A rule with what was given put in its place.
    ///
    /// # Errors
    /// Where a time cannot be read, or what belongs together was not given together.
    pub(super) fn apply(&self, rule: NoticeRule) -> Result<NoticeRule, Fault> {
        let list = |given: &[String], before: Vec<String>| if given.is_empty() { before } else { given.to_vec() };
        let when = list(&self.when, rule.when);
        Ok(NoticeRule {
            threshold: self.threshold(rule.threshold, &when)?,
            expected: self.expected(rule.expected),
            environment: self.environment.clone().or(rule.environment),
            predicate: self.predicate.clone().or(rule.predicate),
            tell: list(&self.tell, rule.tell),
            otherwise: self.otherwise.clone().or(rule.otherwise),
            by: list(&self.by, rule.by),
            at_most_every_minutes: match &self.at_most_every {
                Some(text) => Some(minutes("at-most-every", text)?),
                None => rule.at_most_every_minutes,
            },
            not: self.not(rule.not.as_ref())?,
            pass_on: match &self.pass_on_after {
                Some(text) => Some(PassedOn {
                    after_minutes: minutes("pass-on-after", text)?,
                    to: self.pass_on_to.clone(),
                }),
                None => rule.pass_on,
            },
            text: self.text.clone().or(rule.text),
            runbook: self.runbook.clone().or(rule.runbook),
            name: rule.name,
            is_on: rule.is_on,
            when,
        })
    }

    /// A rule of log lines waits for one line, where no threshold is given.
    fn threshold(&self, before: Option<Threshold>, when: &[String]) -> Result<Option<Threshold>, Fault> {
        let is_of_lines = when.iter().any(|word| word == "log-line");
        let is_given = self.of.is_some() || self.metric.is_some() || self.above.is_some() || self.within.is_some();
        let begins_lines = is_of_lines && before.is_none();
        if !is_given && !begins_lines {
            return Ok(before);
        }
        let before = before.unwrap_or_else(|| Threshold {
            of: if is_of_lines { "log-lines" } else { "occurrences" }.to_owned(),
            metric: None,
            above: 0.0,
            minutes: if is_of_lines { 1 } else { 10 },
        });
        Ok(Some(Threshold {
            of: match (&self.of, &self.metric) {
                (Some(of), _) => of.clone(),
                (None, Some(_)) => "metric".to_owned(),
                (None, None) => before.of,
            },
            metric: self
                .metric
                .clone()
                .or(before.metric)
                .filter(|_| self.of.as_deref().is_none_or(|of| of == "metric")),
            above: self.above.unwrap_or(before.above),
            minutes: match &self.within {
                Some(text) => minutes("within", text)?,
                None => before.minutes,
            },
        }))
    }

    fn expected(&self, before: Option<ExpectedRun>) -> Option<ExpectedRun> {
        if self.run_of.is_none() && self.run_by.is_none() {
            return before;
        }
        let mut expected = before.unwrap_or_default();
        if let Some(text) = &self.run_of {
            let (service, job) = text
                .split_once('/')
                .map_or((text.as_str(), None), |(service, job)| (service, Some(job)));
            service.clone_into(&mut expected.service);
            expected.endpoint = job.map(str::to_owned);
        }
        if let Some(text) = &self.run_by {
            let (by, zone) = text
                .trim()
                .split_once(' ')
                .map_or((text.as_str(), None), |(by, zone)| (by, Some(zone)));
            by.clone_into(&mut expected.by);
            expected.zone = zone.map(|zone| zone.trim().to_owned()).or(expected.zone);
        }
        Some(expected)
    }

    fn not(&self, before: Option<&QuietHours>) -> Result<Option<QuietHours>, Fault> {
        let is_given = !self.days.is_empty() || self.zone.is_some() || self.except.is_some();
        let (from, to) = match (&self.not, before) {
            (Some(text), _) => text
                .split_once(['-', '–'])
                .ok_or_else(|| Fault::Usage(format!("--not is `{text}`; write it like 22:00-06:00")))?,
            (None, Some(before)) => (before.from.as_str(), before.to.as_str()),
            (None, None) if is_given => {
                return Err(Fault::Usage(
                    "--days, --zone and --except belong to --not: say which hours".to_owned(),
                ));
            }
            (None, None) => return Ok(None),
        };
        let kept = before.cloned().unwrap_or_default();
        Ok(Some(QuietHours {
            from: from.to_owned(),
            to: to.to_owned(),
            days: if self.days.is_empty() {
                kept.days
            } else {
                self.days.clone()
            },
            zone: self.zone.clone().or(kept.zone),
            except: self.except.clone().or(kept.except),
        }))
    }
}

/// A time in whole minutes.
fn minutes(option: &str, text: &str) -> Result<u32, Fault> {
    let time =
        humantime::parse_duration(text).map_err(|error| Fault::Usage(format!("--{option} is `{text}`: {error}")))?;
    u32::try_from(time.as_secs().div_ceil(60))
        .map_err(|_too_long| Fault::Usage(format!("--{option} is `{text}`: that is too long")))
}

/// A rule without some of its parts.
///
/// # Errors
/// Where a rule has no such part.
pub(super) fn without(mut rule: NoticeRule, parts: &[String]) -> Result<NoticeRule, Fault> {
    for part in parts {
        match part.as_str() {
            "environment" => rule.environment = None,
            "where" => rule.predicate = None,
            "otherwise" => rule.otherwise = None,
            "at-most-every" => rule.at_most_every_minutes = None,
            "not" => rule.not = None,
            "pass-on" => rule.pass_on = None,
            "text" => rule.text = None,
            "runbook" => rule.runbook = None,
            other => {
                return Err(Fault::Usage(format!(
                    "a rule has no part `{other}` that it can do without; those are environment, where, otherwise, \
                     at-most-every, not, pass-on, text, runbook"
                )));
            }
        }
    }
    Ok(rule)
}

#[cfg(test)]
mod tests {
    use clap::Parser;
    use rstest::rstest;

    use super::*;

    #[derive(Parser)]
    struct Only {
        #[command(flatten)]
        slots: Slots,
    }

    fn applied(options: &[&str], rule: NoticeRule) -> Result<NoticeRule, Fault> {
        let given = std::iter::once("x").chain(options.iter().copied());
        Only::try_parse_from(given).unwrap().slots.apply(rule)
    }

    #[test]
    fn what_is_given_takes_the_place_of_what_was_and_all_else_stays() {
        let rule = applied(
            &[
                "--when",
                "new,returned",
                "--tell",
                "owner",
                "--by",
                "mail,ops-room",
                "--at-most-every",
                "1h",
                "--not",
                "22:00-06:00",
                "--zone",
                "Europe/Oslo",
                "--pass-on-after",
                "30m",
                "--pass-on-to",
                "deck team",
            ],
            NoticeRule::default(),
        )
        .unwrap();
        assert_eq!((rule.when.len(), rule.at_most_every_minutes), (2, Some(60)));
        assert_eq!(rule.pass_on.as_ref().map(|pass_on| pass_on.after_minutes), Some(30));
        let changed = applied(&["--except", "uncaught", "--by", "browser"], rule.clone()).unwrap();
        let not = changed.not.clone().unwrap();
        assert_eq!(
            (not.from.as_str(), not.zone.as_deref(), not.except.as_deref()),
            ("22:00", Some("Europe/Oslo"), Some("uncaught"))
        );
        assert_eq!(
            (changed.by.as_slice(), changed.tell.clone()),
            (&["browser".to_owned()][..], rule.tell)
        );
        let less = without(changed, &["not".to_owned(), "pass-on".to_owned()]).unwrap();
        assert!(less.not.is_none() && less.pass_on.is_none() && less.at_most_every_minutes.is_some());
    }

    #[test]
    fn a_rule_of_log_lines_waits_for_one_line() {
        let rule = applied(
            &["--when", "log-line", "--where", "message contains ice"],
            NoticeRule::default(),
        )
        .unwrap();
        assert_eq!(
            rule.threshold,
            Some(Threshold {
                metric: None,
                of: "log-lines".to_owned(),
                above: 0.0,
                minutes: 1
            })
        );
        let over = applied(&["--when", "over", "--above", "50"], NoticeRule::default()).unwrap();
        assert_eq!(
            over.threshold,
            Some(Threshold {
                metric: None,
                of: "occurrences".to_owned(),
                above: 50.0,
                minutes: 10
            })
        );
    }

    #[test]
    fn what_is_to_have_run_is_named_with_its_job_and_its_time() {
        let options = [
            "--when",
            "silent",
            "--run-of",
            "ledger/settle ports",
            "--run-by",
            "02:30 Europe/Oslo",
        ];
        let expected = applied(&options, NoticeRule::default()).unwrap().expected.unwrap();
        assert_eq!(
            (expected.service.as_str(), expected.endpoint.as_deref()),
            ("ledger", Some("settle ports"))
        );
        assert_eq!(
            (expected.by.as_str(), expected.zone.as_deref()),
            ("02:30", Some("Europe/Oslo"))
        );
    }

    #[rstest]
    #[case(&["--not", "at night"], "--not is `at night`")]
    #[case(&["--zone", "UTC"], "belong to --not")]
    #[case(&["--at-most-every", "soon"], "--at-most-every is `soon`")]
    #[case(&["--within", "900000000000h"], "too long")]
    fn what_cannot_be_read_is_said_with_its_option(#[case] options: &[&str], #[case] said: &str) {
        let fault = applied(options, NoticeRule::default()).unwrap_err().to_string();
        assert!(fault.contains(said), "{fault}");
        assert!(without(NoticeRule::default(), &["by".to_owned()]).is_err());
    }
}
