//! What is removed before anything is stored.

use chrono::Utc;
use clap::{Args, Subcommand};
use outcrop_api::{MadeScrubRule, NewScrubRule, ScrubRuleList, ScrubTrial, ScrubbedText};
use outcrop_core::text::printable;
use reqwest::Method;

use crate::client::{Api, Client};
use crate::fault::Fault;
use crate::output::{Column, Fit, ago, counted, json, line, table};

#[derive(Subcommand)]
pub enum Scrubbing {
    /// Remove values by name: `passport number` finds `passportNumber`, `PASSPORT_NUMBER`, `skerry.passport-number`.
    #[command(after_help = "Example:\n  outcrop scrubbing remove 'passport number' --service boarding")]
    Remove {
        /// The words that the name ends with.
        name: String,
        #[command(flatten)]
        rule: ScrubRule,
    },
    /// Keep values by name, though a built-in name says otherwise.
    #[command(after_help = "Example:\n  outcrop scrubbing keep client.address --service gangway")]
    Keep {
        /// The words that the name ends with.
        name: String,
        /// The service it is for; without it, all.
        #[arg(long)]
        service: Option<String>,
    },
    /// Remove what a regular expression finds, in any text.
    #[command(
        after_help = "Example:\n  outcrop scrubbing shape 'SK-[0-9]{8}' --reason 'booking code' --service berths"
    )]
    Shape {
        /// The regular expression.
        expression: String,
        #[command(flatten)]
        rule: ScrubRule,
    },
    /// End a rule: what comes from now on is scrubbed without it.
    End {
        /// The rule's number.
        id: i64,
    },
    /// Show what would be stored of a text, read from standard input.
    #[command(
        after_help = "Example:\n  echo 'no berth for SK-20260001' | outcrop scrubbing try --service berths --shape \
            'SK-[0-9]{8}'"
    )]
    Try {
        /// The service whose rules hold; without it, those for all.
        #[arg(long)]
        service: Option<String>,
        /// Try this name as well.
        #[arg(long, value_name = "NAME", conflicts_with = "shape")]
        remove: Option<String>,
        /// Try this regular expression as well.
        #[arg(long, value_name = "REGEX")]
        shape: Option<String>,
    },
}

#[derive(Args)]
pub struct ScrubRule {
    /// The service it is for; without it, all.
    #[arg(long)]
    pub service: Option<String>,
    /// What the mark says in the place of the value [default: the name].
    #[arg(long)]
    pub reason: Option<String>,
}

pub async fn run(command: Option<Scrubbing>, client: Client) -> Result<(), Fault> {
    let api = Api::new(&client)?;
    let rule = match command {
        None => {
            let list: ScrubRuleList = api.get("/scrubbing", &[]).await?;
            return if client.json { json(&list) } else { show(list) };
        }
        Some(Scrubbing::End { id }) => {
            api.send(Method::DELETE, &format!("/scrubbing/{id}"), None::<&()>)
                .await?;
            return line(format!(
                "Rule {id} has ended: what comes from now on is scrubbed without it."
            ));
        }
        Some(Scrubbing::Try { service, remove, shape }) => {
            return attempt(&api, service, remove, shape, client.json).await;
        }
        Some(Scrubbing::Remove { name, rule }) => new_rule("remove", name, rule),
        Some(Scrubbing::Keep { name, service }) => new_rule("keep", name, ScrubRule { service, reason: None }),
        Some(Scrubbing::Shape { expression, rule }) => new_rule("shape", expression, rule),
    };
    let made: MadeScrubRule = api.post("/scrubbing", &[], &rule).await?;
    if client.json {
        return json(&made);
    }
    line(format!(
        "Rule {0} holds from now on; what is stored stays as it is. End it with `outcrop scrubbing end {0}`.",
        made.id
    ))
}

fn new_rule(verb: &str, what: String, ScrubRule { service, reason }: ScrubRule) -> NewScrubRule {
    NewScrubRule {
        service,
        verb: verb.to_owned(),
        what,
        reason,
    }
}

async fn attempt(
    api: &Api,
    service: Option<String>,
    remove: Option<String>,
    shape: Option<String>,
    as_json: bool,
) -> Result<(), Fault> {
    let text = std::io::read_to_string(std::io::stdin())
        .map_err(|error| Fault::Usage(format!("standard input cannot be read as text: {error}")))?;
    let rule = match (remove, shape) {
        (Some(name), _) => Some(("remove", name)),
        (None, Some(expression)) => Some(("shape", expression)),
        (None, None) => None,
    };
    let rule = rule.map(|(verb, what)| {
        new_rule(
            verb,
            what,
            ScrubRule {
                service: service.clone(),
                reason: None,
            },
        )
    });
    let scrubbed: ScrubbedText = api
        .post("/scrubbing/try", &[], &ScrubTrial { service, text, rule })
        .await?;
    if as_json {
        return json(&scrubbed);
    }
    let said = if scrubbed.changed {
        "It would be stored like this:"
    } else {
        "Nothing of it would be removed:"
    };
    line(format!("{said}\n\n{}", scrubbed.text.trim_end()))
}

fn show(list: ScrubRuleList) -> Result<(), Fault> {
    line(
        "Built in: passwords, secrets, tokens, keys, cookies, sessions, credentials, card numbers, client addresses, \
         e-mail addresses.",
    )?;
    if list.items.is_empty() {
        return line("Nobody has added a rule. outcrop scrubbing remove 'passport number' --service boarding");
    }
    let in_force = list.items.iter().filter(|item| item.ended_at.is_none()).count();
    line(format!(
        "{} in force beside that.",
        counted(i64::try_from(in_force).unwrap_or_default(), "rule is", "rules are")
    ))?;
    let columns = [
        Column("rule", Fit::Number),
        Column("service", Fit::Whole),
        Column("does", Fit::Whole),
        Column("what", Fit::Text(24)),
        Column("the mark says", Fit::Text(14)),
        Column("by", Fit::Text(10)),
        Column("state", Fit::Whole),
    ];
    let now = Utc::now();
    table(
        &columns,
        list.items.into_iter().map(|item| {
            let state = item
                .ended_at
                .map_or_else(|| "in force".to_owned(), |at| format!("ended {}", ago(at, now)));
            vec![
                item.id.to_string(),
                item.service.unwrap_or_else(|| "all".to_owned()),
                item.verb,
                printable(&item.what),
                item.reason,
                item.made_by,
                state,
            ]
        }),
    )
}
