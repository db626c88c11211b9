//! `outcrop notice`: rules, ways, how you want to be told, and what was sent.

mod sent;
mod slots;
mod ways;
mod wishes;

use clap::Subcommand;
use outcrop_api::{NoticeList, NoticeRule, NoticeRuleItem, NoticeRuleList, NoticeTrial, NoticeTrialResult};
use outcrop_core::text::printable;
use reqwest::Method;

use self::sent::Sent;
use self::slots::Slots;
use self::ways::WayCommand;
use self::wishes::SetWishes;
use crate::client::{Api, Client};
use crate::fault::Fault;
use crate::output::{Column, Fit, counted, json, line, table, time};

#[derive(Subcommand)]
pub enum NoticeCommand {
    /// List the rules: whom they tell of what, by which ways.
    List,
    /// Show a rule in full.
    Show {
        /// Its name or number.
        rule: String,
    },
    /// Make a rule, and switch it on; `--dry-run` says what it would have sent.
    #[command(
        after_help = "Examples:\n  outcrop notice add 'Fares' --when new,returned --environment production --where 'service = \
            fares' \\\n      --tell owner --by mail --at-most-every 1h --not 22:00-06:00 --zone Europe/Oslo --except \
            uncaught\n  outcrop notice add 'Timeouts' --when over --of occurrences --above 50 --within 10m \\\n      --where \
            'kind = timeout' --by ops-room --dry-run\n  outcrop notice add 'Ice' --when log-line --where 'message contains \
            ice' --by ops-room\n  outcrop notice add 'Settlement' --when silent --run-of ledger/settle --run-by '02:30 \
            Europe/Oslo' --by ops-room\n\nWhat can happen: new, surging, returned, back-to-normal, deploy-flagged, deploy-clear,\
            \ndeploy-too-early, endpoint-failing, endpoint-slow, silent, over, log-line."
    )]
    Add {
        /// Its name.
        name: String,
        #[command(flatten)]
        slots: Box<Slots>,
        /// Make it without switching it on.
        #[arg(long)]
        off: bool,
        /// Say what it would have sent over the past week; make nothing.
        #[arg(long, conflicts_with = "off")]
        dry_run: bool,
    },
    /// Change parts of a rule; what is not given stays.
    #[command(after_help = "Example:\n  outcrop notice change Fares --at-most-every 4h --rename 'Fares, calm'")]
    Change {
        /// Its name or number.
        rule: String,
        #[command(flatten)]
        slots: Box<Slots>,
        /// Give it another name.
        #[arg(long, value_name = "NAME")]
        rename: Option<String>,
        /// Take away a part: environment, where, otherwise, at-most-every, not, pass-on, text, runbook; may be given
        /// several times.
        #[arg(long, value_name = "PART", value_delimiter = ',')]
        without: Vec<String>,
    },
    /// Say what a rule would have sent over the past week.
    #[command(after_help = "Example:\n  outcrop notice try Fares --days 3")]
    Try {
        /// Its name or number.
        rule: String,
        /// Days to look back, 1 to 7.
        #[arg(long, value_name = "N", default_value_t = 7)]
        days: u32,
    },
    /// Switch a rule on.
    On {
        /// Its name or number.
        rule: String,
    },
    /// Switch a rule off; it stays.
    Off {
        /// Its name or number.
        rule: String,
    },
    /// Send a test of a rule: by mail and browser to you, by its other ways as they are.
    Test {
        /// Its name or number.
        rule: String,
    },
    /// Remove a rule. What it sent stays on record.
    Remove {
        /// Its name or number.
        rule: String,
    },
    /// List what was sent to whom, when, why, and what was answered.
    Sent(Sent),
    /// Send a notice again that was given up.
    Again {
        /// Its number, as `outcrop notice sent` says it.
        id: i64,
    },
    /// Ways that go to no single person: chats and webhooks.
    Way {
        #[command(subcommand)]
        command: WayCommand,
    },
    /// Show, and set, how you want to be told: how soon, of what, at which hours.
    Wishes(SetWishes),
}

pub async fn run(command: NoticeCommand, client: Client) -> Result<(), Fault> {
    let api = Api::new(&client)?;
    match command {
        NoticeCommand::List => {
            let list: NoticeRuleList = api.get("/notice-rules", &[]).await?;
            if client.json { json(&list) } else { show_all(list) }
        }
        NoticeCommand::Show { rule } => {
            let item = named(&api, &rule).await?;
            if client.json { json(&item) } else { show(&item) }
        }
        NoticeCommand::Add {
            name,
            slots,
            off,
            dry_run,
        } => {
            let rule = slots.apply(NoticeRule {
                name,
                is_on: !off,
                ..NoticeRule::default()
            })?;
            if dry_run {
                return try_out(&api, rule, 7, client.json).await;
            }
            let made: NoticeRuleItem = api.post("/notice-rules", &[], &rule).await?;
            said(&made, client.json)
        }
        NoticeCommand::Change {
            rule,
            slots,
            rename,
            without,
        } => {
            let item = named(&api, &rule).await?;
            let mut changed = slots.apply(slots::without(item.rule, &without)?)?;
            changed.name = rename.unwrap_or(changed.name);
            put(&api, item.id, &changed, client.json).await
        }
        NoticeCommand::Try { rule, days } => {
            let item = named(&api, &rule).await?;
            try_out(&api, item.rule, days, client.json).await
        }
        NoticeCommand::On { rule } => switch(&api, &rule, true, client.json).await,
        NoticeCommand::Off { rule } => switch(&api, &rule, false, client.json).await,
        NoticeCommand::Test { rule } => {
            let item = named(&api, &rule).await?;
            let path = format!("/notice-rules/{}/test", item.id);
            let sent: NoticeList = api.post(&path, &[], &serde_json::json!({})).await?;
            if client.json {
                return json(&sent);
            }
            for notice in &sent.items {
                let to = if notice.to.is_empty() {
                    String::new()
                } else {
                    format!(" to {}", notice.to)
                };
                line(printable(&format!("notice {}: by {}{to}", notice.id, notice.way)))?;
            }
            line("What is answered is listed by: outcrop notice sent")
        }
        NoticeCommand::Remove { rule } => {
            let item = named(&api, &rule).await?;
            api.send(Method::DELETE, &format!("/notice-rules/{}", item.id), None::<&()>)
                .await?;
            line(printable(&format!("{} is removed", item.rule.name)))
        }
        NoticeCommand::Sent(asked) => sent::run(&api, &asked, client.json).await,
        NoticeCommand::Again { id } => {
            api.send(Method::POST, &format!("/notices/{id}/again"), None::<&()>)
                .await?;
            line(format!("notice {id} is sent again"))
        }
        NoticeCommand::Way { command } => ways::run(&api, command, client.json).await,
        NoticeCommand::Wishes(set) => wishes::run(&api, set, client.json).await,
    }
}

/// The rule of a name or number.
async fn named(api: &Api, asked: &str) -> Result<NoticeRuleItem, Fault> {
    let list: NoticeRuleList = api.get("/notice-rules", &[]).await?;
    let number = asked.parse::<i32>().ok();
    let mut items = list.items.into_iter();
    let found = items.find(|item| item.rule.name.eq_ignore_ascii_case(asked) || Some(item.id) == number);
    found.ok_or_else(|| {
        Fault::Refused(format!(
            "there is no notice rule `{asked}`; outcrop notice list shows them"
        ))
    })
}

async fn switch(api: &Api, asked: &str, is_on: bool, as_json: bool) -> Result<(), Fault> {
    let item = named(api, asked).await?;
    let rule = NoticeRule { is_on, ..item.rule };
    put(api, item.id, &rule, as_json).await
}

async fn put(api: &Api, id: i32, rule: &NoticeRule, as_json: bool) -> Result<(), Fault> {
    let changed: NoticeRuleItem = api.put(&format!("/notice-rules/{id}"), rule).await?;
    said(&changed, as_json)
}

/// What a rule is now.
fn said(item: &NoticeRuleItem, as_json: bool) -> Result<(), Fault> {
    if as_json {
        return json(item);
    }
    let state = if item.rule.is_on { "on" } else { "off" };
    line(printable(&format!("{} is {state}: {}", item.rule.name, item.sentence)))?;
    troubles(&item.troubles)
}

fn troubles(troubles: &[String]) -> Result<(), Fault> {
    for trouble in troubles {
        line(printable(&format!("! {trouble}")))?;
    }
    Ok(())
}

fn show_all(list: NoticeRuleList) -> Result<(), Fault> {
    if list.items.is_empty() {
        return line("There are no notice rules: nobody is told of anything. Make one: outcrop notice add --help");
    }
    let off = list.items.iter().filter(|item| !item.rule.is_on).count();
    let rules = counted(i64::try_from(list.items.len()).unwrap_or_default(), "rule", "rules");
    line(format!("{rules}, {off} of them off."))?;
    line("")?;
    let columns = [
        Column("no.", Fit::Number),
        Column("name", Fit::Text(10)),
        Column("", Fit::Whole),
        Column("what it does", Fit::Text(30)),
        Column("sent, 7 days", Fit::Number),
    ];
    let wrong: Vec<String> = list
        .items
        .iter()
        .flat_map(|item| {
            item.troubles
                .iter()
                .map(|trouble| format!("{}: {trouble}", item.rule.name))
        })
        .collect();
    table(
        &columns,
        list.items.into_iter().map(|item| {
            vec![
                item.id.to_string(),
                item.rule.name,
                if item.rule.is_on { "on" } else { "off" }.to_owned(),
                item.sentence,
                item.sent.to_string(),
            ]
        }),
    )?;
    if !wrong.is_empty() {
        line("")?;
    }
    troubles(&wrong)
}

fn show(item: &NoticeRuleItem) -> Result<(), Fault> {
    said(item, false)?;
    for (what, text) in [("What to do", &item.rule.text), ("Runbook", &item.rule.runbook)] {
        if let Some(text) = text {
            line(printable(&format!("{what}: {text}")))?;
        }
    }
    line(printable(&format!(
        "{} sent in the last 7 days; changed last by {} at {}",
        counted(item.sent, "notice", "notices"),
        item.by,
        time(item.at)
    )))
}

async fn try_out(api: &Api, rule: NoticeRule, days: u32, as_json: bool) -> Result<(), Fault> {
    let trial = NoticeTrial { rule, days: Some(days) };
    let result: NoticeTrialResult = api.post("/notice-rules/try", &[], &trial).await?;
    if as_json {
        return json(&result);
    }
    line(printable(&result.sentence))?;
    line(&result.answer)?;
    troubles(&result.troubles)?;
    if result.items.is_empty() {
        return line(format!(
            "{} were looked at.",
            counted(i64::try_from(result.events).unwrap_or_default(), "event", "events")
        ));
    }
    line("")?;
    let columns = [
        Column("at", Fit::Whole),
        Column("by", Fit::Whole),
        Column("to", Fit::Text(10)),
        Column("what it is about", Fit::Text(30)),
    ];
    let listed = result.items.len();
    table(
        &columns,
        result
            .items
            .into_iter()
            .map(|notice| vec![time(notice.at), notice.ways.join(", "), notice.to, notice.subject]),
    )?;
    if listed < result.count {
        line(format!("\nThe newest {listed} of {}.", result.count))?;
    }
    Ok(())
}
