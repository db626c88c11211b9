//! `outcrop sheet`: pages of questions and text, saved under a name.

use std::path::{Path, PathBuf};

use chrono::Utc;
use clap::Subcommand;
use outcrop_api::{Answer, MetricCourse, NewSheet, Sheet, SheetDocument, SheetList, SheetPart};
use outcrop_core::text::printable;
use reqwest::Method;

use super::ask::{print, window};
use crate::client::{Api, Client, segment};
use crate::fault::Fault;
use crate::output::{Column, Fit, counted, json, line, since, table};

#[derive(Subcommand)]
pub enum SheetCommand {
    /// List the sheets.
    List,
    /// Answer the questions of a sheet; of none that is saved, but of a service or a deploy, with --of.
    #[command(after_help = "Examples:\n  \
            outcrop sheet show 'Night watch'\n  \
            outcrop sheet show --of fares\n  \
            outcrop sheet show --of fares --version 5.0.0\n  \
            outcrop sheet show 'Night watch' --json > night-watch.json")]
    Show {
        /// The name of the sheet.
        #[arg(required_unless_present = "of")]
        name: Option<String>,
        /// The sheet that is made by itself of this service.
        #[arg(long, value_name = "SERVICE", conflicts_with = "name")]
        of: Option<String>,
        /// Of this version of it.
        #[arg(long, value_name = "VERSION", requires = "of")]
        version: Option<String>,
        /// Ask over this time up to now, instead of the sheet's.
        #[arg(long, value_name = "DURATION")]
        since: Option<String>,
    },
    /// Save a sheet under a new name, or change one of yours, from its JSON document.
    #[command(after_help = "Examples:\n  \
            outcrop sheet save 'Night watch' night-watch.json\n  \
            outcrop sheet save 'Night watch' night-watch.json --change\n\n\
            The document: docs/reference/sheets.md")]
    Save {
        /// The name.
        name: String,
        /// The file with the document, as `sheet show --json` prints it.
        file: PathBuf,
        /// Change the sheet that you saved under this name.
        #[arg(long)]
        change: bool,
    },
    /// Remove a sheet that you saved; admins remove anybody's.
    Remove {
        /// The name.
        name: String,
    },
}

pub async fn sheet(command: SheetCommand, client: Client) -> Result<(), Fault> {
    let api = Api::new(&client)?;
    match command {
        SheetCommand::List => list(&api, client.json).await,
        SheetCommand::Show {
            name,
            of,
            version,
            since,
        } => {
            let sheet: Sheet = match name {
                Some(name) => api.get(&path(&name), &[]).await?,
                None => api.get("/made-sheet", &[("service", of), ("version", version)]).await?,
            };
            if client.json {
                return json(&sheet.document);
            }
            show(&api, &sheet, since).await
        }
        SheetCommand::Save { name, file, change } => {
            let document = read(&file)?;
            let version = if change {
                Some(api.get::<Sheet>(&path(&name), &[]).await?.version)
            } else {
                None
            };
            let saved: Sheet = api.put(&path(&name), &NewSheet { document, version }).await?;
            if client.json {
                return json(&saved.document);
            }
            let parts = i64::try_from(saved.document.parts.len()).unwrap_or_default();
            let parts = counted(parts, "part", "parts");
            line(printable(&format!(
                "The sheet {} is saved as version {}, with {parts}.",
                saved.name, saved.version
            )))
        }
        SheetCommand::Remove { name } => {
            api.send(Method::DELETE, &path(&name), None::<&()>).await?;
            line(printable(&format!("The sheet {name} is removed.")))
        }
    }
}

fn path(name: &str) -> String {
    format!("/sheets/{}", segment(name))
}

/// Reads a document from a file.
///
/// # Errors
/// When it cannot be read, or is none: with the line and the column.
fn read(file: &Path) -> Result<SheetDocument, Fault> {
    let text = std::fs::read_to_string(file).map_err(|error| Fault::Usage(format!("{}: {error}", file.display())))?;
    serde_json::from_str(&text).map_err(|error| Fault::Usage(format!("{}: {error}", file.display())))
}

async fn list(api: &Api, as_json: bool) -> Result<(), Fault> {
    let list: SheetList = api.get("/sheets", &[]).await?;
    if as_json {
        return json(&list);
    }
    if list.items.is_empty() {
        return line(
            "No sheet is saved. outcrop sheet show --of SERVICE shows the one that each service has by itself.",
        );
    }
    let count = i64::try_from(list.items.len()).unwrap_or_default();
    line(counted(count, "sheet", "sheets"))?;
    let columns = [
        Column("name", Fit::Text(16)),
        Column("about", Fit::Text(24)),
        Column("parts", Fit::Number),
        Column("owner", Fit::Text(12)),
        Column("saved", Fit::Whole),
    ];
    let row = |item: outcrop_api::SheetItem| {
        let saved = since(item.changed_at, Utc::now());
        vec![item.name, item.about, item.parts.to_string(), item.owner, saved]
    };
    table(&columns, list.items.into_iter().map(row))
}

async fn show(api: &Api, sheet: &Sheet, since: Option<String>) -> Result<(), Fault> {
    let SheetDocument { about, parts, .. } = &sheet.document;
    line(printable(&sheet.name))?;
    if !about.is_empty() {
        line(printable(about))?;
    }
    for (part, question) in parts.iter().zip(&sheet.questions) {
        line("")?;
        if !part.title.is_empty() {
            line(printable(&part.title))?;
        }
        match (&part.text, question) {
            (Some(text), _) => line(printable(text))?,
            (None, Some(question)) => answer(api, &sheet.document, question, since.clone()).await?,
            (None, None) if part.metric.is_some() => metric(api, &sheet.document, part, since.clone()).await?,
            (None, None) => line(printable(&gone(part)))?,
        }
    }
    Ok(())
}

fn gone(part: &SheetPart) -> String {
    let name = part.saved.as_deref().unwrap_or_default();
    format!("The question that was saved as {name} was removed.")
}

async fn metric(api: &Api, sheet: &SheetDocument, part: &SheetPart, since: Option<String>) -> Result<(), Fault> {
    let name = part.metric.as_deref().unwrap_or_default();
    let asked = [
        ("service", sheet.service.clone()),
        ("environment", sheet.environment.clone()),
        ("since", since.or_else(|| sheet.over.clone())),
        ("by", part.by.clone()),
        ("together", part.together.clone()),
    ];
    let course: MetricCourse = api.get(&format!("/metrics/{}", segment(name)), &asked).await?;
    super::metrics::print(&course, part.by.as_deref().unwrap_or_default())
}

async fn answer(api: &Api, sheet: &SheetDocument, question: &str, since: Option<String>) -> Result<(), Fault> {
    let asked = [
        ("question", Some(question.to_owned())),
        ("service", sheet.service.clone()),
        ("environment", sheet.environment.clone()),
        ("since", since.or_else(|| sheet.over.clone())),
    ];
    let answer: Answer = api.get("/ask", &asked).await?;
    line(printable(&format!("{question}; {}", window(&answer))))?;
    if answer.groups == 0 {
        return line(format!("No {} match.", answer.parts.source));
    }
    print(&answer, false)
}
