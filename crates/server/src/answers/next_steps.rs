//! What to do next, by the evidence.

use outcrop_api::{NextStep, TouchItem};
use outcrop_core::query;
use outcrop_core::stands_out::Finding;
use outcrop_store::flags::Flag;

/// What is known of an error, as far as a next step follows from it.
pub(crate) struct Evidence<'a> {
    pub(crate) reference: &'a str,
    pub(crate) service: &'a str,
    pub(crate) flag: Option<&'a Flag>,
    pub(crate) origin: Option<&'a str>,
    pub(crate) finding: Option<&'a Finding>,
    pub(crate) touch: Option<&'a TouchItem>,
    pub(crate) runs_beside: bool,
    pub(crate) is_explained: bool,
}

/// Steps named at most.
pub(crate) const STEPS: usize = 4;

/// What to do next: where it began elsewhere that comes first, then the change that touches it,
/// then what narrows it down.
pub(crate) fn next_steps(evidence: &Evidence<'_>) -> Vec<NextStep> {
    let reference = evidence.reference;
    let step = |text: String, command: Option<String>, link: Option<String>| NextStep { text, command, link };
    let mut steps = vec![];
    if let Some(origin) = evidence.origin {
        let text = "Look at where these requests failed first.".to_owned();
        steps.push(step(
            text,
            Some(format!("outcrop why {origin}")),
            Some(format!("/errors/{origin}")),
        ));
    }
    if let Some(touch) = evidence.touch {
        let id = touch.commit.get(..10).unwrap_or(&touch.commit);
        steps.push(step(
            format!("Open commit {id} of {}.", touch.author),
            Some(format!("git show {id}")),
            None,
        ));
    }
    if let Some(flag) = evidence.flag.filter(|flag| flag.is_since_deploy()) {
        let release = format!("{}@{}", flag.service, flag.version);
        let link = Some(format!(
            "/deploys/{}/{}?environment={}",
            flag.service, flag.version, flag.environment
        ));
        let (text, command) = if evidence.runs_beside {
            (
                format!(
                    "Compare {} {} with the version that runs beside it.",
                    flag.service, flag.version
                ),
                "show",
            )
        } else {
            (
                format!("See what else came with {} {}.", flag.service, flag.version),
                "check",
            )
        };
        steps.push(step(
            text,
            Some(format!(
                "outcrop deploy {command} {release} --environment {}",
                flag.environment
            )),
            link,
        ));
    }
    if let Some(finding) = evidence.finding
        && query::parse(&format!("{} is set", finding.name)).is_ok()
    {
        let predicate = format!("{} = {}", finding.name, query::quoted(&finding.value));
        let text = format!("Look at a case with {} = {}.", finding.name, finding.value);
        steps.push(step(
            text,
            Some(format!(
                "outcrop occurrences {reference} --where '{}'",
                predicate.replace('\'', "'\\''")
            )),
            None,
        ));
    }
    if !evidence.is_explained {
        let text = "Widen the window: what it has in common may show over more cases.".to_owned();
        steps.push(step(
            text,
            Some(format!("outcrop show {reference} --since 30d")),
            Some(format!("/errors/{reference}?since=30d")),
        ));
        let text = format!("Look at the logs of {} around its latest case.", evidence.service);
        steps.push(step(
            text,
            Some(format!("outcrop logs --error {reference}")),
            Some(format!("/traffic?view=logs&service={}", evidence.service)),
        ));
    }
    steps.truncate(STEPS);
    steps
}

#[cfg(test)]
mod tests {
    use super::*;

    fn evidence<'a>(origin: Option<&'a str>, finding: Option<&'a Finding>) -> Evidence<'a> {
        let is_explained = origin.is_some() || finding.is_some();
        Evidence {
            reference: "kobal-tirun",
            service: "fares",
            flag: None,
            origin,
            finding,
            touch: None,
            runs_beside: false,
            is_explained,
        }
    }

    fn commands(steps: &[NextStep]) -> Vec<&str> {
        steps.iter().filter_map(|step| step.command.as_deref()).collect()
    }

    #[test]
    fn next_steps_follow_from_the_evidence() {
        let finding = Finding {
            name: "skerry.season".to_owned(),
            value: "winter's end".to_owned(),
            count: 40,
            share: 1.0,
            usual: 0.1,
            ratio_at_least: 8.0,
        };
        let steps = next_steps(&evidence(Some("dasup-nivel"), Some(&finding)));
        let expected = [
            "outcrop why dasup-nivel",
            r#"outcrop occurrences kobal-tirun --where 'skerry.season = "winter'\''s end"'"#,
        ];
        assert_eq!(commands(&steps), expected);
        // A part of the time is no attribute that can be asked for.
        let time = Finding {
            name: "minute of the hour".to_owned(),
            ..finding
        };
        assert_eq!(commands(&next_steps(&evidence(None, Some(&time)))), Vec::<&str>::new());
    }

    #[test]
    fn where_nothing_explains_it_the_window_is_widened() {
        let steps = next_steps(&evidence(None, None));
        assert_eq!(
            commands(&steps),
            [
                "outcrop show kobal-tirun --since 30d",
                "outcrop logs --error kobal-tirun"
            ]
        );
    }
}
