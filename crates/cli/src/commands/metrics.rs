//! `outcrop metrics`, `outcrop metric` and `outcrop count`: metrics, one of them over time, and questions that are counted
//! for good as metrics.

use clap::Args;
use outcrop_api::{CountedQuestion, MetricCourse, MetricItem, MetricLine, MetricList, NewCounted};
use outcrop_core::text::printable;

use crate::client::{Api, Client, segment};
use crate::fault::Fault;
use crate::output::{Column, Fit, counted, json, line, table, time};

#[derive(Args)]
#[command(after_help = "Examples:\n  outcrop metrics --service fares\n  outcrop metrics --json")]
pub struct Metrics {
    /// Of this service.
    #[arg(long, value_name = "SERVICE")]
    pub service: Option<String>,
    /// Of this environment.
    #[arg(long, value_name = "ENVIRONMENT")]
    pub environment: Option<String>,
    /// How far back.
    #[arg(long, value_name = "DURATION", default_value = "24h")]
    pub since: String,
    #[command(flatten)]
    pub client: Client,
}

#[derive(Args)]
#[command(
    after_help = "Examples:\n  outcrop metric process.memory.usage --service fares --by instance\n  \
        outcrop metric http.server.request.duration --by http.route --together p95 --since 3h\n  \
        outcrop metric queue.length --together most --json\n\n\
        What is sent: outcrop metrics"
)]
pub struct Metric {
    /// Its name.
    #[arg(value_name = "NAME")]
    pub name: String,
    /// Of this service.
    #[arg(long, value_name = "SERVICE")]
    pub service: Option<String>,
    /// Of this environment.
    #[arg(long, value_name = "ENVIRONMENT")]
    pub environment: Option<String>,
    /// Of this version.
    #[arg(long, value_name = "VERSION")]
    pub version: Option<String>,
    /// A line for each: service, environment, version, instance, or an attribute of the metric.
    #[arg(long, value_name = "FIELD")]
    pub by: Option<String>,
    /// How minutes and series are put together: mean, sum, most, least, or a percentile such as p95.
    #[arg(long, value_name = "WORD")]
    pub together: Option<String>,
    /// How far back.
    #[arg(long, value_name = "DURATION", default_value = "24h")]
    pub since: String,
    #[command(flatten)]
    pub client: Client,
}

#[derive(Args)]
#[command(
    after_help = "Examples:\n  outcrop count gates.shut 'count of lines by version where message contains gate each 1m over 6h'\n  \
        outcrop metric gates.shut --by version\n  outcrop count gates.shut --end\n\n\
        A counted question has one measure, three fields to split by at most, and steps that divide an hour (5m where it \
        names none).\nThe same as numbers elsewhere: GET /api/v1/metrics/NAME?format=openmetrics"
)]
pub struct Count {
    /// The metric's name: letters, digits, `.`, `_`, `-` and `/`. Without one, counted questions are listed.
    #[arg(value_name = "NAME")]
    pub name: Option<String>,
    /// What to count. Without one, how the metric is counted is shown.
    #[arg(value_name = "QUESTION", requires = "name")]
    pub question: Option<String>,
    /// What it is for.
    #[arg(long, value_name = "TEXT", requires = "question")]
    pub description: Option<String>,
    /// End the counting, with all that was counted.
    #[arg(long, requires = "name", conflicts_with = "question")]
    pub end: bool,
    #[command(flatten)]
    pub client: Client,
}

pub async fn count(arguments: Count) -> Result<(), Fault> {
    let api = Api::new(&arguments.client)?;
    let path = |name: &str| format!("/metrics/{}", segment(name));
    match (arguments.name, arguments.question) {
        (Some(name), _) if arguments.end => {
            api.send(reqwest::Method::DELETE, &path(&name), None::<&()>).await?;
            line(format!("{} is no longer counted.", printable(&name)))
        }
        (Some(name), Some(question)) => {
            let new = NewCounted {
                question,
                description: arguments.description.unwrap_or_default(),
            };
            api.send(reqwest::Method::PUT, &path(&name), Some(&new)).await?;
            let name = printable(&name);
            line(format!(
                "{name} is counted from now on, and backwards over what is kept: the newest hours come first.\nSee it: \
                 outcrop metric {name}"
            ))
        }
        (name, _) => {
            let list: MetricList = api.get("/metrics", &[("since", Some("30d".to_owned()))]).await?;
            let is_meant = |item: &MetricItem| name.as_ref().is_none_or(|name| *name == item.name);
            let items: Vec<MetricItem> = (list.items.into_iter())
                .filter(|item| item.counted.is_some() && is_meant(item))
                .collect();
            if arguments.client.json {
                return json(&MetricList { items });
            }
            if items.is_empty() {
                return line("No such question is counted for good. Count one: outcrop count NAME 'QUESTION'");
            }
            line(counted(
                i64::try_from(items.len()).unwrap_or_default(),
                "counted question",
                "counted questions",
            ))?;
            for item in items {
                if let Some(how) = &item.counted {
                    line(format!("\n{}: {}", printable(&item.name), printable(&said(how))))?;
                    if !how.description.is_empty() {
                        line(format!("  {}", printable(&how.description)))?;
                    }
                }
            }
            Ok(())
        }
    }
}

/// How a question is counted, in words.
fn said(how: &CountedQuestion) -> String {
    let since = match (how.counted_from, how.hours_left) {
        (None, _) => ", first counted within a minute".to_owned(),
        (Some(from), 0) => format!(", since {}", time(from)),
        (Some(from), left) => {
            let left = counted(left.into(), "hour", "hours");
            format!(", since {}, {left} to be counted still", time(from))
        }
    };
    let failed = how
        .failure
        .as_ref()
        .map_or_else(String::new, |why| format!("; an hour failed: {why}"));
    let steps = counted(how.step_ms / 60_000, "minute", "minutes");
    format!(
        "{}, in steps of {steps}, for {}{since}{failed}",
        how.question, how.owner
    )
}

pub async fn metrics(arguments: Metrics) -> Result<(), Fault> {
    let api = Api::new(&arguments.client)?;
    let asked = [
        ("service", arguments.service),
        ("environment", arguments.environment),
        ("since", Some(arguments.since)),
    ];
    let list: MetricList = api.get("/metrics", &asked).await?;
    if arguments.client.json {
        return json(&list);
    }
    if list.items.is_empty() {
        return line("No metric came in this time. docs/guides/connect.md says how a service sends them.");
    }
    let count = i64::try_from(list.items.len()).unwrap_or_default();
    line(counted(count, "metric", "metrics"))?;
    let columns = [
        Column("name", Fit::Text(24)),
        Column("unit", Fit::Text(6)),
        Column("kind", Fit::Whole),
        Column("series", Fit::Number),
        Column("services", Fit::Text(12)),
        Column("by", Fit::Text(16)),
    ];
    let row = |item: MetricItem| {
        vec![
            item.name,
            item.unit,
            item.kind,
            item.series.to_string(),
            match item.counted {
                Some(_) => "(counted)".to_owned(),
                None => item.services.join(", "),
            },
            item.attributes.join(", "),
        ]
    };
    table(&columns, list.items.into_iter().map(row))
}

pub async fn metric(arguments: Metric) -> Result<(), Fault> {
    let api = Api::new(&arguments.client)?;
    let asked = [
        ("service", arguments.service),
        ("environment", arguments.environment),
        ("version", arguments.version),
        ("by", arguments.by.clone()),
        ("together", arguments.together),
        ("since", Some(arguments.since)),
    ];
    let course: MetricCourse = api
        .get(&format!("/metrics/{}", segment(&arguments.name)), &asked)
        .await?;
    if arguments.client.json {
        return json(&course);
    }
    print(&course, &arguments.by.unwrap_or_default())
}

/// Prints a metric: its window, and a row for each of its lines.
pub(super) fn print(course: &MetricCourse, by: &str) -> Result<(), Fault> {
    let unit = if matches!(course.unit.as_str(), "" | "1") {
        String::new()
    } else {
        format!(" in {}", course.unit)
    };
    line(printable(&format!(
        "{}{unit}, {} by the step",
        course.name, course.together
    )))?;
    let minutes = course.step_ms / 60_000;
    let steps = counted(minutes, "minute", "minutes");
    line(format!(
        "{} to {}, in steps of {steps}",
        time(course.from),
        time(course.to)
    ))?;
    if let Some(how) = &course.counted {
        line(printable(&format!("counted: {}", said(how))))?;
    }
    if course.lines.is_empty() {
        return line("\nNothing came in this time.");
    }
    line("")?;
    let columns = [
        Column(by, Fit::Text(16)),
        Column("last", Fit::Number),
        Column("least", Fit::Number),
        Column("most", Fit::Number),
        Column("over time", Fit::Whole),
    ];
    table(&columns, course.lines.iter().map(|line| row(line, by)))?;
    let drawn = i64::try_from(course.lines.len()).unwrap_or(i64::MAX);
    if course.all_lines > drawn {
        let lines = counted(course.all_lines, "line", "lines");
        line(format!("\nOf {lines} the {drawn} with the greatest numbers are shown."))?;
    }
    if let Some(note) = &course.note {
        line(format!("\n{}", printable(note)))?;
    }
    Ok(())
}

fn row(line: &MetricLine, by: &str) -> Vec<String> {
    let there: Vec<f64> = line.values.iter().flatten().copied().collect();
    let number = |number: Option<f64>| number.map_or_else(|| "–".to_owned(), super::ask::decimal);
    let key = match line.key.as_str() {
        "" if by.is_empty() => "all",
        "" => "(not set)",
        key => key,
    };
    vec![
        key.to_owned(),
        number(there.last().copied()),
        number(there.iter().copied().reduce(f64::min)),
        number(there.iter().copied().reduce(f64::max)),
        super::ask::heights(
            &line
                .values
                .iter()
                .map(|value| value.unwrap_or_default())
                .collect::<Vec<_>>(),
            false,
        ),
    ]
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn how_a_question_is_counted_says_what_is_missing_still() {
        let mut how = CountedQuestion {
            question: "count of lines".to_owned(),
            step_ms: 300_000,
            description: String::new(),
            owner: "purser@skerry.example".to_owned(),
            made_at: chrono::DateTime::UNIX_EPOCH,
            counted_from: None,
            hours_left: 0,
            failure: None,
        };
        let begins = "count of lines, in steps of 5 minutes, for purser@skerry.example, ";
        assert_eq!(said(&how), format!("{begins}first counted within a minute"));
        how.counted_from = Some(chrono::DateTime::UNIX_EPOCH);
        assert!(said(&how).starts_with(&format!("{begins}since ")), "{}", said(&how));
        how.hours_left = 1;
        how.failure = Some("it took too long".to_owned());
        assert!(said(&how).ends_with(", 1 hour to be counted still; an hour failed: it took too long"));
    }

    #[test]
    fn a_row_says_last_least_and_most_of_what_came() {
        let line = MetricLine {
            key: String::new(),
            values: vec![None, Some(4.0), Some(2.0), Some(8.0), None],
        };
        assert_eq!(row(&line, ""), ["all", "8.00", "2.00", "8.00", " ▅▃█ "]);
        assert_eq!(row(&line, "cpu")[0], "(not set)");
        let nothing = MetricLine {
            key: "a".to_owned(),
            values: vec![None],
        };
        assert_eq!(row(&nothing, "cpu")[..4], ["a", "–", "–", "–"]);
    }
}
