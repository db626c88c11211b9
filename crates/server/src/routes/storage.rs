//! What is kept, for how long, and how much room it takes.

use actix_web::{get, web};
use outcrop_api::{Storage, StorageItem};
use outcrop_store::upkeep::space;

use super::viewer::{Seen, Viewer};
use crate::api_error::ApiError;

/// Says of each kind of data how long it is kept, how much room it takes and may take, and how much room there is.
#[utoipa::path(operation_id = "show_storage", tag = "services", responses((status = 200, body = Storage)))]
#[get("/storage")]
pub(super) async fn show_storage(_viewer: Viewer, state: Seen) -> Result<web::Json<Storage>, ApiError> {
    let (database, policy) = (state.database.clone(), state.settings.policy.clone());
    let (held, room) = state
        .on_main(async move { futures_util::try_join!(space::held(&database, &policy), space::room(&database)) })
        .await?;
    let policy = &state.settings.policy;
    let items = held
        .into_iter()
        .map(|held| StorageItem {
            kind: held.kind.name().to_owned(),
            bytes: held.bytes,
            days: held.days,
            max_bytes: held.max_bytes,
        })
        .collect();
    Ok(web::Json(Storage {
        items,
        bytes: room.used,
        max_bytes: policy.database_bytes,
        free_bytes: room.free,
        min_free_bytes: policy.min_free_bytes,
        closed: state.intake.closed(),
    }))
}
