//! Who owns what.

use clap::Subcommand;
use outcrop_api::{NewOwnerRule, OwnerList, OwnerRuleItem, ServiceOwner};
use outcrop_core::text::printable;
use reqwest::Method;

use crate::client::{Api, Client};
use crate::fault::Fault;
use crate::output::{Column, Fit, counted, json, line, table};

#[derive(Subcommand)]
pub enum OwnerCommand {
    /// List who owns which service, the rules, and what nobody owns.
    List,
    /// Say who owns something. What is named must all fit; a rule that names nothing is of what nobody else owns.
    #[command(
        after_help = "Examples:\n  outcrop owner add 'tariff desk' --service fares --hand-over\n  outcrop owner add 'tariff \
            desk' --service fares --path 'app/tariff/**'\n  outcrop owner add mate@skerry.example --where 'status = \
            503'\n  outcrop owner add 'deck team' --hand-over      what nobody else owns"
    )]
    Add {
        /// A team's name, or a member's address.
        owner: String,
        /// A service.
        #[arg(long, value_name = "S")]
        service: Option<String>,
        /// A namespace.
        #[arg(long, value_name = "N")]
        namespace: Option<String>,
        /// A pattern of paths in the repository, as CODEOWNERS has them.
        #[arg(long, value_name = "PATTERN")]
        path: Option<String>,
        /// A predicate.
        #[arg(long = "where", value_name = "PREDICATE")]
        predicate: Option<String>,
        /// New errors go to the owner by themselves.
        #[arg(long)]
        hand_over: bool,
        /// New errors get a ticket by themselves, as an admin set it up.
        #[arg(long)]
        make_ticket: bool,
    },
    /// Remove a rule, by its number.
    Remove {
        /// Its number, as `outcrop owner list` says it.
        id: i32,
    },
}

pub async fn run(command: OwnerCommand, client: Client) -> Result<(), Fault> {
    let api = Api::new(&client)?;
    match command {
        OwnerCommand::List => {
            let list: OwnerList = api.get("/owners", &[]).await?;
            if client.json { json(&list) } else { show(list) }
        }
        OwnerCommand::Add {
            owner,
            service,
            namespace,
            path,
            predicate,
            hand_over,
            make_ticket,
        } => {
            let rule = NewOwnerRule {
                owner,
                service,
                namespace,
                path,
                predicate,
                hand_over,
                make_ticket,
            };
            api.send(Method::POST, "/owners", Some(&rule)).await?;
            line(printable(&format!("{} owns it", rule.owner)))
        }
        OwnerCommand::Remove { id } => {
            api.send(Method::DELETE, &format!("/owners/{id}"), None::<&()>).await?;
            line(format!("rule {id} is removed"))
        }
    }
}

fn show(list: OwnerList) -> Result<(), Fault> {
    let left = list.services.iter().filter(|service| service.owner.is_none()).count();
    if left > 0 {
        let left = counted(i64::try_from(left).unwrap_or_default(), "service", "services");
        line(format!("Nobody owns {left}."))?;
        line("")?;
    }
    let columns = [
        Column("service", Fit::Whole),
        Column("owner", Fit::Text(12)),
        Column("why", Fit::Text(12)),
        Column("errors, 24 h", Fit::Number),
        Column("of these nobody's", Fit::Text(11)),
    ];
    table(&columns, list.services.into_iter().map(row))?;
    for rule in list.rules {
        line(printable(&said(&rule)))?;
    }
    Ok(())
}

fn row(service: ServiceOwner) -> Vec<String> {
    vec![
        service.service,
        service.owner.unwrap_or_else(|| "nobody".to_owned()),
        service.because.unwrap_or_default(),
        service.errors.to_string(),
        service.ownerless.join(" "),
    ]
}

fn said(rule: &OwnerRuleItem) -> String {
    let by_itself = match (rule.rule.hand_over, rule.rule.make_ticket) {
        (true, true) => ", and is handed new errors, each with a ticket",
        (true, false) => ", and is handed new errors",
        (false, true) => "; new errors get a ticket",
        (false, false) => "",
    };
    format!("rule {}: {} owns {}{by_itself}", rule.id, rule.rule.owner, rule.about)
}

#[cfg(test)]
mod tests {
    use chrono::DateTime;

    use super::*;

    #[test]
    fn a_rule_is_said_with_its_number() {
        let rule = OwnerRuleItem {
            id: 7,
            rule: NewOwnerRule {
                owner: "tariff desk".to_owned(),
                hand_over: true,
                ..NewOwnerRule::default()
            },
            about: "fares".to_owned(),
            by: "purser@skerry.example".to_owned(),
            at: DateTime::UNIX_EPOCH,
        };
        assert_eq!(said(&rule), "rule 7: tariff desk owns fares, and is handed new errors");
    }
}
