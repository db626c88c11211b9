//! What is removed before anything is stored.

use chrono::Utc;
use outcrop_api::{MadeScrubRule, NewScrubRule, ScrubRuleList, ScrubTrial, ScrubbedText};
use outcrop_core::text::printable;
use reqwest::Method;

use crate::args::{Client, ScrubRule, Scrubbing};
use crate::client::Api;
use crate::fault::Fault;
use crate::output::{Column, Fit, ago, counted, json, line, table};

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
