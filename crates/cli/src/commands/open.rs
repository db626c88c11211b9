//! `outcrop open`: opens in the browser whatever was pasted.

use clap::Args;
use outcrop_api::FoundPage;

use crate::client::{Api, Client};
use crate::fault::Fault;
use crate::output::{json, line};

#[derive(Args)]
#[command(
    after_help = "Examples:\n  outcrop open kobal-tirun\n  outcrop open 4bf92f3577b34da6a3ce929d0e0e4736\n  outcrop \
        open --print 'fares answered 500'"
)]
pub struct Open {
    /// A reference, an occurrence, a trace or request id, a version, a file, a log line: what `outcrop find` takes.
    #[arg(value_name = "TEXT")]
    pub text: String,
    /// Print the address rather than opening it.
    #[arg(long)]
    pub print: bool,
    #[command(flatten)]
    pub client: Client,
}

pub async fn run(arguments: Open) -> Result<(), Fault> {
    let api = Api::new(&arguments.client)?;
    let page: FoundPage = api.get("/find", &[("text", Some(arguments.text.clone()))]).await?;
    let Some(first) = page.items.first() else {
        return Err(Fault::Usage(format!(
            "nothing known holds `{}`; `outcrop find` says where it looks",
            arguments.text
        )));
    };
    let address = format!("{}{}", api.url(), first.path);
    if arguments.client.json {
        return json(&serde_json::json!({"url": address, "title": first.title, "by": first.by}));
    }
    // Without a browser at hand the address is what is left.
    if !arguments.print && open::that_detached(&address).is_ok() {
        line(format!("Opened {}: {address}", first.title))
    } else {
        line(address)
    }
}
