//! Wire types of notices: rules, ways, what was sent, and how members want to be told.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

/// Hours in which a rule does not tell.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct QuietHours {
    /// The first minute, as `22:00`.
    #[schema(max_length = 5)]
    pub from: String,
    /// The minute after the last, as `06:00`; on the next day where it is not later.
    #[schema(max_length = 5)]
    pub to: String,
    /// The days on which they begin: `mon`, `tue` and so on. All where none is named.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub days: Vec<String>,
    /// The time zone, by its name in the IANA database: `Europe/Oslo`. UTC where none is named.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(max_length = 60)]
    pub zone: Option<String>,
    /// A predicate: what fulfils it is told all the same, such as `uncaught`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(max_length = 2_000)]
    pub except: Option<String>,
}

/// Who is told next where nobody takes an error.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct PassedOn {
    /// Minutes that somebody has to take it, 1 to 10,080.
    pub after_minutes: u32,
    /// Who is told then, as in `tell`.
    pub to: Vec<String>,
}

/// A threshold that a rule is about.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Threshold {
    /// What is counted: `occurrences`, `share` (of the requests, in percent), `log-lines`, or `metric`: what a metric
    /// comes to.
    pub of: String,
    /// The metric's name, of a threshold of `metric`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(max_length = 400)]
    pub metric: Option<String>,
    /// What it must be above.
    pub above: f64,
    /// Over how many minutes it is counted, 1 to 1,440.
    pub minutes: u32,
}

/// What is to have run by a time of the day.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ExpectedRun {
    /// The service.
    #[schema(min_length = 1, max_length = 400)]
    pub service: String,
    /// The endpoint or job; any of the service where none is named.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(max_length = 2_000)]
    pub endpoint: Option<String>,
    /// By when, as `02:30`: since the day before.
    #[schema(max_length = 5)]
    pub by: String,
    /// The days: `mon`, `tue` and so on. All where none is named.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub days: Vec<String>,
    /// The time zone, by its name in the IANA database. UTC where none is named.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(max_length = 60)]
    pub zone: Option<String>,
}

/// A notice rule: whom to tell of what, by which ways.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NoticeRule {
    /// Its name; no two rules share one.
    #[schema(min_length = 1, max_length = 100)]
    pub name: String,
    /// What happens, any of: `new`, `surging`, `returned`, `back-to-normal`, `deploy-flagged`, `deploy-clear`,
    /// `deploy-too-early`, `endpoint-failing`, `endpoint-slow`, `silent`; `over` and `log-line` of a threshold.
    pub when: Vec<String>,
    /// The environment's name, or a pattern of it (`prod*`); any where there is none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(max_length = 200)]
    pub environment: Option<String>,
    /// A predicate that must hold: `service in (fares, gangway)`.
    #[serde(default, rename = "where", skip_serializing_if = "Option::is_none")]
    #[schema(max_length = 2_000)]
    pub predicate: Option<String>,
    /// The threshold, of a rule about `over` or `log-line`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub threshold: Option<Threshold>,
    /// What is to have run by a time, of a rule about `silent`; without it such a rule is about whatever falls silent by
    /// its own course.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub expected: Option<ExpectedRun>,
    /// Whom it tells by mail and browser: `owner`, `taker`, `deployer`, a member's address or a team's name.
    #[serde(default)]
    pub tell: Vec<String>,
    /// A member or team to tell where those are nobody; the admins where none is named.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(max_length = 320)]
    pub otherwise: Option<String>,
    /// By which ways: `mail`, `browser`, `ticket`, or names of chats and webhooks.
    pub by: Vec<String>,
    /// Minutes between two notices to the same person at least, 1 to 10,080.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub at_most_every_minutes: Option<u32>,
    /// When it does not tell; what happens meanwhile is told afterwards.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub not: Option<QuietHours>,
    /// Who is told next where nobody takes an error.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub pass_on: Option<PassedOn>,
    /// What to do, in the rule's own words: stands in each notice.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(max_length = 2_000)]
    pub text: Option<String>,
    /// A link to a runbook.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(max_length = 2_000)]
    pub runbook: Option<String>,
    /// Whether it is on.
    #[serde(default)]
    pub is_on: bool,
}

/// A notice rule as it is listed.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NoticeRuleItem {
    /// Its number.
    pub id: i32,
    /// The rule.
    pub rule: NoticeRule,
    /// It as a sentence.
    pub sentence: String,
    /// What keeps it from telling as it says: a way that is gone, mail that is not set up, a name that nobody has.
    pub troubles: Vec<String>,
    /// Notices it sent in the last seven days.
    pub sent: i64,
    /// Who changed it last; `outcrop` for the rules that an installation begins with.
    pub by: String,
    /// When.
    pub at: DateTime<Utc>,
}

/// Notice rules.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NoticeRuleList {
    /// The rules, by name.
    pub items: Vec<NoticeRuleItem>,
    /// Whether mail is set up.
    pub has_mail: bool,
    /// Whether tickets are set up.
    pub has_tickets: bool,
}

/// A notice rule to try over the past.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NoticeTrial {
    /// The rule.
    pub rule: NoticeRule,
    /// Days to look back, 1 to 7; 7 where not said.
    #[serde(default)]
    pub days: Option<u32>,
}

/// One notice that a rule would have sent.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct TriedNotice {
    /// When.
    pub at: DateTime<Utc>,
    /// By which ways.
    pub ways: Vec<String>,
    /// To whom; empty of a chat, a webhook or a ticket.
    pub to: String,
    /// What it would have been about.
    pub subject: String,
    /// References of the errors.
    pub references: Vec<String>,
    /// Whether it would have been sent since nobody took an error.
    pub is_passed_on: bool,
}

/// What a rule would have sent.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NoticeTrialResult {
    /// It as a sentence.
    pub sentence: String,
    /// What it comes to: `Would have sent 3 notices since 2026-11-23.`
    pub answer: String,
    /// The notices, the newest first; the newest 200.
    pub items: Vec<TriedNotice>,
    /// How many there are in all.
    pub count: usize,
    /// Events that were looked at.
    pub events: usize,
    /// What keeps it from telling as it says.
    pub troubles: Vec<String>,
}

/// A way by which notices go to no single member.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NoticeWay {
    /// `chat`: a text to a chat's incoming webhook; `webhook`: CloudEvents.
    pub kind: String,
    /// Where it is sent. Its host must be among those that the service may send to.
    #[schema(max_length = 2_000)]
    pub address: String,
    /// The name of the secret, which the service knows as `OUTCROP_SECRET_…`: of a webhook the key of its signature; of a
    /// chat what stands in place of `{secret}` in the address.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(max_length = 100)]
    pub secret: Option<String>,
    /// Of a chat: the JSON that is sent, with places for `{text}`, `{subject}` and `{link}`. `{"text": "{text}"}` where
    /// none is given.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schema(value_type = Option<Object>)]
    pub body: Option<serde_json::Value>,
}

/// A way as it is listed.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NoticeWayItem {
    /// Its name.
    pub name: String,
    /// The way; of a chat the address is shown to admins alone.
    pub way: NoticeWay,
    /// Who changed it last.
    pub by: String,
    /// When.
    pub at: DateTime<Utc>,
}

/// Ways.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NoticeWayList {
    /// The ways, by name.
    pub items: Vec<NoticeWayItem>,
    /// Hosts that the service may send to.
    pub hosts: Vec<String>,
}

/// A notice, on its way or sent.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct NoticeItem {
    /// Its number.
    pub id: i64,
    /// The rule's name; empty of a digest and of a close-up.
    pub rule: String,
    /// The way.
    pub way: String,
    /// To whom; empty of a chat, a webhook or a ticket.
    pub to: String,
    /// Why: `rule`, `passed-on`, `digest`, `close-up` or `test`.
    pub reason: String,
    /// What it is about.
    pub subject: String,
    /// References of the errors that it tells of.
    pub references: Vec<String>,
    /// When it was planned.
    pub at: DateTime<Utc>,
    /// `waiting`, `sent` or `failed`.
    pub state: String,
    /// How often it was tried.
    pub attempts: i32,
    /// When it is tried next, while it waits.
    pub next_at: Option<DateTime<Utc>>,
    /// When it was sent, or given up.
    pub ended_at: Option<DateTime<Utc>>,
    /// What was answered, or what went wrong.
    pub answer: String,
}

/// Which notices are asked for.
#[derive(Clone, Debug, Default, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub struct NoticeQuery {
    /// Where the page before ended.
    #[param(max_length = 20)]
    pub cursor: Option<String>,
    /// `waiting`, `sent` or `failed`.
    #[param(max_length = 20)]
    pub state: Option<String>,
    /// Of this error, by its reference.
    #[serde(rename = "ref")]
    pub reference: Option<String>,
    /// To whoever asks, and by ways that go to nobody.
    #[serde(default)]
    pub mine: bool,
}

/// Notices, the newest first.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NoticeList {
    /// The notices.
    pub items: Vec<NoticeItem>,
    /// Where the next page begins.
    pub next: Option<String>,
}

/// A notice that a page shows.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ShownNotice {
    /// Its number.
    pub id: i64,
    /// What it is about.
    pub subject: String,
    /// What it tells, a line for each event.
    pub text: String,
    /// The page that it is about, from the root on.
    pub page: String,
}

/// Notices that a page shows, each once.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ShownNotices {
    /// The notices.
    pub items: Vec<ShownNotice>,
}

/// How soon a member wants to be told of something.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct PaceOf {
    /// A service, or a team.
    #[schema(min_length = 1, max_length = 400)]
    pub name: String,
    /// `at-once`, `daily` or `nothing`.
    pub pace: String,
}

/// Hours of some days.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct TimesOfDay {
    /// The first minute, as `08:00`.
    #[schema(max_length = 5)]
    pub from: String,
    /// The minute after the last, as `17:00`.
    #[schema(max_length = 5)]
    pub to: String,
    /// The days: `mon`, `tue` and so on. All where none is named.
    #[serde(default)]
    pub days: Vec<String>,
}

/// How a member wants to be told.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NoticeWishes {
    /// How soon: `at-once`, `daily` (in a digest) or `nothing`.
    pub pace: String,
    /// How soon of single services.
    #[serde(default)]
    pub services: Vec<PaceOf>,
    /// How soon as one of a team.
    #[serde(default)]
    pub teams: Vec<PaceOf>,
    /// Within which hours alone; what happens outside waits for them.
    #[serde(default)]
    pub hours: Option<TimesOfDay>,
    /// Whether uncaught errors do not wait for these hours.
    #[serde(default)]
    pub uncaught_at_any_hour: bool,
    /// The time zone, by its name in the IANA database.
    #[schema(max_length = 60)]
    pub zone: String,
    /// When the digest is made, as `08:00`.
    #[schema(max_length = 5)]
    pub digest_at: String,
}

/// What a link of a notice does.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NoticeLink {
    /// The link's secret.
    #[schema(max_length = 2_000)]
    pub link: String,
}

/// What a link of a notice would do, or did.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct NoticeLinkAction {
    /// As whom it acts.
    pub member: String,
    /// `take` or `quiet`.
    pub verb: String,
    /// The error's reference.
    pub reference: String,
    /// The error's title.
    pub title: String,
    /// The service.
    pub service: String,
    /// What happens, as a sentence: `purser@skerry.example takes kobal-tirun.`
    pub sentence: String,
    /// How it is handled now, in words.
    pub handling: String,
}
