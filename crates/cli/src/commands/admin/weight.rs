//! `outcrop admin weight`: how much services and endpoints weigh in the ranking.

use clap::Args;
use outcrop_store::errors::weights;
use outcrop_store::errors::weights::FACTORS;

use super::{away, open};
use crate::fault::Fault;
use crate::output::{Column, Fit, line, table};
use crate::settings::DatabaseArgs;

#[derive(Args)]
pub struct Weight {
    /// The service; nothing lists what is set.
    pub service: Option<String>,
    /// What attention is multiplied with, 0.1 to 4; 1 takes the weight away.
    #[arg(requires = "service")]
    pub factor: Option<f32>,
    /// Only this endpoint of the service.
    #[arg(long, value_name = "E", requires = "service")]
    pub endpoint: Option<String>,
}

pub async fn run(database: DatabaseArgs, arguments: Weight) -> Result<(), Fault> {
    let database = open(database).await?;
    let (Some(service), Some(factor)) = (&arguments.service, arguments.factor) else {
        if arguments.service.is_some() {
            return Err(Fault::Usage(
                "which factor? 0.1 to 4; 1 takes the weight away".to_owned(),
            ));
        }
        let mut rows: Vec<_> = weights::all(&database)
            .await
            .map_err(|error| away(&error))?
            .into_iter()
            .collect();
        if rows.is_empty() {
            return line("No weight is set: all services and endpoints count alike.");
        }
        rows.sort_by(|a, b| a.0.cmp(&b.0));
        let columns = [
            Column("service", Fit::Whole),
            Column("endpoint", Fit::Text(12)),
            Column("factor", Fit::Number),
        ];
        return table(
            &columns,
            rows.into_iter().map(|((service, endpoint), factor)| {
                vec![
                    service,
                    if endpoint.is_empty() {
                        "all".to_owned()
                    } else {
                        endpoint
                    },
                    format!("{factor:.2}"),
                ]
            }),
        );
    };
    if !FACTORS.contains(&factor) {
        return Err(Fault::Usage(format!(
            "the factor is {factor}; it must be {} to {}",
            FACTORS.start(),
            FACTORS.end()
        )));
    }
    let endpoint = arguments.endpoint.as_deref().unwrap_or_default();
    weights::set(&database, service, endpoint, factor)
        .await
        .map_err(|error| away(&error))?;
    let place = if endpoint.is_empty() {
        service.clone()
    } else {
        format!("{endpoint} of {service}")
    };
    line(format!("errors in {place} weigh {factor} times as much now"))
}
