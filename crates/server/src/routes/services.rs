//! Services, and what is missing of them.

use actix_web::{get, web};
use chrono::{TimeDelta, Utc};
use outcrop_api::{ServiceItem, ServiceList};
use outcrop_core::completeness::{Telemetry, missing};
use outcrop_store::flags::disturbed;
use outcrop_store::traffic::timeline;
use outcrop_store::writing::limits;

use super::viewer::{Seen, Viewer};
use crate::api_error::ApiError;

/// Lists the services that have sent anything.
#[utoipa::path(operation_id = "list_services", tag = "services", responses((status = 200, body = ServiceList)))]
#[get("/services")]
pub(super) async fn list(_viewer: Viewer, state: Seen) -> Result<web::Json<ServiceList>, ApiError> {
    let database = state.database.clone();
    let now = Utc::now();
    let since = now - TimeDelta::hours(24);
    let (rows, limits, disturbed) = state
        .on_main(async move {
            let services = timeline::services(&database, now);
            futures_util::try_join!(
                services,
                limits::reached_since(&database, since),
                disturbed::of_services(&database, now)
            )
        })
        .await?;
    let items = rows
        .into_iter()
        .map(|row| ServiceItem {
            sampling: row.sampling().and_then(|sampling| sampling.note()),
            missing: missing(&Telemetry {
                versions: &row.versions,
                environments: &row.environments,
                requests: row.requests,
                occurrences: row.occurrences,
                has_users: row.has_users,
                has_metrics: row.has_metrics,
                sampling: row.sampling(),
                clock_ahead_ms: row.clock_ahead_ms,
                limits: limits.get(&row.id).map_or(&[], Vec::as_slice),
                disturbed: disturbed.get(&row.id).map_or(&[], Vec::as_slice),
                now: now.timestamp().div_euclid(60),
            }),
            namespace: row.namespace,
            service: row.name,
            environments: row.environments,
            versions: row.versions,
            first_received_at: row.first_received_at,
            last_event_at: row.last_event_at,
            requests: row.requests,
            occurrences: row.occurrences,
        })
        .collect();
    Ok(web::Json(ServiceList { items }))
}
