//! Why an error is there.

use clap::Args;
use outcrop_api;
use outcrop_core::text::printable;

use crate::client::{Api, Client};
use crate::fault::Fault;
use crate::output::{json, line};

#[derive(Args)]
#[command(after_help = "Example:\n  outcrop why kobal-tirun")]
pub struct Why {
    /// The error's reference.
    #[arg(value_name = "REF")]
    pub reference: String,
    #[command(flatten)]
    pub client: Client,
}

pub async fn run(arguments: Why) -> Result<(), Fault> {
    let why: outcrop_api::Why = Api::new(&arguments.client)?
        .get(&format!("/errors/{}/why", arguments.reference), &[])
        .await?;
    if arguments.client.json {
        return json(&why);
    }
    for (at, sentence) in why.sentences.iter().enumerate() {
        let reference = sentence
            .reference
            .as_ref()
            .map(|reference| format!(" [{reference}]"))
            .unwrap_or_default();
        line(printable(&format!("{}. {}{reference}", at + 1, sentence.text)))?;
    }
    for touch in why.touches.iter().skip(1).take(4) {
        let id = touch.commit.get(..10).unwrap_or(&touch.commit);
        line(printable(&format!(
            "   also near: {id} {} “{}” at {}:{}",
            touch.author, touch.summary, touch.path, touch.line
        )))?;
    }
    if !why.owners.is_empty() {
        line(printable(&format!("The code is owned by {}.", why.owners.join(", "))))?;
    }
    if !why.steps.is_empty() {
        line("")?;
        line("Next:")?;
    }
    for step in &why.steps {
        line(printable(&format!("  {}", step.text)))?;
        if let Some(how) = step.command.as_ref().or(step.link.as_ref()) {
            line(printable(&format!("    {how}")))?;
        }
    }
    Ok(())
}
