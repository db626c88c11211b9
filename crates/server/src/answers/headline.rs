//! What a list of errors leads with: the sentence over it, and that of each row.

use chrono::{DateTime, TimeDelta, Utc};
use outcrop_api::{Sentence, Timeline};
use outcrop_core::attention::percent;
use outcrop_store::errors::Summary;

use super::sentences::grouped;

/// How long ago an error began at most to be called new.
const YOUNG: TimeDelta = TimeDelta::hours(24);

/// Whether an error that was first seen at a time is called new.
pub(crate) fn is_young(first_seen: DateTime<Utc>, now: DateTime<Utc>) -> bool {
    now - first_seen < YOUNG
}

/// Of a young error that came with a version: the share of that version's requests that fail with it; `None` where it
/// came otherwise, or no request is known.
pub(crate) fn version_share(error: &Summary, timeline: &Timeline, now: DateTime<Utc>) -> Option<f64> {
    if !error.came_with_version || !is_young(error.first_seen, now) {
        return None;
    }
    let layer = timeline
        .layers
        .iter()
        .find(|layer| layer.version == error.first_version)?;
    let requests: i64 = layer.requests.iter().sum();
    let occurrences: i64 = layer.occurrences.iter().sum();
    #[expect(clippy::cast_precision_loss, reason = "counts beyond 2^53 do not occur")]
    (requests > 0).then(|| (occurrences as f64 / requests as f64).min(1.0))
}

/// The name of a failure: its type without the package, else its title.
fn name(error: &Summary) -> &str {
    match error.type_name.rsplit(['.', '\\']).next() {
        None | Some("") => &error.title,
        Some(name) => name.rsplit("::").next().unwrap_or(name),
    }
}

/// What a row leads with: what fails, which share of which requests, and of a young error since when.
pub(crate) fn row(error: &Summary, version_share: Option<f64>, now: DateTime<Utc>) -> Sentence {
    let what = name(error);
    let since = is_young(error.first_seen, now).then_some(error.first_seen);
    let share = error.request_share().filter(|share| *share > 0.0 && error.uncaught);
    let said = match (version_share, share) {
        (Some(of_version), _) if error.uncaught => {
            let (service, version) = (&error.service, &error.first_version);
            let text = format!(
                "{} of the requests to {service} {version} fail with {what}, since",
                percent(of_version)
            );
            return sentence("", text, since, "");
        }
        (_, Some(share)) => format!("{} of its requests fail with {what}", percent(share)),
        _ if error.uncaught => what.to_owned(),
        _ => format!("{what}, caught"),
    };
    let text = match since {
        None => said,
        Some(_) if error.came_with_version => format!("{said}, came with {} {}", error.service, error.first_version),
        Some(_) => format!("{said}, first seen in {}", error.first_version),
    };
    sentence("", text, since, "")
}

/// What the page of one error leads with: which share fails, or how often it occurred.
pub(crate) fn of_one(error: &Summary, version_share: Option<f64>) -> String {
    let version = format!("{} {}", error.service, error.first_version);
    match (version_share, error.request_share()) {
        _ if error.count == 0 => format!("None in this window, first seen in {version}"),
        (Some(share), _) => format!("{} of the requests to {version} fail", percent(share)),
        (None, Some(share)) if share > 0.0 => format!("{} of its requests fail, since {version}", percent(share)),
        _ if error.count == 1 => format!("1 occurrence, since {version}"),
        _ => format!("{} occurrences, since {version}", grouped(error.count.unsigned_abs())),
    }
}

/// What the list leads with. `came`: the first young error that came with a version, and its share of that version's
/// requests; `first`: the first young one, else the first; `young`, `total` and `handled`: how many are young, how many
/// there are that are open, how many are settled or quiet.
pub(crate) fn page(
    came: Option<(&Summary, f64)>,
    first: Option<&Summary>,
    young: usize,
    (total, handled): (usize, usize),
    now: DateTime<Utc>,
) -> Sentence {
    if let Some((error, share)) = came {
        let lead = format!(
            "{} of the requests to {} {} fail",
            percent(share),
            error.service,
            error.first_version
        );
        let rest = format!(": {}.{}", name(error), others(young));
        return sentence(&lead, " since its deploy".to_owned(), Some(error.first_seen), &rest);
    }
    let Some(error) = first else {
        let text = if handled > 0 {
            "All that fails is settled or quiet."
        } else {
            "Nothing fails."
        };
        return sentence("", text.to_owned(), None, "");
    };
    let service = &error.service;
    let lead = match error.request_share() {
        Some(share) if share > 0.0 => format!("{} of the requests to {service} fail", percent(share)),
        _ => format!("{service} fails"),
    };
    let what = name(error);
    if young > 0 && is_young(error.first_seen, now) {
        let text = format!(" with {what}, first seen in {service} {}", error.first_version);
        return sentence(&lead, text, Some(error.first_seen), &format!(".{}", others(young)));
    }
    let are = if total == 1 { "is" } else { "are" };
    let text = format!(" with {what}. No error is new in the last 24 hours; {total} {are} known from before.");
    sentence(&lead, text, None, "")
}

/// How many other errors are new, beside the first of them.
fn others(young: usize) -> String {
    match young.saturating_sub(1) {
        0 => String::new(),
        1 => " 1 other error is new in the last 24 hours.".to_owned(),
        n => format!(" {n} other errors are new in the last 24 hours."),
    }
}

fn sentence(lead: &str, text: String, since: Option<DateTime<Utc>>, rest: &str) -> Sentence {
    Sentence {
        lead: lead.to_owned(),
        text,
        since,
        rest: rest.to_owned(),
    }
}

#[cfg(test)]
mod tests {
    use outcrop_api::Layer;
    use outcrop_core::Reference;
    use outcrop_store::errors::handling::Handling;

    use super::*;

    fn now() -> DateTime<Utc> {
        "2026-11-29T12:00:00Z".parse().unwrap()
    }

    /// An error of fares, known for long and uncaught, of which no request is known.
    fn known() -> Summary {
        let old = now() - TimeDelta::days(9);
        Summary {
            reference: "kobal-tirun".parse::<Reference>().unwrap(),
            namespace: String::new(),
            service: "fares".to_owned(),
            type_name: "decimal.DivisionByZero".to_owned(),
            title: "decimal.DivisionByZero: division by zero".to_owned(),
            own_frame: None,
            environments: vec![],
            versions: vec![],
            count: 9,
            users: 0,
            requests: 0,
            first_seen: old,
            last_seen: now(),
            first_version: "2.4.0".to_owned(),
            came_with_version: false,
            uncaught: true,
            severity: 17,
            endpoints: vec![],
            endpoint_ids: vec![1],
            instances: 1,
            recent: 1,
            one_in: None,
            weight: None,
            handling: Handling::default(),
            flag: None,
            service_id: 1,
        }
    }

    /// It came with its version 26 minutes ago.
    fn came() -> Summary {
        Summary {
            first_seen: now() - TimeDelta::minutes(26),
            came_with_version: true,
            ..known()
        }
    }

    fn timeline(occurrences: i64, requests: i64) -> Timeline {
        Timeline {
            from: now() - TimeDelta::hours(24),
            to: now(),
            step_ms: 1,
            layers: vec![Layer {
                version: "2.4.0".to_owned(),
                first_seen: now(),
                occurrences: vec![occurrences, 0],
                requests: vec![0, requests],
            }],
        }
    }

    /// As it is read: the age in its place.
    fn read(said: &Sentence) -> String {
        let age = said.since.map_or(String::new(), |since| {
            format!(" {} min ago", (now() - since).num_minutes())
        });
        format!("{}{}{age}{}", said.lead, said.text, said.rest)
    }

    #[test]
    fn a_row_says_what_fails_which_share_and_since_when() {
        let with = |change: &dyn Fn(&mut Summary)| {
            let mut error = came();
            change(&mut error);
            error
        };
        for (error, share, said) in [
            (
                came(),
                Some(0.25),
                "25 % of the requests to fares 2.4.0 fail with DivisionByZero, since 26 min ago",
            ),
            (came(), None, "DivisionByZero, came with fares 2.4.0 26 min ago"),
            (
                with(&|error| (error.uncaught, error.came_with_version) = (false, false)),
                Some(0.25),
                "DivisionByZero, caught, first seen in 2.4.0 26 min ago",
            ),
            (known(), None, "DivisionByZero"),
            (
                Summary {
                    requests: 900,
                    ..known()
                },
                None,
                "1.0 % of its requests fail with DivisionByZero",
            ),
            (
                Summary {
                    type_name: String::new(),
                    title: "no tide table for Kirkwall".to_owned(),
                    uncaught: false,
                    ..known()
                },
                None,
                "no tide table for Kirkwall, caught",
            ),
            (
                Summary {
                    type_name: "Skerry\\Fares\\NoRate".to_owned(),
                    ..known()
                },
                None,
                "NoRate",
            ),
            (
                Summary {
                    type_name: "fares::NoRate".to_owned(),
                    ..known()
                },
                None,
                "NoRate",
            ),
        ] {
            assert_eq!(read(&row(&error, share, now())), said);
        }
    }

    #[test]
    fn the_page_of_an_error_leads_with_the_share_that_fails_else_with_how_often_it_occurred() {
        assert_eq!(of_one(&came(), Some(0.25)), "25 % of the requests to fares 2.4.0 fail");
        let shared = Summary {
            requests: 900,
            ..known()
        };
        assert_eq!(of_one(&shared, None), "1.0 % of its requests fail, since fares 2.4.0");
        for (count, said) in [
            (0, "None in this window, first seen in fares 2.4.0"),
            (1, "1 occurrence, since fares 2.4.0"),
            (4_200, "4,200 occurrences, since fares 2.4.0"),
        ] {
            assert_eq!(of_one(&Summary { count, ..known() }, None), said);
        }
    }

    #[test]
    fn the_share_of_a_version_is_of_its_own_requests_and_never_more_than_all() {
        assert_eq!(version_share(&came(), &timeline(30, 120), now()), Some(0.25));
        assert_eq!(version_share(&came(), &timeline(300, 120), now()), Some(1.0));
        assert_eq!(version_share(&came(), &timeline(3, 0), now()), None);
        assert_eq!(version_share(&known(), &timeline(30, 120), now()), None);
    }

    #[test]
    fn the_list_leads_with_what_a_deploy_brought_and_counts_the_other_new_errors() {
        let (came, known) = (came(), known());
        let said = page(Some((&came, 0.25)), Some(&came), 2, (3, 0), now());
        assert_eq!(
            read(&said),
            "25 % of the requests to fares 2.4.0 fail since its deploy 26 min ago: DivisionByZero. 1 other error is \
             new in the last 24 hours."
        );
        assert_eq!(
            read(&page(None, Some(&came), 3, (9, 0), now())),
            "fares fails with DivisionByZero, first seen in fares 2.4.0 26 min ago. 2 other errors are new in the \
             last 24 hours."
        );
        assert_eq!(
            read(&page(None, Some(&known), 0, (12, 2), now())),
            "fares fails with DivisionByZero. No error is new in the last 24 hours; 12 are known from before."
        );
        assert_eq!(read(&page(None, None, 0, (0, 0), now())), "Nothing fails.");
        assert_eq!(
            read(&page(None, None, 0, (0, 2), now())),
            "All that fails is settled or quiet."
        );
    }
}
