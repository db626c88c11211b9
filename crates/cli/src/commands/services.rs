//! `outcrop services`: what each service sends, and what is missing.

use chrono::Utc;
use clap::Subcommand;
use outcrop_api::{EndpointWeight, ServiceList, ServiceSettings};
use outcrop_core::text::printable;
use reqwest::Method;

use crate::client::{Api, Client, segment};
use crate::fault::Fault;
use crate::output::{Column, Fit, ago, grouped, json, line, table};

#[derive(Subcommand)]
pub enum Services {
    /// Set properties of a service, or of `all`; an empty text removes a property.
    #[command(
        after_help = "Examples:\n  outcrop services set fares --source-root /srv/skerry/fares --source-url \
            'https://git.skerry.example/fares/{revision}/{path}#L{line}'\n  outcrop services set all --instance-group \
            cloud.region\n  outcrop services set gangway --weight 1.5 --endpoint-weight 'GET /internal/health=0.2'"
    )]
    Set {
        /// The service, or `all` for every one that has nothing of its own.
        service: String,
        /// Template of a link to a line: {path}, {line}, {revision} (the commit, else the version), {service}.
        #[arg(long, value_name = "URL")]
        source_url: Option<String>,
        /// The folder the code runs in: no part of the path in its repository.
        #[arg(long, value_name = "DIR")]
        source_root: Option<String>,
        /// The attribute that tells instance groups apart.
        #[arg(long, value_name = "ATTRIBUTE")]
        instance_group: Option<String>,
        /// The attribute that names the customer.
        #[arg(long, value_name = "ATTRIBUTE")]
        customer: Option<String>,
        /// Keep e-mail addresses as they are; without it pseudonyms stand for them [default: false].
        #[arg(long, value_name = "true|false")]
        keep_addresses: Option<bool>,
        /// Factor for the attention of the service's errors, 0.1 to 4; 1 removes it.
        #[arg(long, value_name = "FACTOR")]
        weight: Option<f64>,
        /// Factor for one endpoint, which wins over the service's; 1 removes it.
        #[arg(long = "endpoint-weight", value_name = "ENDPOINT=FACTOR")]
        endpoint_weights: Vec<String>,
    },
    /// Show the settings of a service, or of `all`.
    Show {
        /// The service.
        service: String,
    },
}

pub async fn run(command: Option<Services>, client: Client) -> Result<(), Fault> {
    let api = Api::new(&client)?;
    match command {
        Some(Services::Set {
            service,
            source_url,
            source_root,
            instance_group,
            customer,
            keep_addresses,
            weight,
            endpoint_weights,
        }) => {
            let path = format!("/services/{}/settings", segment(&service));
            // What is not given stays: it is read, changed and written back.
            let said: ServiceSettings = api.get(&path, &[]).await?;
            let settings = ServiceSettings {
                source_url: source_url.or(said.source_url),
                source_root: source_root.or(said.source_root),
                instance_group: instance_group.or(said.instance_group),
                customer: customer.or(said.customer),
                keep_addresses: keep_addresses.or(said.keep_addresses),
                weight: weight.or(said.weight),
                endpoint_weights: weighed(said.endpoint_weights, &endpoint_weights)?,
            };
            api.send(Method::PUT, &path, Some(&settings)).await?;
            show(&service, &api.get(&path, &[]).await?)
        }
        Some(Services::Show { service }) => {
            let settings: ServiceSettings = api
                .get(&format!("/services/{}/settings", segment(&service)), &[])
                .await?;
            if client.json {
                json(&settings)
            } else {
                show(&service, &settings)
            }
        }
        None => {
            let list: ServiceList = api.get("/services", &[]).await?;
            if client.json { json(&list) } else { services(&list) }
        }
    }
}

/// The weights of endpoints with what is given in place of what was said.
fn weighed(mut said: Vec<EndpointWeight>, given: &[String]) -> Result<Vec<EndpointWeight>, Fault> {
    for text in given {
        let parts = text
            .rsplit_once('=')
            .and_then(|(endpoint, factor)| Some((endpoint.trim(), factor.trim().parse::<f64>().ok()?)));
        let (endpoint, factor) = parts.ok_or_else(|| {
            Fault::Usage(format!(
                "`{text}` is no ENDPOINT=FACTOR, such as 'GET /internal/health=0.2'"
            ))
        })?;
        said.retain(|one| one.endpoint != endpoint);
        said.push(EndpointWeight {
            endpoint: endpoint.to_owned(),
            factor,
        });
    }
    Ok(said)
}

fn show(service: &str, settings: &ServiceSettings) -> Result<(), Fault> {
    let rows = [
        ("source link", &settings.source_url),
        ("source root", &settings.source_root),
        ("instance group", &settings.instance_group),
        ("customer", &settings.customer),
    ];
    line(printable(service))?;
    for (name, said) in rows {
        line(printable(&format!("  {name:<15}{}", said.as_deref().unwrap_or("—"))))?;
    }
    let addresses = match settings.keep_addresses {
        Some(true) => "kept as they are",
        Some(false) => "hidden behind pseudonyms",
        None => "—",
    };
    line(format!("  {:<15}{addresses}", "addresses"))?;
    line(format!(
        "  {:<15}{}",
        "weight",
        settings
            .weight
            .map_or_else(|| "—".to_owned(), |factor| factor.to_string())
    ))?;
    for one in &settings.endpoint_weights {
        line(printable(&format!("  {:<15}{} at {}", "", one.factor, one.endpoint)))?;
    }
    Ok(())
}

fn services(list: &ServiceList) -> Result<(), Fault> {
    if list.items.is_empty() {
        return line("No service has sent anything yet. outcrop send --service test --message 'it works'");
    }
    let now = Utc::now();
    let columns = [
        Column("service", Fit::Whole),
        Column("namespace", Fit::Whole),
        Column("environments", Fit::Text(12)),
        Column("versions", Fit::Text(12)),
        Column("requests, 24 h", Fit::Number),
        Column("occurrences", Fit::Number),
        Column("last", Fit::Whole),
        Column("missing", Fit::Text(20)),
    ];
    table(
        &columns,
        list.items.iter().map(|item| {
            vec![
                item.service.clone(),
                item.namespace.clone(),
                item.environments.join(", "),
                item.versions.join(", "),
                grouped(item.requests),
                grouped(item.occurrences),
                ago(item.last_event_at, now),
                item.missing.join("; "),
            ]
        }),
    )?;
    // What most services have in common is said once, below.
    let mut notes: std::collections::BTreeMap<&str, Vec<&str>> = std::collections::BTreeMap::new();
    for item in &list.items {
        if let Some(note) = item
            .sampling
            .as_deref()
            .filter(|note| !item.missing.iter().any(|missing| missing == note))
        {
            notes.entry(note).or_default().push(&item.service);
        }
    }
    for (note, services) in notes {
        line(format!("\n{}: {note}.", services.join(", ")))?;
    }
    Ok(())
}
