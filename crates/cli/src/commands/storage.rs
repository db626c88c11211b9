//! `outcrop storage`: how much room each kind of data takes.

use bytesize::ByteSize;
use clap::Args;
use outcrop_api::Storage as Kept;

use crate::client::{Api, Client};
use crate::fault::Fault;
use crate::output::{Column, Fit, json, line, table};

#[derive(Args)]
#[command(
    after_help = "Example:\n  outcrop storage\n\nWhat is kept is set with `outcrop serve`: see its options under \
        \"What is kept\"."
)]
pub struct Storage {
    #[command(flatten)]
    pub client: Client,
}

pub async fn run(arguments: Storage) -> Result<(), Fault> {
    let kept: Kept = Api::new(&arguments.client)?.get("/storage", &[]).await?;
    if arguments.client.json {
        return json(&kept);
    }
    line(summary(&kept))?;
    let columns = [
        Column("what", Fit::Whole),
        Column("kept", Fit::Number),
        Column("takes", Fit::Number),
        Column("may take", Fit::Number),
    ];
    table(
        &columns,
        kept.items.into_iter().map(|item| {
            let days = item.days.map_or_else(|| "—".to_owned(), |days| format!("{days} d"));
            vec![
                item.kind,
                days,
                size(item.bytes),
                item.max_bytes.map_or_else(|| "no limit".to_owned(), size),
            ]
        }),
    )
}

fn summary(kept: &Kept) -> String {
    let state = kept
        .closed
        .as_ref()
        .map_or_else(String::new, |why| format!("Nothing is taken: {why}.\n"));
    let most = kept
        .max_bytes
        .map_or_else(String::new, |most| format!(" of the {} it may", size(most)));
    let free = match kept.free_bytes {
        Some(free) => format!(
            "{} are free on its disk, of which {} must stay",
            size(free),
            size(kept.min_free_bytes)
        ),
        None => "how much is free on its disk cannot be seen from here".to_owned(),
    };
    format!("{state}The database takes {}{most}; {free}.", size(kept.bytes))
}

/// Bytes with a unit.
fn size(bytes: i64) -> String {
    format!("{:.1}", ByteSize::b(bytes.unsigned_abs()).display().iec())
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case(0, "0 B")]
    #[case(1_023, "1023 B")]
    #[case(1_536, "1.5 KiB")]
    #[case(25 << 20, "25.0 MiB")]
    #[case((5 << 30) + (1 << 29), "5.5 GiB")]
    fn bytes_are_said_as(#[case] bytes: i64, #[case] expected: &str) {
        assert_eq!(size(bytes), expected);
    }

    #[test]
    fn the_first_sentence_says_whether_there_is_room() {
        let kept = Kept {
            items: vec![],
            bytes: 9 << 30,
            max_bytes: Some(10 << 30),
            free_bytes: None,
            min_free_bytes: 1 << 30,
            closed: None,
        };
        assert_eq!(
            summary(&kept),
            "The database takes 9.0 GiB of the 10.0 GiB it may; how much is free on its disk cannot be seen from here."
        );
        let closed = Kept {
            free_bytes: Some(7 << 20),
            closed: Some("the disk is full".to_owned()),
            ..kept
        };
        assert!(
            summary(&closed).starts_with("Nothing is taken: the disk is full.\nThe database takes"),
            "{}",
            summary(&closed)
        );
    }
}
