//! `outcrop doctor`: whether the installation is well, and what to do where it is not.

use clap::Args;
use outcrop_api::Installation;
use outcrop_core::text::printable;

use crate::client::{Api, Client};
use crate::fault::Fault;
use crate::output::{Column, Fit, counted, json, line, table};

#[derive(Args)]
#[command(
    after_help = "Examples:\n  outcrop doctor\n  outcrop doctor --json\n\nOf admins. Looks at the database's version, \
        settings, disk, clock, partitions and connections, at the\njobs, and at refused senders. Ends with 0 where \
        nothing is wrong, 1 where something is, 4 where the\nservice cannot be reached."
)]
pub struct Doctor {
    #[command(flatten)]
    pub client: Client,
}

pub async fn run(arguments: Doctor) -> Result<(), Fault> {
    let installation: Installation = Api::new(&arguments.client)?.get("/installation", &[]).await?;
    let of = |level: &str| {
        installation
            .findings
            .iter()
            .filter(|finding| finding.level == level)
            .count()
    };
    let (wrong, look) = (of("wrong"), of("look"));
    if arguments.client.json {
        json(&installation)?;
    } else {
        line(summary(wrong, look, &installation.version))?;
        let columns = [
            Column("", Fit::Whole),
            Column("what", Fit::Whole),
            Column("says", Fit::Text(40)),
            Column("to do", Fit::Text(40)),
        ];
        let rows = installation.findings.into_iter().map(|finding| {
            vec![
                finding.level,
                finding.about,
                printable(&finding.says),
                printable(&finding.todo.unwrap_or_default()),
            ]
        });
        table(&columns, rows)?;
    }
    if wrong > 0 { Err(Fault::Flagged) } else { Ok(()) }
}

fn summary(wrong: usize, look: usize, version: &str) -> String {
    let number = |n: usize| i64::try_from(n).unwrap_or(i64::MAX);
    let looks = format!("{} worth a look", counted(number(look), "thing is", "things are"));
    match (wrong, look) {
        (0, 0) => format!("All is well with this installation (release {version})."),
        (0, _) => format!("Nothing is wrong; {looks} (release {version})."),
        (_, 0) => format!(
            "{} wrong (release {version}).",
            counted(number(wrong), "thing is", "things are")
        ),
        _ => format!(
            "{} wrong, and {looks} (release {version}).",
            counted(number(wrong), "thing is", "things are")
        ),
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case(0, 0, "All is well with this installation (release 1).")]
    #[case(0, 2, "Nothing is wrong; 2 things are worth a look (release 1).")]
    #[case(1, 0, "1 thing is wrong (release 1).")]
    #[case(2, 1, "2 things are wrong, and 1 thing is worth a look (release 1).")]
    fn the_first_sentence_says_whether_all_is_well(#[case] wrong: usize, #[case] look: usize, #[case] says: &str) {
        assert_eq!(summary(wrong, look, "1"), says);
    }
}
