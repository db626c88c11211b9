//! Routes, one family per file.

mod ask;
mod cdevents;
mod cleaning;
mod close_ups;
mod console;
pub(super) mod deploy_detail;
mod deploys;
mod docs;
mod document;
mod errors;
mod explanation;
mod export;
mod find;
mod grants;
mod handling;
mod health;
mod input;
mod installation;
mod live;
mod logs;
mod markers;
mod mcp;
mod metrics;
mod nothing;
mod notice_ways;
mod notices;
mod oauth;
mod occurrences;
mod origin;
mod otlp;
mod owners;
mod parameters;
mod people;
mod predicate;
mod query;
mod regrouping;
mod report;
mod saved_questions;
mod scrubbing;
mod sending;
mod services;
mod session;
mod sheets;
mod slices;
mod sources;
mod stands_out;
mod storage;
mod tickets;
mod timeline;
mod tokens;
mod traces;
mod traffic;
mod uses;
mod viewer;
mod views;
pub(crate) mod why;

use actix_web::middleware::{Compress, from_fn};
use actix_web::{HttpResponse, web};
use utoipa::OpenApi;
use utoipa_actix_web::AppExt;
use utoipa_actix_web::scope::scope;
use utoipa_actix_web::service_config::ServiceConfig;

use crate::api_error::{ApiError, problem};

#[derive(OpenApi)]
#[openapi(info(
    title = "Outcrop",
    description = "Errors of many services, from OpenTelemetry. Authenticate with `Authorization: Bearer TOKEN`, or \
        by POST /session. \
                   Failures are application/problem+json (RFC 9457). Lists page by cursor. Times are RFC 3339 in UTC."
))]
struct Document;

/// The OpenAPI document, made from the handlers.
#[must_use]
pub fn openapi() -> utoipa::openapi::OpenApi {
    let (_app, mut document) = actix_web::App::new()
        .into_utoipa_app()
        .openapi(Document::openapi())
        .configure(api)
        .split_for_parts();
    document::complete(&mut document);
    document
}

fn api(config: &mut ServiceConfig<'_>) {
    config.service(
        scope("/api/v1")
            .wrap(from_fn(input::guard))
            .wrap(Compress::default())
            .app_data(
                web::PathConfig::default()
                    .error_handler(|error, _| ApiError::BadRequest(format!("the address: {error}")).into()),
            )
            .service(errors::list)
            .service(errors::one)
            .service(timeline::of_error)
            .service(stands_out::of_error)
            .service(explanation::of_error)
            .service(occurrences::of_error)
            .service(occurrences::one)
            .service(occurrences::choose)
            .service(close_ups::list_close_ups)
            .service(close_ups::begin_close_up)
            .service(close_ups::show_close_up)
            .service(close_ups::end_close_up)
            .service(report::report_failure)
            .service(regrouping::make_change)
            .service(regrouping::list_changes)
            .service(regrouping::undo_change)
            .service(regrouping::causes_of_error)
            .service(slices::list_slices)
            .service(slices::save_slice)
            .service(slices::remove_slice)
            .service(slices::list_parts)
            .service(slices::users_of_error)
            .service(slices::show_settings)
            .service(slices::set_settings)
            .service(handling::show_handling)
            .service(handling::show_history)
            .service(handling::handle_error)
            .service(handling::handle_errors)
            .service(handling::undo_handling)
            .service(markers::mark_change)
            .service(markers::list_markers)
            .service(markers::remove_marker)
            .service(cdevents::take_events)
            .service(deploys::record_deploy)
            .service(deploys::list_deploys)
            .service(deploys::check_deploy)
            .service(deploy_detail::show_deploy)
            .service(why::explain_why)
            .service(traces::show_trace)
            .service(traffic::sum_traffic)
            .service(traffic::list_endpoints)
            .service(traffic::list_groups)
            .service(traffic::set_slow)
            .service(traffic::list_requests)
            .service(traffic::list_slow)
            .service(traffic::show_course)
            .service(logs::list_lines)
            .service(logs::list_templates)
            .service(logs::lines_stand_out)
            .service(logs::show_lead_up)
            .service(uses::list_calls)
            .service(uses::list_statements)
            .service(uses::list_instances)
            .service(uses::report_now)
            .service(predicate::complete)
            .service(views::list_saved_views)
            .service(views::save_view)
            .service(views::remove_view)
            .service(export::export)
            .service(find::find_text)
            .service(services::list)
            .service(storage::show_storage)
            .service(installation::show_installation)
            .service(sending::list_keys)
            .service(sending::make_key)
            .service(sending::rotate_key)
            .service(sending::revoke_key)
            .service(sending::list_refused)
            .service(sending::list_drops)
            .service(sending::make_drop)
            .service(sending::end_drop)
            .service(scrubbing::list_rules)
            .service(scrubbing::try_rules)
            .service(scrubbing::make_rule)
            .service(scrubbing::end_rule)
            .service(live::events)
            .configure(of_questions)
            .configure(of_notices)
            .configure(of_people),
    );
}

/// Questions, what is counted for good, and pages of both.
fn of_questions(config: &mut ServiceConfig<'_>) {
    config
        .service(ask::ask)
        .service(ask::complete_question)
        .service(saved_questions::list_saved_questions)
        .service(saved_questions::show_saved_question)
        .service(saved_questions::save_question)
        .service(saved_questions::remove_saved_question)
        .service(metrics::list_metrics)
        .service(metrics::show_metric)
        .service(metrics::count_question)
        .service(metrics::end_counting)
        .service(sheets::list_sheets)
        .service(sheets::show_sheet)
        .service(sheets::show_made_sheet)
        .service(sheets::save_sheet)
        .service(sheets::remove_sheet);
}

/// What people are told: rules, ways, what was sent.
fn of_notices(config: &mut ServiceConfig<'_>) {
    config
        .service(notices::list_notice_rules)
        .service(notices::make_notice_rule)
        .service(notices::try_notice_rule)
        .service(notices::test_notice_rule)
        .service(notices::change_notice_rule)
        .service(notices::remove_notice_rule)
        .service(notices::list_notices)
        .service(notices::show_notices)
        .service(notices::send_notice_again)
        .service(notice_ways::list_notice_ways)
        .service(notice_ways::set_notice_way)
        .service(notice_ways::remove_notice_way)
        .service(notice_ways::test_notice_way)
        .service(notice_ways::show_notice_wishes)
        .service(notice_ways::set_notice_wishes)
        .service(notice_ways::show_notice_link)
        .service(notice_ways::follow_notice_link);
}

/// Who may what, and what they did: sessions, members, teams, owners, tickets, clean-up.
fn of_people(config: &mut ServiceConfig<'_>) {
    config
        .service(session::sign_in)
        .service(session::who)
        .service(session::sign_out)
        .service(session::set_password)
        .service(session::show_preferences)
        .service(session::set_preferences)
        .service(session::list_sessions)
        .service(session::end_session)
        .service(tokens::list_tokens)
        .service(tokens::make_token)
        .service(tokens::revoke_token)
        .service(tokens::list_audit)
        .service(grants::show_consent)
        .service(grants::give_consent)
        .service(grants::list_grants)
        .service(grants::end_grant)
        .service(tickets::make_ticket)
        .service(tickets::link_ticket)
        .service(tickets::leave_ticket)
        .service(tickets::show_tracker)
        .service(tickets::set_tracker)
        .service(tickets::remove_tracker)
        .service(tickets::try_tracker)
        .service(cleaning::list_cleanings)
        .service(cleaning::try_cleaning)
        .service(cleaning::clean_up)
        .service(owners::list_owners)
        .service(owners::make_owner_rule)
        .service(owners::remove_owner_rule)
        .service(people::list_members)
        .service(people::set_role)
        .service(people::remove_member)
        .service(people::end_sessions)
        .service(people::list_invitations)
        .service(people::invite)
        .service(people::withdraw_invitation)
        .service(people::show_invitation)
        .service(people::accept_invitation)
        .service(people::list_teams)
        .service(people::make_team)
        .service(people::change_team)
        .service(people::remove_team)
        .service(people::limit_service);
}

/// Everything, for the main listener.
pub(crate) fn everything(config: &mut web::ServiceConfig) {
    let document = openapi();
    let methods = web::Data::new(document::Methods::of(&document));
    config
        .app_data(methods)
        .app_data(web::PayloadConfig::new(cdevents::MAX_BODY))
        .configure(intake)
        .configure(|config| api(&mut ServiceConfig::new(config)))
        .service(
            web::resource("/mcp")
                .app_data(web::PayloadConfig::new(mcp::MAX_BODY))
                .wrap(from_fn(input::guard))
                .wrap(from_fn(oauth::say_where))
                .route(web::route().to(mcp::serve)),
        )
        .configure(oauth::routes)
        .configure(docs::routes)
        .route(
            "/api/openapi.json",
            web::get().to(move || {
                let document = document.clone();
                async move { web::Json(document) }
            }),
        )
        .default_service(web::to(console::page));
}

/// OTLP and health, for the listener that senders use by default.
pub(crate) fn otlp_alone(config: &mut web::ServiceConfig) {
    config.configure(intake).default_service(web::to(otlp::elsewhere));
}

fn intake(config: &mut web::ServiceConfig) {
    config
        .service(
            web::resource("/v1/traces")
                .route(web::post().to(otlp::traces))
                .default_service(web::to(only_post)),
        )
        .service(
            web::resource("/v1/logs")
                .route(web::post().to(otlp::logs))
                .default_service(web::to(only_post)),
        )
        .service(
            web::resource("/v1/metrics")
                .route(web::post().to(otlp::metrics))
                .default_service(web::to(only_post)),
        )
        .route("/metrics", web::get().to(health::metrics))
        .route("/healthz", web::get().to(health::alive))
        .route("/readyz", web::get().to(health::ready));
}

async fn only_post() -> HttpResponse {
    let mut answer = problem(
        actix_web::http::StatusCode::METHOD_NOT_ALLOWED,
        "method_not_allowed",
        "telemetry is sent by POST",
    );
    answer.headers_mut().insert(
        actix_web::http::header::ALLOW,
        actix_web::http::header::HeaderValue::from_static("POST"),
    );
    answer
}

#[cfg(test)]
mod tests;

pub(crate) use nothing::nothing_here;
