//! What needs attention right now: endpoints that fail more or take longer than their own past explains, errors that
//! are flagged or busy.

mod fleet;
mod folded;
mod told;

use chrono::{DateTime, TimeDelta, Utc};
use outcrop_api::{NowItem, NowReport};
use outcrop_core::attention::percent;
use outcrop_core::deploy::FlagKind;
use outcrop_core::trace::in_words;
use outcrop_core::unwell;
use outcrop_store::deploys::facts;
use outcrop_store::errors::handling;
use outcrop_store::flags::Flag;
use outcrop_store::people::service_names;
use outcrop_store::traffic::{fleet as hour, now};
use outcrop_store::{Database, Scope, StoreError, from_utc, ids, to_utc, traces};

use folded::{About, Found, Sources, folded};
use told::{Told, told};

/// Errors told as busy where nothing was said of them.
const BUSY: i64 = 5;
/// How many times as many occurrences as usual make an error worth naming.
const BUSY_FACTOR: f64 = 2.0;

/// Reports what needs attention, what began last first, and how all services are.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
pub(crate) async fn report(database: &Database, scope: &Scope) -> Result<NowReport, StoreError> {
    let at = Utc::now();
    let environment = scope.environment.as_deref();
    let is_asked = |service: &str| {
        scope
            .service
            .as_deref()
            .is_none_or(|asked| service_names::is_meant(asked, service))
    };
    let (endpoints, has_past, flags, busy, handled) = futures_util::try_join!(
        now::endpoints(database, environment, at),
        now::has_past(database, environment, at),
        now::flags(database, environment, at),
        now::busiest(database, environment, at, BUSY),
        handling::of(database, None)
    )?;
    let endpoints: Vec<now::Endpoint> = endpoints
        .into_iter()
        .filter(|endpoint| is_asked(&endpoint.service))
        .collect();
    let mut found = failing(database, &endpoints, environment, at).await?;
    for endpoint in endpoints
        .iter()
        .filter(|endpoint| unwell::is_slow(endpoint.slow, endpoint.slow_before).is_some())
    {
        let known = facts::known_since(database, &endpoint.service, environment).await?;
        found.extend(slow(endpoint, at, known).map(|item| Found {
            item,
            about: About::Endpoint(endpoint.id),
        }));
    }
    // What was said of errors that have not occurred for a while is no news of now.
    let said: Vec<i32> = flags.iter().map(|flag| flag.error_id).collect();
    let lately = now::occurred_since(database, &said, environment, at - LATELY).await?;
    let standing: Vec<&Flag> = flags
        .iter()
        .filter(|flag| is_asked(&flag.service) && lately.contains(&flag.error_id))
        .collect();
    found.extend(said_once(&standing));
    // Of what is settled or quiet somebody has said that nobody needs to hear now.
    let is_open = |error: i32| handled.get(&error).is_none_or(|handling| handling.is_open(at));
    let is_news = |error: &now::Busy| {
        is_asked(&error.service) && is_open(error.error_id) && flags.iter().all(|flag| flag.error_id != error.error_id)
    };
    found.extend(busy.into_iter().filter(is_news).filter_map(busier));
    let found = under_their_origins(database, found, environment, at).await?;
    let Told { items, handled, older } = told(found, &handled, at);
    let flagged = flagged_by_service(&standing, is_open);
    let fleet = fleet::items(database, scope, &items, &flagged, at).await?;
    let sum = |of: fn(&now::Endpoint) -> u64| i64::try_from(endpoints.iter().map(of).sum::<u64>()).unwrap_or(i64::MAX);
    let services: std::collections::BTreeSet<&str> =
        endpoints.iter().map(|endpoint| endpoint.service.as_str()).collect();
    Ok(NowReport {
        sentence: sentence(&items, services.len(), has_past),
        requests: sum(|endpoint| endpoint.failed.of),
        failed: sum(|endpoint| endpoint.failed.part),
        services: i64::try_from(services.len()).unwrap_or(i64::MAX),
        items,
        handled,
        older,
        fleet,
        fleet_from: hour::from(at),
        fleet_step_ms: hour::SHOWN.num_milliseconds() / i64::try_from(hour::STEPS).unwrap_or(1),
        troubles: vec![],
    })
}

/// The endpoints that fail more than their past explains.
async fn failing(
    database: &Database,
    endpoints: &[now::Endpoint],
    environment: Option<&str>,
    at: DateTime<Utc>,
) -> Result<Vec<Found>, StoreError> {
    let failing: Vec<&now::Endpoint> = endpoints
        .iter()
        .filter(|endpoint| unwell::is_failing(endpoint.failed, endpoint.failed_before))
        .collect();
    let ids: Vec<i32> = failing.iter().map(|endpoint| endpoint.id).collect();
    let minutes = now::failing_minutes(database, &ids, environment, at).await?;
    Ok(failing
        .iter()
        .map(|endpoint| {
            let failing: Vec<_> = minutes
                .get(&endpoint.id)
                .into_iter()
                .flatten()
                .map(|minute| from_utc(*minute))
                .collect();
            let item = NowItem {
                kind: "failing".to_owned(),
                service: endpoint.service.clone(),
                what: endpoint.name.clone(),
                reference: None,
                why: format!(
                    "{} of {} requests failed in the last 15 minutes ({}); {} before",
                    endpoint.failed.part,
                    endpoint.failed.of,
                    percent(endpoint.failed.share()),
                    if endpoint.failed_before.part == 0 {
                        "none".to_owned()
                    } else {
                        percent(endpoint.failed_before.share())
                    }
                ),
                since: unwell::began(&failing).map_or(at - now::NOW, to_utc),
                weight: weight(0.6 + 0.4 * endpoint.failed.share()),
                echoes: vec![],
                handled: None,
            };
            Found {
                item,
                about: About::Endpoint(endpoint.id),
            }
        })
        .collect())
}

/// Puts what follows from something else that is told under it.
async fn under_their_origins(
    database: &Database,
    found: Vec<Found>,
    environment: Option<&str>,
    at: DateTime<Utc>,
) -> Result<Vec<Found>, StoreError> {
    let endpoints: Vec<i32> = found
        .iter()
        .filter(|one| one.item.kind == "failing")
        .filter_map(|one| match one.about {
            About::Endpoint(id) => Some(id),
            About::Error(_) => None,
        })
        .collect();
    let blamed: Sources = now::blamed(database, &endpoints, environment, at).await?;
    let mut errors: Vec<i32> = blamed.values().map(|(error, _)| *error).collect();
    errors.extend(found.iter().filter_map(|one| match one.about {
        About::Error(id) => Some(id),
        About::Endpoint(_) => None,
    }));
    let origins = traces::main_origins(database, &errors, at - LATELY, at).await?;
    Ok(folded(found, &blamed, &origins))
}

/// How many errors of each service are flagged, by kind.
fn flagged_by_service(standing: &[&Flag], is_open: impl Fn(i32) -> bool) -> fleet::Flagged {
    let mut errors: Vec<(&str, i32, FlagKind)> = (standing.iter())
        .filter(|flag| is_open(flag.error_id))
        .map(|flag| (flag.service.as_str(), flag.error_id, flag.kind))
        .collect();
    errors.sort_unstable();
    errors.dedup();
    let mut flagged = fleet::Flagged::new();
    for (service, _, kind) in errors {
        let counts = flagged.entry(service.to_owned()).or_default();
        let [new, surging, returned] = counts;
        *match kind {
            FlagKind::New => new,
            FlagKind::Surging => surging,
            FlagKind::Returned => returned,
        } += 1;
    }
    flagged
}

/// An error of which nothing was said, where it occurs more often than usual.
fn busier(error: now::Busy) -> Option<Found> {
    #[expect(clippy::cast_precision_loss, reason = "counts of a quarter of an hour")]
    let is_busy = error.count >= BUSY && error.count as f64 > error.usual * BUSY_FACTOR;
    is_busy.then(|| Found {
        about: About::Error(error.error_id),
        item: NowItem {
            kind: "error".to_owned(),
            service: error.service,
            what: error.title,
            reference: Some(ids::reference(error.error_id).to_string()),
            why: format!("{} in the last 15 minutes; {:.1} is usual", error.count, error.usual),
            since: error.since,
            weight: weight(0.4),
            echoes: vec![],
            handled: None,
        },
    })
}

#[expect(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "a share of 100")]
fn weight(share: f64) -> u8 {
    (share.clamp(0.0, 1.0) * 100.0).round() as u8
}

/// How lately an error must have occurred to be of now.
const LATELY: TimeDelta = TimeDelta::hours(1);

/// One item for each error and environment, though several flags stand at it.
fn said_once(flags: &[&Flag]) -> Vec<Found> {
    let mut items: Vec<(i32, &str, NowItem)> = vec![];
    for flag in flags {
        let item = flagged(flag);
        match items
            .iter_mut()
            .find(|(error, environment, _)| *error == flag.error_id && *environment == flag.environment)
        {
            Some((_, _, known)) => {
                known.why = format!("{}; {}", known.why, item.why);
                known.since = known.since.min(item.since);
                known.weight = known.weight.max(item.weight);
            }
            None => items.push((flag.error_id, &flag.environment, item)),
        }
    }
    let found = |(error, _, item)| Found {
        item,
        about: About::Error(error),
    };
    items.into_iter().map(found).collect()
}

fn slow(endpoint: &now::Endpoint, at: DateTime<Utc>, known: Option<DateTime<Utc>>) -> Option<NowItem> {
    let share = unwell::is_slow(endpoint.slow, endpoint.slow_before)?;
    let hour = outcrop_store::hour(at - now::NOW);
    #[expect(clippy::cast_possible_truncation, reason = "durations of requests")]
    let in_time = |micros: f64| in_words((micros * 1_000.0) as i64);
    #[expect(clippy::cast_precision_loss, reason = "durations of requests")]
    let threshold = endpoint.threshold_us.map_or(0.0, |micros| micros as f64);
    Some(NowItem {
        kind: "slow".to_owned(),
        service: endpoint.service.clone(),
        what: endpoint.name.clone(),
        reference: None,
        why: format!(
            "{} of the requests since {} take longer than {}, 95 of 100 up to {}",
            percent(share),
            known.map_or(hour, |known| known.max(hour)).format("%H:%M"),
            in_time(threshold),
            in_time(endpoint.p95_us.unwrap_or_default())
        ),
        since: at - now::NOW,
        weight: weight(0.3 + 0.4 * share),
        echoes: vec![],
        handled: None,
    })
}

fn flagged(flag: &Flag) -> NowItem {
    let expected = format!("{} where {:.1} were to be expected", flag.count, flag.expected);
    let why = match (flag.kind, flag.by_deploy) {
        (FlagKind::Surging, true) => format!("surging since {} {}: {expected}", flag.service, flag.version),
        (FlagKind::Surging, false) => format!("surging without a deploy: {expected}"),
        (kind, _) => format!("{} in {} {}", kind.word(), flag.service, flag.version),
    };
    NowItem {
        kind: "error".to_owned(),
        service: flag.service.clone(),
        what: flag.title.clone(),
        reference: Some(ids::reference(flag.error_id).to_string()),
        why,
        since: flag.since,
        weight: weight(0.7),
        echoes: vec![],
        handled: None,
    }
}

/// The first sentence. `has_past` is whether any endpoint had requests before, so that something can be unusual.
fn sentence(items: &[NowItem], services: usize, has_past: bool) -> String {
    let of = |kind: &str| items.iter().filter(|item| item.kind == kind).count();
    let counted = |n: usize, one: &str, many: &str| format!("{n} {}", if n == 1 { one } else { many });
    let kinds = [
        (
            "failing",
            "endpoint fails more than usual",
            "endpoints fail more than usual",
        ),
        ("slow", "endpoint is slow", "endpoints are slow"),
        (
            "error",
            "error is new, surging or back",
            "errors are new, surging or back",
        ),
    ];
    let parts: Vec<String> = kinds
        .into_iter()
        .map(|(kind, one, many)| (of(kind), one, many))
        .filter(|(n, _, _)| *n > 0)
        .map(|(n, one, many)| counted(n, one, many))
        .collect();
    if !parts.is_empty() {
        return format!("{}.", parts.join(", "));
    }
    match services {
        0 => "No request came in the last 15 minutes.".to_owned(),
        _ if has_past => format!(
            "Nothing needs attention in {}.",
            counted(services, "service", "services")
        ),
        _ => format!(
            "It is too early to say what is unusual: {} no earlier requests to compare with.",
            counted(services, "service has", "services have")
        ),
    }
}

#[cfg(test)]
mod tests {
    use chrono::TimeDelta;
    use rstest::rstest;

    use super::*;

    fn said(error_id: i32, environment: &str, kind: &str, minutes_ago: i64) -> Flag {
        let at = DateTime::UNIX_EPOCH + TimeDelta::days(20_000) - TimeDelta::minutes(minutes_ago);
        Flag {
            error_id,
            title: "no tariff".to_owned(),
            service: "fares".to_owned(),
            environment: environment.to_owned(),
            kind: FlagKind::of(kind).unwrap(),
            version: "2.4.0".to_owned(),
            by_deploy: true,
            since: at,
            said_at: at,
            ended_at: None,
            count: 36,
            expected: 0.04,
            evidence: 20.0,
            requests: Some(173),
            why: None,
            withdrawn_at: None,
        }
    }

    fn item(kind: &str) -> NowItem {
        NowItem {
            kind: kind.to_owned(),
            service: "fares".to_owned(),
            what: "POST /v1/quotes/{sailing}".to_owned(),
            reference: None,
            why: String::new(),
            since: DateTime::UNIX_EPOCH,
            weight: 60,
            echoes: vec![],
            handled: None,
        }
    }

    #[rstest]
    #[case(&["failing"], 3, true, "1 endpoint fails more than usual.")]
    #[case(&["error", "slow", "error"], 3, true, "1 endpoint is slow, 2 errors are new, surging or back.")]
    #[case(&[], 8, true, "Nothing needs attention in 8 services.")]
    #[case(&[], 4, false, "It is too early to say what is unusual: 4 services have no earlier requests to compare with.")]
    #[case(&[], 1, false, "It is too early to say what is unusual: 1 service has no earlier requests to compare with.")]
    #[case(&[], 0, false, "No request came in the last 15 minutes.")]
    fn the_first_sentence_says(
        #[case] kinds: &[&str],
        #[case] services: usize,
        #[case] has_past: bool,
        #[case] expected: &str,
    ) {
        let items: Vec<NowItem> = kinds.iter().map(|kind| item(kind)).collect();
        assert_eq!(sentence(&items, services, has_past), expected);
    }

    #[test]
    fn an_error_of_an_environment_is_one_item_however_much_was_said_of_it() {
        let flags = [
            said(1, "production", "surging", 5),
            said(2, "production", "new", 9),
            said(1, "production", "new", 30),
            said(1, "staging", "new", 3),
        ];
        let items = said_once(&flags.iter().collect::<Vec<_>>());
        let told: Vec<(&str, TimeDelta)> = items
            .iter()
            .map(|one| (one.item.why.as_str(), one.item.since - flags[2].since))
            .collect();
        assert_eq!(
            told,
            [
                (
                    "surging since fares 2.4.0: 36 where 0.0 were to be expected; new in fares 2.4.0",
                    TimeDelta::zero()
                ),
                ("new in fares 2.4.0", TimeDelta::minutes(21)),
                ("new in fares 2.4.0", TimeDelta::minutes(27)),
            ]
        );
    }
}
