//! `outcrop question`: questions saved under a name.

use chrono::Utc;
use clap::Subcommand;
use outcrop_api::{NewSavedQuestion, SavedQuestion, SavedQuestionList};
use outcrop_core::text::printable;
use reqwest::Method;

use super::ask::saved_path;
use crate::client::{Api, Client};
use crate::fault::Fault;
use crate::output::{Column, Fit, counted, json, line, since, table};

#[derive(Subcommand)]
pub enum QuestionCommand {
    /// List the saved questions.
    List,
    /// Save a question under a new name, or change one of yours.
    #[command(after_help = "Examples:\n  \
            outcrop question save 'Errors by type' 'count, users of occurrences by type over 7d'\n  \
            outcrop question save 'Errors by type' 'count of occurrences by type over 30d' --change\n\n\
            Ask it: outcrop ask --saved 'Errors by type'")]
    Save {
        /// The name.
        name: String,
        /// The question.
        question: String,
        /// What it is for.
        #[arg(long, value_name = "TEXT", default_value = "")]
        description: String,
        /// Change the question that you saved under this name.
        #[arg(long)]
        change: bool,
    },
    /// Show a saved question, and what it was before.
    Show {
        /// The name.
        name: String,
    },
    /// Remove a question that you saved; admins remove anybody's.
    Remove {
        /// The name.
        name: String,
    },
}

pub async fn question(command: QuestionCommand, client: Client) -> Result<(), Fault> {
    let api = Api::new(&client)?;
    match command {
        QuestionCommand::List => list(&api, client.json).await,
        QuestionCommand::Save {
            name,
            question,
            description,
            change,
        } => {
            let version = if change {
                Some(api.get::<SavedQuestion>(&saved_path(&name), &[]).await?.version)
            } else {
                None
            };
            let new = NewSavedQuestion {
                question,
                description,
                version,
            };
            let saved: SavedQuestion = api.put(&saved_path(&name), &new).await?;
            if client.json {
                return json(&saved);
            }
            line(printable(&format!(
                "Saved as version {}. Ask it: outcrop ask --saved '{}'",
                saved.version,
                saved.name.replace('\'', "'\\''")
            )))
        }
        QuestionCommand::Show { name } => {
            let saved: SavedQuestion = api.get(&saved_path(&name), &[]).await?;
            if client.json {
                return json(&saved);
            }
            show(&saved)
        }
        QuestionCommand::Remove { name } => {
            api.send(Method::DELETE, &saved_path(&name), None::<&()>).await?;
            line(printable(&format!("The question {name} is removed.")))
        }
    }
}

async fn list(api: &Api, as_json: bool) -> Result<(), Fault> {
    let list: SavedQuestionList = api.get("/questions", &[]).await?;
    if as_json {
        return json(&list);
    }
    if list.items.is_empty() {
        return line("No question is saved. outcrop question save NAME QUESTION");
    }
    let count = i64::try_from(list.items.len()).unwrap_or_default();
    line(counted(count, "saved question", "saved questions"))?;
    let columns = [
        Column("name", Fit::Text(16)),
        Column("question", Fit::Text(30)),
        Column("owner", Fit::Text(12)),
    ];
    let rows = list.items.into_iter();
    table(&columns, rows.map(|item| vec![item.name, item.question, item.owner]))
}

fn show(saved: &SavedQuestion) -> Result<(), Fault> {
    line(printable(&saved.name))?;
    if !saved.description.is_empty() {
        line(printable(&saved.description))?;
    }
    line(printable(&saved.question))?;
    line(printable(&format!(
        "version {} of {}, saved {}",
        saved.version,
        saved.owner,
        since(saved.changed_at, Utc::now())
    )))?;
    if saved.before.is_empty() {
        return Ok(());
    }
    line("\nBefore:")?;
    let columns = [
        Column("version", Fit::Number),
        Column("saved", Fit::Whole),
        Column("question", Fit::Text(40)),
    ];
    let row = |before: &outcrop_api::SavedQuestionBefore| {
        let saved = since(before.changed_at, Utc::now());
        vec![before.version.to_string(), saved, before.question.clone()]
    };
    table(&columns, saved.before.iter().map(row))
}
