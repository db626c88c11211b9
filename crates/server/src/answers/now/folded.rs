//! What follows from something else that is told, under it.

use std::collections::HashMap;

use outcrop_api::{NowEcho, NowItem};

/// Something that needs attention, and what it is about.
#[derive(Clone, Debug)]
pub(super) struct Found {
    pub item: NowItem,
    pub about: About,
}

/// What something is about.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum About {
    /// An endpoint.
    Endpoint(i32),
    /// An error.
    Error(i32),
}

/// Which error something comes from, and in how many cases.
pub(super) type Sources = HashMap<i32, (i32, i64)>;

/// Origins followed from an echo at most: services call each other in chains.
const STEPS: usize = 8;

/// Puts errors under the error of another service that they echo, and endpoints under the error of another service that
/// most of their failures come from, as far as these are told. `blamed` is by endpoint, `origins` by error.
pub(super) fn folded(found: Vec<Found>, blamed: &Sources, origins: &Sources) -> Vec<Found> {
    let place = |error: i32| found.iter().position(|one| one.about == About::Error(error));
    let under: Vec<Option<usize>> = found
        .iter()
        .enumerate()
        .map(|(at, one)| {
            let error = match one.about {
                About::Error(error) => error,
                About::Endpoint(endpoint) => blamed.get(&endpoint)?.0,
            };
            let root = place(root(error, origins, |error| place(error).is_some()))?;
            let is_elsewhere = found.get(root)?.item.service != one.item.service;
            (root != at && is_elsewhere).then_some(root)
        })
        .collect();
    let mut kept: Vec<Option<Found>> = found.into_iter().map(Some).collect();
    for (at, root) in under.iter().enumerate() {
        let Some(root) = *root else { continue };
        // A root is never folded itself: it would be its own origin's.
        if under.get(root).is_some_and(Option::is_some) {
            continue;
        }
        let Some(echo) = kept.get_mut(at).and_then(Option::take) else {
            continue;
        };
        if let Some(Some(origin)) = kept.get_mut(root) {
            origin.item.weight = origin.item.weight.max(echo.item.weight);
            origin.item.echoes.push(NowEcho {
                kind: echo.item.kind,
                service: echo.item.service,
                what: echo.item.what,
                reference: echo.item.reference,
                why: echo.item.why,
            });
        }
    }
    kept.into_iter().flatten().collect()
}

/// Where an error began, as far as that is told.
fn root(error: i32, origins: &Sources, is_told: impl Fn(i32) -> bool) -> i32 {
    let mut at = error;
    for _ in 0..STEPS {
        match origins.get(&at) {
            Some((origin, _)) if *origin != error && is_told(*origin) => at = *origin,
            _ => break,
        }
    }
    at
}

#[cfg(test)]
mod tests {
    use super::*;

    fn found(about: About, service: &str, what: &str) -> Found {
        let is_error = matches!(about, About::Error(_));
        Found {
            item: NowItem {
                kind: if is_error { "error" } else { "failing" }.to_owned(),
                service: service.to_owned(),
                what: what.to_owned(),
                reference: None,
                why: String::new(),
                since: chrono::DateTime::UNIX_EPOCH,
                weight: if is_error { 70 } else { 73 },
                echoes: vec![],
                handled: None,
            },
            about,
        }
    }

    fn outline(found: &[Found]) -> Vec<String> {
        found
            .iter()
            .map(|one| {
                let echoes: Vec<&str> = one.item.echoes.iter().map(|echo| echo.what.as_str()).collect();
                format!("{} [{}]", one.item.what, echoes.join(", "))
            })
            .collect()
    }

    const ERRORS: [(i32, &str, &str); 3] = [
        (1, "fares", "no tariff"),
        (2, "gangway", "fares answered 500"),
        (3, "kiosk", "gangway answered 502"),
    ];

    fn all() -> Vec<Found> {
        let errors = ERRORS.map(|(id, service, what)| found(About::Error(id), service, what));
        let endpoints = [
            found(About::Endpoint(7), "fares", "POST /v1/quotes"),
            found(About::Endpoint(8), "gangway", "POST /quote"),
        ];
        errors.into_iter().chain(endpoints).collect()
    }

    #[test]
    fn echoes_stand_under_where_it_began_over_any_number_of_services() {
        let origins = Sources::from([(2, (1, 9)), (3, (2, 9))]);
        let blamed = Sources::from([(7, (1, 14)), (8, (2, 14))]);
        let folded = folded(all(), &blamed, &origins);
        assert_eq!(
            outline(&folded),
            [
                "no tariff [fares answered 500, gangway answered 502, POST /quote]",
                "POST /v1/quotes []"
            ],
            "an endpoint of the origin's own service stands by itself"
        );
        assert_eq!(folded[0].item.weight, 73, "what follows counts");
    }

    #[test]
    fn what_is_not_told_is_no_origin_and_nothing_is_lost_in_a_circle() {
        let untold = Sources::from([(2, (99, 9))]);
        assert_eq!(folded(all(), &Sources::new(), &untold).len(), 5);
        let circle = Sources::from([(1, (2, 9)), (2, (1, 9)), (3, (3, 1))]);
        let after = folded(all(), &Sources::new(), &circle);
        let told: usize = after.iter().map(|one| 1 + one.item.echoes.len()).sum();
        assert_eq!(told, 5, "{:?}", outline(&after));
    }
}
