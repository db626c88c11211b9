//! Who owns an error, whom it may be handed to, and what nobody owns.

use std::collections::{BTreeMap, BTreeSet};

use chrono::{DateTime, TimeDelta, Utc};
use outcrop_api::{HandOver, NewOwnerRule, OwnerList, OwnerRuleItem, ServiceOwner};
use outcrop_core::Reference;
use outcrop_core::ownership::{Closeness, Rule, of_code_owner, owner};
use outcrop_core::source_link::repository_path;
use outcrop_core::stack::Frame;
use outcrop_store::deploys::changes;
use outcrop_store::errors::Summary;
use outcrop_store::errors::handling::{self, Action};
use outcrop_store::people::owners::{self, Waiting};
use outcrop_store::people::{members, service_names, settings, teams};
use outcrop_store::{Database, Scope, StoreError, asking, ids, occurrences};

use super::tickets::NotMade;
use super::{tickets, touches};
use crate::Settings;

/// How far back a rule's predicate is held against what occurred.
const LOOKED_BACK: TimeDelta = TimeDelta::hours(24);
/// References listed of a service's errors that nobody owns.
const LISTED: usize = 20;

/// Who owns an error.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Owned {
    /// A team's name, or a member's address.
    pub owner: String,
    /// Why, in words.
    pub because: String,
    /// Whether a new error goes to them by itself.
    pub hands_over: bool,
    /// Whether a new error gets a ticket by itself.
    pub makes_ticket: bool,
}

impl Owned {
    fn by(rule: &Rule) -> Self {
        Self {
            owner: rule.owner.clone(),
            because: format!("owns {}", rule.about()),
            hands_over: rule.hands_over,
            makes_ticket: rule.makes_ticket,
        }
    }
}

/// The rules and the teams, read once.
pub(crate) struct Directory {
    made: Vec<owners::Made>,
    rules: Vec<Rule>,
    teams: Vec<teams::Team>,
    members: Vec<String>,
    /// The namespaces of services, by the names that pages show.
    namespaces: BTreeMap<String, String>,
}

/// What is asked of an error to say whose it is.
struct Facts<'f> {
    service: &'f str,
    namespace: &'f str,
    /// Its innermost own frame's path in the repository; where it is not known which part of the frame's path that is, each
    /// that it may be.
    paths: &'f [String],
    /// What the repository's CODEOWNERS has for the file, with its path.
    code_owners: Option<(&'f str, &'f [String])>,
    /// Numbers of the rules whose predicates hold.
    holding: &'f BTreeSet<i32>,
}

impl Directory {
    /// Reads them.
    ///
    /// # Errors
    /// [`StoreError`] when the database does not answer.
    pub(crate) async fn read(database: &Database) -> Result<Self, StoreError> {
        let made = owners::list(database).await?;
        Ok(Self {
            rules: made.iter().map(|made| made.rule.clone()).collect(),
            made,
            teams: teams::list(database).await?,
            namespaces: service_names::all(database).await?.into_iter().collect(),
            members: members(database)
                .await?
                .into_iter()
                .map(|member| member.email)
                .collect(),
        })
    }

    /// Whether an owner is a team or member.
    pub(crate) fn knows(&self, name: &str) -> Option<String> {
        let teams = self.teams.iter().map(|team| &team.name);
        let mut names = teams.chain(&self.members);
        names.find(|known| known.eq_ignore_ascii_case(name)).cloned()
    }

    /// Who owns a service as a whole.
    pub(crate) fn of_service(&self, service: &str) -> Option<Owned> {
        self.owner(&Facts {
            service,
            namespace: self.namespaces.get(service).map_or("", String::as_str),
            paths: &[],
            code_owners: None,
            holding: &BTreeSet::new(),
        })
    }

    fn owner(&self, facts: &Facts<'_>) -> Option<Owned> {
        let fits = |rule: &Rule| {
            rule.is_of(facts.service, facts.namespace)
                && (rule.predicate.is_none() || facts.holding.contains(&rule.id))
                && rule
                    .path
                    .as_deref()
                    .is_none_or(|pattern| facts.paths.iter().any(|path| touches::fits(pattern, path)))
        };
        let by_rule = owner(&self.rules, fits);
        let closeness = by_rule.map(Rule::closeness);
        // What stands in for a rule, where none tells more closely whose it is.
        if closeness < Some(Closeness::CodeOwners)
            && let Some(owned) = self.by_code_owners(facts)
        {
            return Some(owned);
        }
        let team = self
            .teams
            .iter()
            .find(|team| team.services.iter().any(|name| name == facts.service));
        if let (true, Some(team)) = (closeness < Some(Closeness::Team), team) {
            return Some(Owned {
                owner: team.name.clone(),
                because: format!("owns {}", facts.service),
                hands_over: false,
                makes_ticket: false,
            });
        }
        by_rule.map(Owned::by)
    }

    fn by_code_owners(&self, facts: &Facts<'_>) -> Option<Owned> {
        let teams: Vec<String> = self.teams.iter().map(|team| team.name.clone()).collect();
        let (path, entries) = facts.code_owners?;
        let owner = (entries.iter()).find_map(|entry| of_code_owner(entry, &teams, &self.members))?;
        Some(Owned {
            owner: owner.to_owned(),
            because: format!("owns {path} by CODEOWNERS"),
            hands_over: false,
            makes_ticket: false,
        })
    }
}

/// Who owns an error of a service, as it was in a version.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
pub(crate) async fn of_error(
    database: &Database,
    directory: &Directory,
    error: Reference,
    (service, namespace, version): (&str, &str, &str),
    now: DateTime<Utc>,
) -> Result<Option<Owned>, StoreError> {
    let mut holding = BTreeSet::new();
    for rule in directory.rules.iter().filter(|rule| rule.is_of(service, namespace)) {
        if let Some(predicate) = &rule.predicate
            && asking::holds(database, ids::number(error), predicate, now - LOOKED_BACK, now).await?
        {
            holding.insert(rule.id);
        }
    }
    let root = settings::of_service(database, service)
        .await?
        .source_root
        .unwrap_or_default();
    let stack = occurrences::latest_stack(database, error).await?;
    let frame = stack.as_ref().and_then(|stack| stack.own_frame());
    let paths = frame.map(|frame| paths(frame, &root)).unwrap_or_default();
    let brought = changes::of_version(database, service, version)
        .await?
        .unwrap_or_default();
    let path = match paths.as_slice() {
        [path] => Some(path.clone()),
        // A commit tells which part of the frame's path is the repository's.
        _ => touches::touches(database, service, error, &brought)
            .await?
            .into_iter()
            .map(|touch| touch.path)
            .next(),
    };
    let entries = path.as_deref().map(|path| touches::owners(&brought.owners, path));
    Ok(directory.owner(&Facts {
        service,
        namespace,
        paths: &paths,
        code_owners: path.as_deref().zip(entries.as_deref()),
        holding: &holding,
    }))
}

/// The paths that a frame's file may have in its repository: the one, where that is known.
fn paths(frame: &Frame<'_>, root: &str) -> Vec<String> {
    repository_path(frame, root).map_or_else(|| ends(&frame.file.replace('\\', "/")), |path| vec![path])
}

/// A path, and what is left of it without the folders it begins with.
fn ends(path: &str) -> Vec<String> {
    let path = path.trim_start_matches("./").trim_start_matches('/');
    if path.is_empty() {
        return vec![];
    }
    let starts = path.match_indices('/').map(|(at, _)| at + 1);
    std::iter::once(0)
        .chain(starts)
        .filter_map(|at| path.get(at..))
        .map(str::to_owned)
        .collect()
}

/// To whom an error may be handed: its owner, and who changed what lies nearest.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
pub(crate) async fn proposals(
    database: &Database,
    error: Reference,
    now: DateTime<Utc>,
) -> Result<Vec<HandOver>, StoreError> {
    let Some((service, namespace, version)) = owners::place(database, ids::number(error)).await? else {
        return Ok(vec![]);
    };
    let directory = Directory::read(database).await?;
    let owned = of_error(database, &directory, error, (&service, &namespace, &version), now).await?;
    let mut proposals: Vec<HandOver> = owned
        .map(|owned| HandOver {
            to: owned.owner,
            because: owned.because,
        })
        .into_iter()
        .collect();
    if let Some(brought) = changes::of_version(database, &service, &version).await? {
        let touched = touches::touches(database, &service, error, &brought).await?;
        let nearest = touched
            .into_iter()
            .find(|touch| touch.distance.is_some_and(|lines| lines <= NEAR));
        proposals.extend(nearest.filter(|touch| !touch.author.is_empty()).map(|touch| HandOver {
            because: format!("{} in {version}", far(touch.distance.unwrap_or_default())),
            to: touch.author,
        }));
    }
    Ok(proposals)
}

/// Lines between a change and a frame up to which its author is proposed.
const NEAR: u32 = 40;

fn far(lines: u32) -> String {
    match lines {
        0 => "wrote the line it fails at".to_owned(),
        1 => "changed the line beside".to_owned(),
        lines => format!("changed {lines} lines away"),
    }
}

/// Hands new errors to their owners where a rule says so, and writes that down. Returns how many.
///
/// # Errors
/// [`StoreError`] when the database does not answer; the next round goes on.
pub(crate) async fn hand_over(
    database: &Database,
    settings: &Settings,
    now: DateTime<Utc>,
) -> Result<usize, StoreError> {
    let waiting = owners::waiting(database, now).await?;
    if waiting.is_empty() {
        return Ok(0);
    }
    let directory = Directory::read(database).await?;
    let mut handed = 0;
    for Waiting {
        flag,
        error_id,
        service,
        namespace,
        version,
    } in waiting
    {
        let error = ids::reference(error_id);
        let owned = of_error(database, &directory, error, (&service, &namespace, &version), now).await?;
        // Only one instance does.
        if !owners::looked_at(database, flag, now).await? {
            continue;
        }
        if owned.as_ref().is_some_and(|owned| owned.makes_ticket) {
            match tickets::make(database, settings, error, ("outcrop", now)).await {
                Ok(_) => {}
                Err(NotMade::Store(error)) => return Err(error),
                Err(failed) => tracing::warn!(%failed, %error, "no ticket was made for a new error"),
            }
        }
        if let Some(owned) = owned.filter(|owned| owned.hands_over) {
            let take = Action::Take(owned.owner);
            match handling::act(database, &[error], &take, ("outcrop", now), None).await {
                Ok(()) => handed += 1,
                Err(handling::HandlingError::Store(error)) => return Err(error),
                Err(error) => tracing::info!(%error, "a new error was not handed over"),
            }
        }
    }
    Ok(handed)
}

/// Rules, and who owns which service and error of the last day.
///
/// # Errors
/// [`StoreError`] when the database does not answer.
pub(crate) async fn all(database: &Database, now: DateTime<Utc>) -> Result<OwnerList, StoreError> {
    let directory = Directory::read(database).await?;
    let day = Scope {
        service: None,
        environment: None,
        version: None,
        from: now - LOOKED_BACK,
        to: now,
        predicate: None,
    };
    let errors: Vec<Summary> = asking::list_errors(database, &day).await?;
    let mut held: BTreeMap<i32, BTreeSet<Reference>> = BTreeMap::new();
    for rule in &directory.rules {
        if let Some(Ok(predicate)) = rule.predicate.as_deref().map(outcrop_core::query::parse) {
            let scope = Scope {
                predicate: Some(std::sync::Arc::new(predicate)),
                ..day.clone()
            };
            let found = asking::list_errors(database, &scope).await?;
            let matching = found.into_iter().filter(|error| error.count > 0);
            held.insert(rule.id, matching.map(|error| error.reference).collect());
        }
    }
    let mut services: Vec<ServiceOwner> = vec![];
    for (service, namespace) in service_names::all(database).await? {
        let whole = directory.of_service(&service);
        let mut own: Vec<&Summary> = errors.iter().filter(|error| error.service == service).collect();
        own.sort_by_key(|error| std::cmp::Reverse(error.count));
        let has_owner = |error: &Summary| {
            let holding = (held.iter())
                .filter(|(_, errors)| errors.contains(&error.reference))
                .map(|(id, _)| *id)
                .collect();
            let paths = error.own_frame.as_deref().map(paths_of).unwrap_or_default();
            error.handling.taken_by.is_some()
                || directory
                    .owner(&Facts {
                        service: &service,
                        namespace: &namespace,
                        paths: &paths,
                        code_owners: None,
                        holding: &holding,
                    })
                    .is_some()
        };
        let ownerless = own.iter().filter(|error| error.count > 0 && !has_owner(error));
        services.push(ServiceOwner {
            errors: own.iter().filter(|error| error.count > 0).count(),
            ownerless: ownerless
                .take(LISTED)
                .map(|error| error.reference.to_string())
                .collect(),
            owner: whole.as_ref().map(|owned| owned.owner.clone()),
            because: whole.map(|owned| owned.because),
            service,
        });
    }
    services.sort_by_key(|service| {
        (
            service.ownerless.is_empty(),
            service.owner.is_some(),
            service.service.clone(),
        )
    });
    let rules = directory.made.into_iter().map(rule_item).collect();
    Ok(OwnerList { rules, services })
}

/// The paths that may be meant in `tariff.quote app/tariff.py:92`.
fn paths_of(own_frame: &str) -> Vec<String> {
    let place = own_frame.rsplit(' ').next().unwrap_or_default();
    ends(place.rsplit_once(':').map_or(place, |(path, _)| path))
}

fn rule_item(made: owners::Made) -> OwnerRuleItem {
    let rule = made.rule;
    OwnerRuleItem {
        id: rule.id,
        about: rule.about(),
        by: made.by,
        at: made.at,
        rule: NewOwnerRule {
            owner: rule.owner,
            service: rule.service,
            namespace: rule.namespace,
            path: rule.path,
            predicate: rule.predicate,
            hand_over: rule.hands_over,
            make_ticket: rule.makes_ticket,
        },
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn directory(rules: Vec<Rule>) -> Directory {
        let names = |names: &[&str]| names.iter().map(|name| (*name).to_owned()).collect::<Vec<_>>();
        Directory {
            made: vec![],
            namespaces: BTreeMap::new(),
            rules,
            teams: vec![teams::Team {
                name: "tariff desk".to_owned(),
                members: vec![],
                services: names(&["fares"]),
            }],
            members: names(&["mate@skerry.example"]),
        }
    }

    fn rule(id: i32, owner: &str, path: Option<&str>, service: Option<&str>) -> Rule {
        Rule {
            id,
            owner: owner.to_owned(),
            path: path.map(str::to_owned),
            service: service.map(str::to_owned),
            ..Rule::default()
        }
    }

    #[rstest]
    #[case::a_path_before_code_owners("fares", Some("/srv/app/rates/high.py"), &["@skerry/tariff-desk"], Some("rates"))]
    #[case::code_owners_before_the_service("fares", Some("app/quote.py"), &["mate@skerry.example"],
        Some("mate@skerry.example"))]
    #[case::a_rule_of_the_service_first("fares", Some("app/quote.py"), &["@skerry/nobody"], Some("fares crew"))]
    #[case::else_the_rest("ledger", None, &[], Some("harbour"))]
    fn an_error_is_of_whoever_is_named_most_closely(
        #[case] service: &str,
        #[case] path: Option<&str>,
        #[case] code_owners: &[&str],
        #[case] expected: Option<&str>,
    ) {
        let rules = vec![
            rule(1, "rates", Some("app/rates/**"), None),
            rule(2, "fares crew", None, Some("fares")),
            rule(3, "harbour", None, None),
        ];
        let code_owners: Vec<String> = code_owners.iter().map(|entry| (*entry).to_owned()).collect();
        let paths = path.map(ends).unwrap_or_default();
        let facts = Facts {
            service,
            namespace: "",
            paths: &paths,
            code_owners: path.zip(Some(code_owners.as_slice())),
            holding: &BTreeSet::new(),
        };
        let owned = directory(rules).owner(&facts);
        assert_eq!(owned.map(|owned| owned.owner).as_deref(), expected);
        // Without rules the team that owns the service does.
        let owned = directory(vec![]).owner(&Facts {
            code_owners: None,
            ..facts
        });
        let team = (service == "fares").then_some("tariff desk");
        assert_eq!(owned.map(|owned| owned.owner).as_deref(), team);
    }

    #[rstest]
    #[case("tariff.quote app/tariff.py:92", &["app/tariff.py", "tariff.py"])]
    #[case("Gate.scan /srv/lib/gate.rb", &["srv/lib/gate.rb", "lib/gate.rb", "gate.rb"])]
    #[case("", &[])]
    fn a_frames_file_may_have_these_paths(#[case] frame: &str, #[case] paths: &[&str]) {
        assert_eq!(paths_of(frame), paths);
    }
}
