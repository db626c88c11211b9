//! Notice rules, what they would have sent, and what was sent.

use std::collections::HashMap;

use actix_web::{HttpRequest, HttpResponse, delete, get, post, put, web};
use chrono::{TimeDelta, Utc};
use outcrop_api::{
    NoticeItem, NoticeList, NoticeQuery, NoticeRule, NoticeRuleItem, NoticeRuleList, NoticeTrial, NoticeTrialResult,
    Problem, ShownNotice, ShownNotices,
};
use outcrop_store::notices::outbox::{self, Asked, NewNotice, Stored};
use outcrop_store::notices::rules::{self as store, RuleError};
use outcrop_store::{StoreError, ids};

use super::handling::known;
use super::input::Body;
use super::parameters::{bad, parameters};
use super::query::must_be_known;
use super::viewer::{Seen, Viewer};
use crate::answers::tickets;
use crate::api_error::ApiError;
use crate::notices::rules::{self, Wrong};
use crate::notices::{shown, trial};

/// Days that are looked back where it is not said, and at most.
const DAYS: u32 = 7;
/// Notices on a page.
const PAGE: i64 = 50;

impl From<Wrong> for ApiError {
    fn from(wrong: Wrong) -> Self {
        bad(wrong.to_string())
    }
}

impl From<RuleError> for ApiError {
    fn from(error: RuleError) -> Self {
        match error {
            RuleError::Named(_) => Self::Conflict(error.to_string()),
            RuleError::TooMany => bad(error.to_string()),
            RuleError::Unknown(_) => Self::NotFound(error.to_string()),
            RuleError::Store(error) => error.into(),
        }
    }
}

/// What became of a query that may be refused for the caller's sake.
type Refusable<T> = Result<Result<T, RuleError>, StoreError>;

fn refusable<T>(done: Result<T, RuleError>) -> Refusable<T> {
    match done {
        Err(RuleError::Store(error)) => Err(error),
        other => Ok(other),
    }
}

/// Lists notice rules.
#[utoipa::path(operation_id = "list_notice_rules", tag = "notices", responses((status = 200, body = NoticeRuleList)))]
#[get("/notice-rules")]
pub(super) async fn list_notice_rules(_viewer: Viewer, state: Seen) -> Result<web::Json<NoticeRuleList>, ApiError> {
    let (database, settings) = (state.database.clone(), state.settings.clone());
    let has_mail = settings.mail.is_some();
    let (items, has_tickets) = state
        .on_main(async move {
            let stored = store::list(&database).await?;
            let sent = store::sent(&database, Utc::now() - TimeDelta::days(7)).await?;
            let rules: Vec<(i32, NoticeRule)> = (stored.iter())
                .map(|stored| (stored.id, rules::of_stored(stored).unwrap_or_default()))
                .collect();
            let said = trial::of_rules(&database, &settings, &rules).await?;
            let item = |((stored, (id, rule)), (sentence, troubles)): ((store::Stored, (i32, NoticeRule)), _)| {
                NoticeRuleItem {
                    id,
                    rule,
                    sentence,
                    troubles,
                    sent: sent.get(&id).copied().unwrap_or_default(),
                    by: stored.changed_by,
                    at: stored.changed_at,
                }
            };
            let items = stored.into_iter().zip(rules).zip(said).map(item).collect();
            Ok((items, tickets::tracker(&database).await?.is_some()))
        })
        .await?;
    Ok(web::Json(NoticeRuleList {
        items,
        has_mail,
        has_tickets,
    }))
}

/// Makes a notice rule.
#[utoipa::path(operation_id = "make_notice_rule", tag = "notices", request_body = NoticeRule, responses(
    (status = 200, body = NoticeRuleItem),
    (status = 400, body = Problem, content_type = "application/problem+json"),
    (status = 403, body = Problem, content_type = "application/problem+json"),
    (status = 409, body = Problem, content_type = "application/problem+json", description = "Another has its name"),
))]
#[post("/notice-rules")]
pub(super) async fn make_notice_rule(
    viewer: Viewer,
    body: Body<NoticeRule>,
    state: Seen,
) -> Result<web::Json<NoticeRuleItem>, ApiError> {
    viewer.must_engineer()?;
    let rule = checked(&state, body.into_inner()).await?;
    let (database, by, made) = (state.database.clone(), viewer.email.clone(), rule.clone());
    let id = state
        .on_main(async move {
            let setting = rules::setting(&made);
            refusable(store::make(&database, &new(&made, &setting), (&by, Utc::now())).await)
        })
        .await??;
    state.note_change(&viewer.email, "made notice rule", &rule.name).await?;
    item(&state, id, rule, viewer.email).await
}

/// Changes a notice rule: its parts, its name, and whether it is on.
#[utoipa::path(operation_id = "change_notice_rule", tag = "notices", request_body = NoticeRule, params(("id" = i32,
    Path, description = "The rule's number")), responses(
    (status = 200, body = NoticeRuleItem),
    (status = 400, body = Problem, content_type = "application/problem+json"),
    (status = 403, body = Problem, content_type = "application/problem+json"),
    (status = 404, body = Problem, content_type = "application/problem+json"),
    (status = 409, body = Problem, content_type = "application/problem+json", description = "Another has its name"),
))]
#[put("/notice-rules/{id}")]
pub(super) async fn change_notice_rule(
    viewer: Viewer,
    path: web::Path<i32>,
    body: Body<NoticeRule>,
    state: Seen,
) -> Result<web::Json<NoticeRuleItem>, ApiError> {
    viewer.must_engineer()?;
    let (id, rule) = (path.into_inner(), checked(&state, body.into_inner()).await?);
    let (database, by, changed) = (state.database.clone(), viewer.email.clone(), rule.clone());
    state
        .on_main(async move {
            let setting = rules::setting(&changed);
            refusable(store::change(&database, id, &new(&changed, &setting), (&by, Utc::now())).await)
        })
        .await??;
    state
        .note_change(&viewer.email, "changed notice rule", &rule.name)
        .await?;
    item(&state, id, rule, viewer.email).await
}

/// Removes a notice rule. What it sent stays on record.
#[utoipa::path(operation_id = "remove_notice_rule", tag = "notices", params(("id" = i32, Path, description = "The \
    rule's number")), responses(
    (status = 204),
    (status = 403, body = Problem, content_type = "application/problem+json"),
    (status = 404, body = Problem, content_type = "application/problem+json"),
))]
#[delete("/notice-rules/{id}")]
pub(super) async fn remove_notice_rule(
    viewer: Viewer,
    path: web::Path<i32>,
    state: Seen,
) -> Result<HttpResponse, ApiError> {
    viewer.must_engineer()?;
    let (database, id) = (state.database.clone(), path.into_inner());
    let removed = state.on_main(async move { store::remove(&database, id).await }).await?;
    let name = removed.ok_or(RuleError::Unknown(id))?;
    state.note_change(&viewer.email, "removed notice rule", &name).await?;
    Ok(HttpResponse::NoContent().finish())
}

/// Says what a rule would have sent over the past days; sends nothing.
#[utoipa::path(operation_id = "try_notice_rule", tag = "notices", request_body = NoticeTrial, responses(
    (status = 200, body = NoticeTrialResult),
    (status = 400, body = Problem, content_type = "application/problem+json"),
))]
#[post("/notice-rules/try")]
pub(super) async fn try_notice_rule(
    _viewer: Viewer,
    body: Body<NoticeTrial>,
    state: Seen,
) -> Result<web::Json<NoticeTrialResult>, ApiError> {
    let NoticeTrial { rule, days } = body.into_inner();
    let days = days.unwrap_or(DAYS);
    if !(1..=DAYS).contains(&days) {
        return Err(bad(format!("days is 1 to {DAYS}")));
    }
    // A rule is tried before it has a name.
    let name = if rule.name.trim().is_empty() {
        "New rule".to_owned()
    } else {
        rule.name.clone()
    };
    let read = rules::read(0, &checked(&state, NoticeRule { name, ..rule }).await?)?;
    let (database, settings) = (state.database.clone(), state.settings.clone());
    Ok(web::Json(
        state
            .on_main(async move { trial::run(&database, &settings, read, days.into(), Utc::now()).await })
            .await?,
    ))
}

/// Sends a test of a rule by each of its ways: by mail and browser to whoever asks.
#[utoipa::path(operation_id = "test_notice_rule", tag = "notices", params(("id" = i32, Path, description = "The \
    rule's number")), responses(
    (status = 200, body = NoticeList),
    (status = 403, body = Problem, content_type = "application/problem+json"),
    (status = 404, body = Problem, content_type = "application/problem+json"),
))]
#[post("/notice-rules/{id}/test")]
pub(super) async fn test_notice_rule(
    viewer: Viewer,
    path: web::Path<i32>,
    state: Seen,
) -> Result<web::Json<NoticeList>, ApiError> {
    viewer.must_engineer()?;
    let (database, id) = (state.database.clone(), path.into_inner());
    let sent = state
        .on_main(async move {
            let Some(stored) = store::list(&database).await?.into_iter().find(|stored| stored.id == id) else {
                return Ok(None);
            };
            let rule = rules::of_stored(&stored)
                .ok()
                .and_then(|rule| rules::read(id, &rule).ok());
            let Some(rule) = rule else { return Ok(None) };
            let subject = format!("A test of the rule “{}”", rule.name);
            let body = serde_json::json!({"paragraphs": ["This is a test: nothing happened.", rule.sentence()]});
            let mut sent = vec![];
            // A ticket would stay.
            for way in rule.by.iter().filter(|way| *way != "ticket") {
                let is_personal = matches!(way.as_str(), "mail" | "browser");
                let new = NewNotice {
                    rule: (Some(id), &rule.name),
                    way,
                    recipient: if is_personal { &viewer.email } else { "" },
                    reason: "test",
                    subject: &subject,
                    event_ids: &[],
                    body: Some(body.clone()),
                };
                let number = outbox::put(&database, &new, Utc::now()).await?;
                sent.extend(outbox::one(&database, number).await?);
            }
            Ok(Some(sent))
        })
        .await?;
    let sent = sent.ok_or(RuleError::Unknown(id))?;
    Ok(web::Json(NoticeList {
        items: sent.into_iter().map(|stored| notice(stored, &HashMap::new())).collect(),
        next: None,
    }))
}

/// Lists what was sent to whom, when, why, and what came of it; the newest first.
#[utoipa::path(operation_id = "list_notices", tag = "notices", params(NoticeQuery), responses(
    (status = 200, body = NoticeList),
    (status = 400, body = Problem, content_type = "application/problem+json"),
    (status = 404, body = Problem, content_type = "application/problem+json"),
))]
#[get("/notices")]
pub(super) async fn list_notices(
    viewer: Viewer,
    request: HttpRequest,
    state: Seen,
) -> Result<web::Json<NoticeList>, ApiError> {
    let asked: NoticeQuery = parameters(request.query_string())?;
    let before = asked.cursor.as_deref().map(str::parse::<i64>).transpose();
    let before = before.map_err(|_no_number| bad("cursor is none of ours: leave it out"))?;
    if asked
        .state
        .as_deref()
        .is_some_and(|state| !matches!(state, "waiting" | "sent" | "failed"))
    {
        return Err(bad("state is waiting, sent or failed"));
    }
    let error = match &asked.reference {
        Some(reference) => Some(ids::number(known(&state, reference).await?.reference())),
        None => None,
    };
    let database = state.database.clone();
    let (items, next) = state
        .on_main(async move {
            let found = outbox::list(
                &database,
                &Asked {
                    before,
                    state: asked.state.as_deref(),
                    recipient: asked.mine.then_some(viewer.email.as_str()),
                    error,
                    limit: PAGE + 1,
                },
            )
            .await?;
            let is_more = found.len() > usize::try_from(PAGE).unwrap_or_default();
            let page: Vec<Stored> = found
                .into_iter()
                .take(usize::try_from(PAGE).unwrap_or_default())
                .collect();
            let next = page.last().filter(|_| is_more).map(|last| last.id.to_string());
            let events: Vec<i64> = page.iter().flat_map(|notice| notice.event_ids.clone()).collect();
            let errors = outcrop_store::notices::events::errors_of(&database, &events).await?;
            Ok((page.into_iter().map(|stored| notice(stored, &errors)).collect(), next))
        })
        .await?;
    Ok(web::Json(NoticeList { items, next }))
}

/// Sends a notice again that was given up.
#[utoipa::path(operation_id = "send_notice_again", tag = "notices", params(("id" = i64, Path, description = "The \
    notice's number")), responses(
    (status = 204),
    (status = 403, body = Problem, content_type = "application/problem+json"),
    (status = 404, body = Problem, content_type = "application/problem+json"),
    (status = 409, body = Problem, content_type = "application/problem+json", description = "It was not given up"),
))]
#[post("/notices/{id}/again")]
pub(super) async fn send_notice_again(
    viewer: Viewer,
    path: web::Path<i64>,
    state: Seen,
) -> Result<HttpResponse, ApiError> {
    viewer.must_engineer()?;
    let (database, id) = (state.database.clone(), path.into_inner());
    let (found, is_sent) = state
        .on_main(async move {
            let found = outbox::one(&database, id).await?.is_some();
            // What is read may be a view: what is written is the table.
            Ok((found, found && outbox::again(&database.whole(), id, Utc::now()).await?))
        })
        .await?;
    if !found {
        return Err(ApiError::NotFound(format!("there is no notice {id}")));
    }
    if !is_sent {
        return Err(ApiError::Conflict(format!("notice {id} was not given up")));
    }
    state
        .note_change(&viewer.email, "sent a notice again", &id.to_string())
        .await?;
    Ok(HttpResponse::NoContent().finish())
}

/// Takes the notices that a page of whoever asks is to show; each is given to one page only.
#[utoipa::path(operation_id = "show_notices", tag = "notices", responses((status = 200, body = ShownNotices)))]
#[post("/notices/shown")]
pub(super) async fn show_notices(viewer: Viewer, state: Seen) -> Result<web::Json<ShownNotices>, ApiError> {
    let (database, settings) = (state.database.whole(), state.settings.clone());
    let items: Vec<ShownNotice> = state
        .on_main(async move { shown(&database, &settings, &viewer.email, Utc::now()).await })
        .await?;
    Ok(web::Json(ShownNotices { items }))
}

fn new<'r>(rule: &'r NoticeRule, setting: &'r serde_json::Value) -> store::NewRule<'r> {
    store::NewRule {
        name: &rule.name,
        setting,
        is_on: rule.is_on,
    }
}

/// A rule that can be stored: read, and its predicate of names that are known.
async fn checked(state: &Seen, rule: NoticeRule) -> Result<NoticeRule, ApiError> {
    let rule = NoticeRule {
        name: rule.name.trim().to_owned(),
        ..rule
    };
    rules::read(0, &rule)?;
    // Log lines have attributes that no occurrence has.
    let is_of_lines = rule.when.iter().any(|when| when == "log-line");
    for text in rule
        .predicate
        .iter()
        .filter(|_| !is_of_lines)
        .chain(rule.not.iter().flat_map(|not| &not.except))
    {
        if !text.trim().is_empty() {
            must_be_known(state, text).await?;
        }
    }
    Ok(rule)
}

async fn item(state: &Seen, id: i32, rule: NoticeRule, by: String) -> Result<web::Json<NoticeRuleItem>, ApiError> {
    let (database, settings) = (state.database.clone(), state.settings.clone());
    let one = [(id, rule.clone())];
    let said = state
        .on_main(async move { trial::of_rules(&database, &settings, &one).await })
        .await?;
    let (sentence, troubles) = said.into_iter().next().unwrap_or_default();
    Ok(web::Json(NoticeRuleItem {
        id,
        rule,
        sentence,
        troubles,
        sent: 0,
        by,
        at: Utc::now(),
    }))
}

pub(super) fn notice(stored: Stored, errors: &HashMap<i64, i32>) -> NoticeItem {
    let mut references: Vec<String> = vec![];
    for error in stored.event_ids.iter().filter_map(|event| errors.get(event)) {
        let reference = ids::reference(*error).to_string();
        if !references.contains(&reference) {
            references.push(reference);
        }
    }
    NoticeItem {
        id: stored.id,
        rule: stored.rule_name,
        way: stored.way,
        to: stored.recipient,
        reason: stored.reason,
        subject: stored.subject,
        references,
        at: stored.made_at,
        next_at: (stored.state == "waiting").then_some(stored.next_at),
        state: stored.state,
        attempts: stored.attempts,
        ended_at: stored.ended_at,
        answer: stored.answer,
    }
}
