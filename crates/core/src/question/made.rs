//! Questions that are asked of every service and every deploy: what a sheet of them holds that nobody had to arrange.

use crate::query::quoted;

/// A question under a title, and whether it is drawn over the whole width.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Made {
    /// What it says, in a few words.
    pub title: &'static str,
    /// The question.
    pub question: String,
    /// Whether it needs all of a sheet's width.
    pub is_wide: bool,
}

fn made(title: &'static str, question: impl Into<String>) -> Made {
    Made {
        title,
        question: question.into(),
        is_wide: false,
    }
}

fn wide(title: &'static str, question: impl Into<String>) -> Made {
    Made {
        is_wide: true,
        ..made(title, question)
    }
}

/// What is asked of a service, in the order in which it is read. The service is the sheet's scope.
#[must_use]
pub fn of_service() -> Vec<Made> {
    vec![
        made(
            "Share of requests that fail, by version",
            "share of requests by version each 1h top 5",
        ),
        made(
            "How long 95 of 100 requests take, by version",
            "p95 duration of requests by version each 1h top 5",
        ),
        made("Requests by endpoint", "count of requests by endpoint each 1h top 5"),
        made("Failures by type", "count of occurrences by type each 1h top 5"),
        made(
            "Endpoints that fail most",
            "share, failed, count of requests by endpoint order by share top 10 against before",
        ),
        made(
            "Errors with most occurrences",
            "count, users of occurrences by error, title top 10 against before",
        ),
        wide(
            "Users who met most errors",
            "errors, count, last of occurrences by user where user is set order by errors top 10",
        ),
        wide(
            "Log lines that warn most",
            "count, last of lines by severity, template where severity >= warn top 10",
        ),
    ]
}

/// What is asked of a deploy: of its version, beside the others of its service. The service is the sheet's scope.
#[must_use]
pub fn of_deploy(version: &str) -> Vec<Made> {
    let version = quoted(version);
    vec![
        made(
            "Share of requests that fail, by version",
            "share of requests by version each 15m top 5",
        ),
        made(
            "How long 95 of 100 requests take, by version",
            "p95 duration of requests by version each 15m top 5",
        ),
        made("Failures by version", "count of occurrences by version each 15m top 5"),
        made("Requests by version", "count of requests by version each 15m top 5"),
        wide(
            "Errors of this version",
            format!("count, users, first of occurrences by error, title where version = {version} top 15"),
        ),
        made(
            "Endpoints of this version that fail most",
            format!("share, failed, count of requests by endpoint where version = {version} order by share top 10"),
        ),
        made(
            "Log lines of this version that warn most",
            format!("count, last of lines by template where version = {version} and severity >= warn top 10"),
        ),
    ]
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::question::read;

    #[test]
    fn each_made_question_can_be_asked_whatever_a_version_is_called() {
        let versions = ["5.0.0", "a \"b\" \\ c", "top 3", "über 7d", ""];
        let of_deploys = versions.iter().flat_map(|version| of_deploy(version));
        for made in of_service().into_iter().chain(of_deploys) {
            let question = read(&made.question);
            assert!(question.is_ok(), "{}: {question:?}", made.question);
            assert!(
                question.unwrap().window.is_none(),
                "the sheet's window: {}",
                made.question
            );
        }
    }
}
