//! What people add to the built-in scrubbing.

use actix_web::{HttpResponse, delete, get, post, web};
use outcrop_api::{MadeScrubRule, NewScrubRule, Problem, ScrubRuleItem, ScrubRuleList, ScrubTrial, ScrubbedText};
use outcrop_core::scrub::{Rule, Scrubbing};
use outcrop_store::people::scrub_rules;

use super::input::Body;
use super::viewer::{Seen, Viewer};
use crate::api_error::ApiError;
use crate::routes::parameters::bad;

/// Longest name, service and reason, in bytes.
const LONGEST: usize = 200;
/// Longest text tried, in bytes.
const LONGEST_TEXT: usize = 64 * 1024;

/// Lists the rules that people added to the built-in scrubbing.
#[utoipa::path(operation_id = "list_scrub_rules", tag = "intake", responses((status = 200, body = ScrubRuleList)))]
#[get("/scrubbing")]
pub(super) async fn list_rules(_viewer: Viewer, state: Seen) -> Result<web::Json<ScrubRuleList>, ApiError> {
    let database = state.database.clone();
    let rows = state.on_main(async move { scrub_rules::list(&database).await }).await?;
    let items = rows
        .into_iter()
        .map(|row| ScrubRuleItem {
            id: row.id,
            service: row.service,
            verb: row.verb,
            what: row.what,
            reason: row.reason,
            made_by: row.made_by,
            made_at: row.made_at,
            ended_by: row.ended_by,
            ended_at: row.ended_at,
        })
        .collect();
    Ok(web::Json(ScrubRuleList { items }))
}

/// A rule that was checked: the service, what it says, and what of it is stored.
fn checked(asked: NewScrubRule) -> Result<(Rule, NewScrubRule), ApiError> {
    let said = asked
        .reason
        .as_deref()
        .map(str::trim)
        .filter(|reason| !reason.is_empty());
    let reason = match (asked.verb.as_str(), said) {
        ("keep", _) => String::new(),
        (_, Some(reason)) => reason.to_owned(),
        ("shape", None) => "a shape that people named".to_owned(),
        (_, None) => asked.what.trim().to_owned(),
    };
    let what = if asked.verb == "shape" {
        asked.what
    } else {
        asked.what.trim().to_owned()
    };
    let service = asked.service.filter(|service| !service.is_empty());
    let longest_what = if asked.verb == "shape" {
        outcrop_core::scrub::LONGEST_SHAPE
    } else {
        LONGEST
    };
    if what.len() > longest_what
        || reason.len() > LONGEST
        || service.as_ref().is_some_and(|service| service.len() > LONGEST)
    {
        return Err(bad(format!(
            "a service, a name and a reason are at most {LONGEST} bytes long, a shape at most {longest_what}"
        )));
    }
    if reason.contains(['[', ']', '\n']) {
        return Err(bad("a reason is plain words on one line: no brackets"));
    }
    let rule = scrub_rules::rule(&asked.verb, &what, &reason)
        .map_err(|broken| bad(broken.to_string()))?
        .ok_or_else(|| bad(format!("verb is `{}`; it must be remove, keep or shape", asked.verb)))?;
    Ok((
        rule,
        NewScrubRule {
            service,
            verb: asked.verb,
            what,
            reason: Some(reason),
        },
    ))
}

/// Makes a rule: it holds from now on for what comes in; what is stored stays as it is.
#[utoipa::path(operation_id = "make_scrub_rule", tag = "intake", request_body = NewScrubRule, responses(
    (status = 201, body = MadeScrubRule),
    (status = 400, body = Problem, content_type = "application/problem+json"),
    (status = 403, body = Problem, content_type = "application/problem+json"),
    (status = 409, body = Problem, content_type = "application/problem+json"),
))]
#[post("/scrubbing")]
pub(super) async fn make_rule(viewer: Viewer, body: Body<NewScrubRule>, state: Seen) -> Result<HttpResponse, ApiError> {
    viewer.must_admin()?;
    let (
        _,
        NewScrubRule {
            service,
            verb,
            what,
            reason,
        },
    ) = checked(body.into_inner())?;
    let subject = format!("{verb} {what} of {}", service.as_deref().unwrap_or("all services"));
    let (database, by, reason) = (state.database.clone(), viewer.email.clone(), reason.unwrap_or_default());
    let made = state
        .on_main(async move {
            let service = service.as_deref();
            let rule = scrub_rules::NewRule {
                service,
                verb: &verb,
                what: &what,
                reason: &reason,
                by: &by,
            };
            scrub_rules::make(&database, rule).await
        })
        .await?;
    let id = made.ok_or_else(|| {
        ApiError::Conflict(format!(
            "{} rules are in force, as many as there may be; end one first",
            scrub_rules::MAX_RULES
        ))
    })?;
    state
        .note_change(&viewer.email, "made scrubbing rule", &format!("{id}: {subject}"))
        .await?;
    state.read_rules().await;
    Ok(HttpResponse::Created().json(MadeScrubRule { id }))
}

/// Ends a rule: what comes from now on is scrubbed without it.
#[utoipa::path(operation_id = "end_scrub_rule", tag = "intake", params(("id" = i64, Path, description = "The rule's \
    number")), responses(
    (status = 204),
    (status = 403, body = Problem, content_type = "application/problem+json"),
    (status = 404, body = Problem, content_type = "application/problem+json"),
))]
#[delete("/scrubbing/{id}")]
pub(super) async fn end_rule(viewer: Viewer, path: web::Path<i64>, state: Seen) -> Result<HttpResponse, ApiError> {
    viewer.must_admin()?;
    let (database, id, by) = (state.database.clone(), path.into_inner(), viewer.email.clone());
    if !state
        .on_main(async move { scrub_rules::end(&database, id, &by).await })
        .await?
    {
        return Err(ApiError::NotFound(format!(
            "there is no rule of scrubbing {id} in force"
        )));
    }
    state
        .note_change(&viewer.email, "ended scrubbing rule", &id.to_string())
        .await?;
    state.read_rules().await;
    Ok(HttpResponse::NoContent().finish())
}

/// Shows what would be stored of a text, by the rules in force and one more. Nothing is stored.
#[utoipa::path(operation_id = "try_scrubbing", tag = "intake", request_body = ScrubTrial, responses(
    (status = 200, body = ScrubbedText),
    (status = 400, body = Problem, content_type = "application/problem+json"),
))]
#[post("/scrubbing/try")]
pub(super) async fn try_rules(
    viewer: Viewer,
    body: Body<ScrubTrial>,
    state: Seen,
) -> Result<web::Json<ScrubbedText>, ApiError> {
    viewer.must_engineer()?;
    let ScrubTrial { service, text, rule } = body.into_inner();
    if text.len() > LONGEST_TEXT {
        return Err(bad(format!(
            "the text has {} bytes; {LONGEST_TEXT} are tried at most",
            text.len()
        )));
    }
    let more = rule.map(checked).transpose()?.map(|(rule, said)| (said.service, rule));
    let database = state.database.clone();
    let scrubbing: Scrubbing = state
        .on_main(async move { scrub_rules::with(&database, more).await })
        .await?;
    let clean = scrubbing.of(service.as_deref().unwrap_or_default()).text(&text);
    Ok(web::Json(ScrubbedText {
        changed: clean.is_some(),
        text: clean.unwrap_or(text),
    }))
}
