//! Taking, settling, quieting, reopening errors, and notes on them.

use chrono::{TimeDelta, Utc};
use clap::Args;
use outcrop_api::{HandlingAction, HandlingList, HandlingOfMany, HandlingState, UndoneHandling, settled_in_words};
use outcrop_core::text::printable;

use crate::client::{Api, Client};
use crate::fault::Fault;
use crate::output::{json, line};

#[derive(Args)]
#[command(
    after_help = "Examples:\n  outcrop take kobal-tirun\n  outcrop take kobal-tirun 'deck team'\n  outcrop take \
        kobal-tirun --back"
)]
pub struct Take {
    /// The error's reference.
    #[arg(value_name = "REF")]
    pub reference: String,
    /// A person or team; yourself where not given.
    #[arg(value_name = "WHO")]
    pub who: Option<String>,
    /// Hand it back: nobody has it any more.
    #[arg(long, conflicts_with = "who")]
    pub back: bool,
    /// Other errors about which the same is done; may be given several times.
    #[arg(long, value_name = "REF")]
    pub also: Vec<String>,
    #[command(flatten)]
    pub client: Client,
}

#[derive(Args)]
#[command(
    after_help = "Examples:\n  outcrop settle kobal-tirun 2.4.1           it must not occur in 2.4.1 or later; where it \
        does, it is said to have returned\n  outcrop settle kobal-tirun --by 3f2a1c9    from the first deploy on that \
        holds this commit\n  outcrop settle kobal-tirun --now           from now on: for services without \
        versions, and what was mended outside the code"
)]
pub struct Settle {
    /// The error's reference.
    #[arg(value_name = "REF")]
    pub reference: String,
    /// The version from which on it must not occur; it need not be deployed yet.
    #[arg(value_name = "VERSION", required_unless_present_any = ["by", "now"])]
    pub version: Option<String>,
    /// The commit that mends it, 7 digits of its id or more: it must not occur from the first deploy on that holds it.
    #[arg(long, value_name = "COMMIT", conflicts_with_all = ["version", "now"])]
    pub by: Option<String>,
    /// It must not occur from now on, whatever the version.
    #[arg(long, conflicts_with = "version")]
    pub now: bool,
    /// Other errors about which the same is done; may be given several times.
    #[arg(long, value_name = "REF")]
    pub also: Vec<String>,
    #[command(flatten)]
    pub client: Client,
}

#[derive(Args)]
#[command(
    after_help = "Examples:\n  outcrop quiet kobal-tirun --for 2d\n  outcrop quiet kobal-tirun --until-where 'users > \
        50'"
)]
pub struct Quiet {
    /// The error's reference.
    #[arg(value_name = "REF")]
    pub reference: String,
    /// For how long.
    #[arg(long = "for", value_name = "TIME", required_unless_present = "predicate")]
    pub time: Option<String>,
    /// Until this predicate holds for what occurs from now on.
    #[arg(long = "until-where", value_name = "PREDICATE", conflicts_with = "time")]
    pub predicate: Option<String>,
    /// Other errors about which the same is done; may be given several times.
    #[arg(long, value_name = "REF")]
    pub also: Vec<String>,
    #[command(flatten)]
    pub client: Client,
}

#[derive(Args)]
#[command(after_help = "Example:\n  outcrop reopen kobal-tirun")]
pub struct Reopen {
    /// The error's reference.
    #[arg(value_name = "REF")]
    pub reference: String,
    /// Other errors about which the same is done; may be given several times.
    #[arg(long, value_name = "REF")]
    pub also: Vec<String>,
    #[command(flatten)]
    pub client: Client,
}

#[derive(Args)]
#[command(after_help = "Example:\n  outcrop undo kobal-tirun      it is handled as before what was done last")]
pub struct Undo {
    /// The error's reference.
    #[arg(value_name = "REF")]
    pub reference: String,
    #[command(flatten)]
    pub client: Client,
}

#[derive(Args)]
#[command(after_help = "Example:\n  outcrop note kobal-tirun 'winter tariffs have no rate: asked the tariff desk'")]
pub struct Note {
    /// The error's reference.
    #[arg(value_name = "REF")]
    pub reference: String,
    /// What is worth knowing.
    #[arg(value_name = "TEXT")]
    pub text: String,
    #[command(flatten)]
    pub client: Client,
}

pub async fn take(arguments: Take) -> Result<(), Fault> {
    let action = if arguments.back {
        HandlingAction::HandBack
    } else {
        HandlingAction::Take { by: arguments.who }
    };
    act(&arguments.client, &arguments.reference, &arguments.also, action).await
}

pub async fn settle(arguments: Settle) -> Result<(), Fault> {
    act(
        &arguments.client,
        &arguments.reference,
        &arguments.also,
        HandlingAction::Settle {
            version: arguments.version,
            commit: arguments.by,
            now: arguments.now,
        },
    )
    .await
}

pub async fn quiet(arguments: Quiet) -> Result<(), Fault> {
    let until = arguments
        .time
        .map(|text| {
            let time = humantime::parse_duration(&text)
                .map_err(|error| Fault::Usage(format!("--for {text}: {error}; write it like 2d")))?;
            Ok::<_, Fault>(
                Utc::now()
                    + TimeDelta::from_std(time).map_err(|error| Fault::Usage(format!("--for {text}: {error}")))?,
            )
        })
        .transpose()?;
    act(
        &arguments.client,
        &arguments.reference,
        &arguments.also,
        HandlingAction::Quiet {
            until,
            predicate: arguments.predicate,
        },
    )
    .await
}

pub async fn reopen(arguments: Reopen) -> Result<(), Fault> {
    act(
        &arguments.client,
        &arguments.reference,
        &arguments.also,
        HandlingAction::Reopen,
    )
    .await
}

pub async fn note(arguments: Note) -> Result<(), Fault> {
    act(
        &arguments.client,
        &arguments.reference,
        &[],
        HandlingAction::Note { text: arguments.text },
    )
    .await
}

/// Undoes what was done last, as it stands now: where somebody does something meanwhile, nothing is undone.
pub async fn undo(arguments: Undo) -> Result<(), Fault> {
    let api = Api::new(&arguments.client)?;
    let path = format!("/errors/{}/handling", arguments.reference);
    let now: HandlingState = api.get(&path, &[]).await?;
    let Some(change) = now.last_change.filter(|_| now.can_be_undone) else {
        return Err(Fault::Refused(format!(
            "nothing was done about {} that could be undone",
            now.reference
        )));
    };
    let state: HandlingState = api
        .post(&format!("{path}/undo"), &[], &UndoneHandling { change })
        .await?;
    if arguments.client.json {
        return json(&state);
    }
    print(&state)
}

async fn act(client: &Client, reference: &str, also: &[String], action: HandlingAction) -> Result<(), Fault> {
    let api = Api::new(client)?;
    if also.is_empty() {
        let path = format!("/errors/{reference}/handling");
        let state: HandlingState = api.post(&path, &[], &action).await?;
        return if client.json { json(&state) } else { print(&state) };
    }
    let errors = std::iter::once(reference.to_owned())
        .chain(also.iter().cloned())
        .collect();
    let done: HandlingList = api.post("/handling", &[], &HandlingOfMany { errors, action }).await?;
    if client.json {
        return json(&done);
    }
    done.items.iter().try_for_each(print)
}

/// Prints how an error is handled: the facts, to whom it may be handed where nobody has it, and whether it is gone.
pub fn print(state: &HandlingState) -> Result<(), Fault> {
    let facts: Vec<String> = [
        state.taken_by.as_ref().map(|who| format!("taken by {who}")),
        settled_in_words(
            state.settled_in.as_deref(),
            state.settled_by.as_deref(),
            state.settled_from,
        ),
        state.quiet_until.as_ref().map(|until| format!("quiet until {until}")),
        state.open.then(|| "open".to_owned()),
    ]
    .into_iter()
    .flatten()
    .collect();
    line(printable(&format!("{}: {}.", state.reference, facts.join(", "))))?;
    if let Some(ticket) = &state.ticket {
        let told = ticket
            .state
            .as_ref()
            .map(|state| format!(", {state}"))
            .unwrap_or_default();
        line(printable(&format!("Ticket: {}{told}", ticket.link)))?;
    }
    for proposal in &state.proposals {
        line(printable(&format!(
            "{} {}; hand it over: outcrop take {} '{}'",
            proposal.to, proposal.because, state.reference, proposal.to
        )))?;
    }
    state
        .verdict
        .as_ref()
        .map_or(Ok(()), |verdict| line(printable(&verdict.sentence)))
}
