use chrono::Utc;
use proptest::prelude::*;
use rstest::rstest;
use serde_json::{Value, json};

use super::*;

fn over(of: &str, above: u32, when: &[&str]) -> Value {
    json!({"when": when, "threshold": {"of": of, "above": above, "minutes": 10}})
}

fn run(service: &str, by: &str, when: &[&str]) -> Value {
    json!({"when": when, "expected": {"service": service, "by": by}})
}

/// The rule of the tests with parts of it replaced.
fn with(parts: &Value) -> Result<Rule, Wrong> {
    let mut rule = serde_json::to_value(for_tests()).unwrap();
    for (name, part) in parts.as_object().unwrap() {
        rule[name] = part.clone();
    }
    read(1, &serde_json::from_value(rule).unwrap())
}

#[test]
fn a_rule_is_read_and_said_as_it_was_written() {
    let rule = with(&json!({
        "where": "service in (fares, gangway)", "by": ["mail", "ops-room", "mail"], "at_most_every_minutes": 60,
        "not": {"from": "22:00", "to": "06:00", "days": ["mon", "Tue"], "zone": "europe/oslo",
            "except": "uncaught"},
        "pass_on": {"after_minutes": 45, "to": ["deck team"]},
    }));
    assert_eq!(
        rule.unwrap().sentence(),
        "When an error becomes new or returns in production where service in (fares, gangway), tell the owner by mail and \
         ops-room, at most once an hour, not 22:00–06:00 on Monday and Tuesday Europe/Oslo except uncaught. When nobody \
         takes it within 45 min, tell deck team."
    );
}

#[rstest]
#[case::no_name(json!({"name": " "}), "name: a rule has a name")]
#[case::a_name_of_two_lines(json!({"name": "a\nb"}), "name: ")]
#[case::nothing_happens(json!({"when": []}), "when: say what happens")]
#[case::an_unknown_kind(json!({"when": ["new", "knew"]}), "when: `knew` is nothing that happens; known are new")]
#[case::no_predicate(json!({"where": "service = "}), "where: service =\n")]
#[case::what_no_event_has(json!({"where": "settled"}), "a notice rule cannot look at `settled`")]
#[case::a_slice(json!({"where": "slice = edge"}), "write the slice's predicate itself")]
#[case::nobody(json!({"tell": []}), "tell: mail and browser need somebody")]
#[case::no_way(json!({"by": []}), "by: name 1 to 20 ways")]
#[case::no_time(json!({"not": {"from": "22", "to": "06:00"}}), "not: `22` is no time of the day")]
#[case::no_day(json!({"not": {"from": "22:00", "to": "06:00", "days": ["someday"]}}), "`someday` is no day")]
#[case::no_zone(json!({"not": {"from": "22:00", "to": "06:00", "zone": "Skerry"}}), "`Skerry` is no time zone")]
#[case::always(json!({"not": {"from": "00:00", "to": "00:00"}}), "switch the rule off")]
#[case::too_seldom(json!({"at_most_every_minutes": 20_000}), "at_most_every_minutes: ")]
#[case::passed_on_to_nobody(json!({"pass_on": {"after_minutes": 5, "to": []}}), "pass_on: say who")]
#[case::no_runbook(json!({"runbook": "javascript:alert(1)"}), "runbook: ")]
#[case::no_threshold(json!({"when": ["over"]}), "threshold: a rule about `over`")]
#[case::a_threshold_of_flags(over("share", 5, &["new"]), "when: a rule with a threshold")]
#[case::more_than_all(over("share", 100, &["over"]), "threshold: ")]
#[case::of_nothing(over("users", 5, &["over"]), "`users` cannot be counted")]
#[case::no_metric(over("metric", 5, &["over"]), "threshold: name the metric")]
#[case::a_metric_of_two(
    json!({"when": ["over"], "where": "service in (a, b)",
        "threshold": {"of": "metric", "metric": "queue.length", "above": 1, "minutes": 5}}),
    "where: a metric is asked of one service"
)]
#[case::a_metric_of_environments(
    json!({"when": ["over"], "environment": "prod*",
        "threshold": {"of": "metric", "metric": "queue.length", "above": 1, "minutes": 5}}),
    "environment: a metric is of one"
)]
#[case::a_metric_of_occurrences(
    json!({"when": ["over"], "threshold": {"of": "share", "metric": "queue.length", "above": 1, "minutes": 5}}),
    "threshold: it names a metric"
)]
#[case::a_run_of_errors(run("ledger", "02:30", &["new"]), "when: a rule about what is to have run")]
#[case::a_run_of_nobody(run("", "02:30", &["silent"]), "expected: name the service")]
#[case::a_run_by_no_time(run("ledger", "night", &["silent"]), "expected: `night`")]
#[case::a_type_of_lines(
    json!({"when": ["log-line"], "where": "type = A", "threshold": {"of": "log-lines", "above": 0, "minutes": 5}}),
    "a log line has no `type`"
)]
fn what_is_wrong_is_said_with_its_place(#[case] parts: Value, #[case] said: &str) {
    let wrong = with(&parts).unwrap_err().to_string();
    assert!(wrong.contains(said), "{wrong}");
}

#[test]
fn thresholds_and_lines_are_read() {
    let threshold = json!({"of": "share", "above": 2.5, "minutes": 10});
    let over = json!({"when": ["over"], "where": "slice = edge", "threshold": threshold});
    assert!(
        with(&over)
            .unwrap()
            .sentence()
            .starts_with("When failures are more than 2.5 % of the requests of 10 min")
    );
    let threshold = json!({"of": "metric", "metric": "queue.length", "above": 40, "minutes": 5});
    let metric = json!({"when": ["over"], "where": "service = fares", "threshold": threshold});
    let said = with(&metric).unwrap().sentence();
    assert!(
        said.starts_with("When queue.length is above 40 over 5 min in production where service = fares"),
        "{said}"
    );
    let threshold = json!({"of": "log-lines", "above": 0, "minutes": 5});
    let lines = json!({"when": ["log-line"], "where": "message contains ice", "threshold": threshold});
    assert!(
        with(&lines)
            .unwrap()
            .sentence()
            .starts_with("When a log line comes in production where message contains ice")
    );
}

#[test]
fn what_is_stored_is_read_again_and_what_cannot_be_is_left_out() {
    let stored = |setting: Value, is_on| Stored {
        id: 7,
        name: "Fares".to_owned(),
        setting,
        is_on,
        changed_by: "purser".to_owned(),
        changed_at: Utc::now(),
    };
    let whole = stored(setting(&for_tests()), true);
    assert!(whole.setting.get("name").is_none() && whole.setting.get("is_on").is_none());
    assert_eq!(of_stored(&whole).unwrap(), for_tests());
    let later = stored(json!({"when": ["moonrise"], "by": ["mail"], "tell": ["owner"]}), true);
    let off = stored(setting(&for_tests()), false);
    let rules = in_force(&[whole, later, off]);
    assert_eq!(rules.iter().map(|rule| rule.id).collect::<Vec<_>>(), [7]);
}

proptest! {
    #[test]
    fn any_rule_is_read_or_refused(
        name in ".{0,120}", when in proptest::collection::vec("[a-z-]{0,16}", 0..4), predicate in ".{0,40}",
        from in ".{0,6}", zone in ".{0,20}", tell in proptest::collection::vec(".{0,20}", 0..4),
    ) {
        let rule = NoticeRule {
            name,
            when,
            predicate: Some(predicate),
            not: Some(QuietHours { from, to: "06:00".to_owned(), zone: Some(zone), ..QuietHours::default() }),
            tell,
            ..for_tests()
        };
        drop(read(1, &rule));
    }
}
