//! How the installation is, for its admins.

use actix_web::{get, web};
use outcrop_api::{FindingItem, Installation, Problem};

use super::viewer::{Seen, Viewer};
use crate::answers::installation;
use crate::api_error::ApiError;

/// Says what is not as it should be with database, jobs, senders and room, and what to do about it.
#[utoipa::path(operation_id = "show_installation", tag = "services", responses(
    (status = 200, body = Installation),
    (status = 403, body = Problem, content_type = "application/problem+json"),
))]
#[get("/installation")]
pub(super) async fn show_installation(viewer: Viewer, state: Seen) -> Result<web::Json<Installation>, ApiError> {
    viewer.must_admin()?;
    let findings = installation::findings(&state).await?;
    Ok(web::Json(Installation {
        version: env!("CARGO_PKG_VERSION").to_owned(),
        findings: findings
            .into_iter()
            .map(|finding| FindingItem {
                level: finding.level.word().to_owned(),
                about: finding.about.to_owned(),
                says: finding.says,
                todo: Some(finding.todo).filter(|todo| !todo.is_empty()),
            })
            .collect(),
    }))
}
