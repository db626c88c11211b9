//! Who owns an error: of the rules that fit it, the one that says most.

/// A rule: what is owned, and by whom. What it names must all fit; one that names nothing is of what nobody else owns.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Rule {
    /// Its number; a later rule has a higher one.
    pub id: i32,
    /// A team's name, or a member's address.
    pub owner: String,
    /// A service, as pages name it.
    pub service: Option<String>,
    /// A namespace.
    pub namespace: Option<String>,
    /// A pattern of paths in the repository, as CODEOWNERS has them.
    pub path: Option<String>,
    /// A predicate.
    pub predicate: Option<String>,
    /// Whether new errors go to the owner by themselves.
    pub hands_over: bool,
    /// Whether new errors get a ticket by themselves.
    pub makes_ticket: bool,
}

/// How closely a rule, or what stands in for one, tells what it is about; the later the closer.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Closeness {
    /// It is of what nobody else owns.
    Rest,
    /// It names a namespace.
    Namespace,
    /// A team owns the service.
    Team,
    /// It names a service.
    Service,
    /// The repository's owners of the file.
    CodeOwners,
    /// It names a path or holds a predicate.
    Part,
}

impl Rule {
    /// How closely it tells what it is about.
    #[must_use]
    pub const fn closeness(&self) -> Closeness {
        if self.predicate.is_some() || self.path.is_some() {
            Closeness::Part
        } else if self.service.is_some() {
            Closeness::Service
        } else if self.namespace.is_some() {
            Closeness::Namespace
        } else {
            Closeness::Rest
        }
    }

    /// What it is about, in words: `fares, app/tariff/**`.
    #[must_use]
    pub fn about(&self) -> String {
        let namespace = self.namespace.as_ref().map(|name| format!("namespace {name}"));
        let parts = [&self.service, &namespace, &self.path, &self.predicate];
        let named: Vec<&str> = parts.into_iter().flatten().map(String::as_str).collect();
        if named.is_empty() {
            "what nobody else owns".to_owned()
        } else {
            named.join(", ")
        }
    }

    /// Whether its service and namespace fit; what else it names is for the caller to say.
    #[must_use]
    pub fn is_of(&self, service: &str, namespace: &str) -> bool {
        self.service.as_deref().is_none_or(|named| named == service)
            && self.namespace.as_deref().is_none_or(|named| named == namespace)
    }
}

/// Of the rules that fit, the one that tells most closely what it is about; of several the latest.
///
/// # Example
/// ```
/// use outcrop_core::ownership::{Rule, owner};
/// let rule = |id, service: Option<&str>| Rule { id, service: service.map(str::to_owned), ..Rule::default() };
/// let rules = [rule(1, Some("fares")), rule(2, None)];
/// assert_eq!(owner(&rules, |rule| rule.is_of("fares", "")).map(|rule| rule.id), Some(1));
/// assert_eq!(owner(&rules, |rule| rule.is_of("ledger", "")).map(|rule| rule.id), Some(2));
/// ```
pub fn owner(rules: &[Rule], fits: impl Fn(&Rule) -> bool) -> Option<&Rule> {
    rules
        .iter()
        .filter(|rule| fits(rule))
        .max_by_key(|rule| (rule.closeness(), rule.id))
}

/// The team or member that an entry of CODEOWNERS names, where one is called so: `@skerry/tariff-desk` is the team tariff
/// desk, an address a member.
#[must_use]
pub fn of_code_owner<'n>(entry: &str, teams: &'n [String], members: &'n [String]) -> Option<&'n str> {
    let plain = |name: &str| name.replace(['-', '_'], " ").to_lowercase();
    let team = entry.trim_start_matches('@').rsplit('/').next().unwrap_or_default();
    let named = |names: &'n [String], name: &str| names.iter().find(|each| plain(each) == plain(name));
    if entry.starts_with('@') {
        named(teams, team).map(String::as_str)
    } else {
        members
            .iter()
            .find(|email| email.eq_ignore_ascii_case(entry))
            .map(String::as_str)
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use rstest::rstest;

    use super::*;

    fn rule(id: i32, [service, namespace, path, predicate]: [Option<&str>; 4]) -> Rule {
        let own = |text: Option<&str>| text.map(str::to_owned);
        Rule {
            id,
            owner: format!("owner {id}"),
            service: own(service),
            namespace: own(namespace),
            path: own(path),
            predicate: own(predicate),
            hands_over: false,
            makes_ticket: false,
        }
    }

    #[rstest]
    #[case::rest([None; 4], "what nobody else owns")]
    #[case::namespace([None, Some("isles"), None, None], "namespace isles")]
    #[case::service([Some("fares"), None, None, None], "fares")]
    #[case::path([Some("fares"), None, Some("app/tariff/**"), None], "fares, app/tariff/**")]
    #[case::predicate([None, None, None, Some("status = 503")], "status = 503")]
    fn a_rule_says_what_it_is_about(#[case] parts: [Option<&str>; 4], #[case] about: &str) {
        assert_eq!(rule(1, parts).about(), about);
    }

    #[test]
    fn what_tells_more_closely_wins_and_of_two_the_later() {
        let rules = [
            rule(1, [None, None, Some("app/**"), None]),
            rule(2, [None, None, None, Some("uncaught")]),
            rule(3, [Some("fares"), None, None, None]),
            rule(4, [None, Some("isles"), None, None]),
            rule(5, [None; 4]),
        ];
        let without = |left_out: &[i32]| owner(&rules, |rule| !left_out.contains(&rule.id)).map(|rule| rule.id);
        assert_eq!(without(&[]), Some(2));
        assert_eq!(without(&[2]), Some(1));
        assert_eq!(without(&[1, 2]), Some(3));
        assert_eq!(without(&[1, 2, 3]), Some(4));
        assert_eq!(without(&[1, 2, 3, 4]), Some(5));
        assert_eq!(without(&[1, 2, 3, 4, 5]), None);
    }

    #[rstest]
    #[case::a_team("@skerry/tariff-desk", Some("Tariff desk"))]
    #[case::without_an_organisation("@deck_team", Some("deck team"))]
    #[case::a_member("Mate@skerry.example", Some("mate@skerry.example"))]
    #[case::nobody("@skerry/galley", None)]
    #[case::no_member("cook@skerry.example", None)]
    #[case::empty("", None)]
    fn an_entry_of_codeowners_is_somebody_known_here(#[case] entry: &str, #[case] owner: Option<&str>) {
        let names = |names: &[&str]| names.iter().map(|name| (*name).to_owned()).collect::<Vec<_>>();
        let (teams, members) = (names(&["deck team", "Tariff desk"]), names(&["mate@skerry.example"]));
        assert_eq!(of_code_owner(entry, &teams, &members), owner);
    }

    proptest! {
        #[test]
        fn the_order_in_which_rules_stand_changes_nothing(parts in prop::collection::vec(any::<[bool; 4]>(), 0..8)) {
            let rules: Vec<Rule> = (1..).zip(&parts)
                .map(|(id, given)| rule(id, given.map(|is| is.then_some("x"))))
                .collect();
            let backwards: Vec<Rule> = rules.iter().rev().cloned().collect();
            prop_assert_eq!(owner(&rules, |_| true), owner(&backwards, |_| true));
        }
    }
}
