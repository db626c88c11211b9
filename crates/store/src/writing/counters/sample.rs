//! An even sample of requests: what errors' occurrences are compared with.

use outcrop_core::Digest;
use outcrop_core::failure::{OccurrenceId, SAMPLED_ONE_IN};
use sqlx::PgConnection;

use crate::Remembered;
use crate::StoreError;
use crate::database::copy::Rows;
use crate::ids::id_uuid;
use crate::writing::dictionary::names::SenderIds;
use crate::writing::work::Work;

/// Candidates kept per sender and hour before thinning begins, and how many then stand for one.
const KEPT_ALL: u32 = 200;
const KEPT_ONE_IN: u32 = 20;
/// Hours counted at once; forgotten all together past this.
const MAX_COUNTED: usize = 50_000;

/// Counts candidates per sender and hour, by this process alone.
#[derive(Default)]
pub(crate) struct Thinning {
    counts: Remembered<(SenderIds, i64), u32, MAX_COUNTED>,
}

impl Thinning {
    /// How many requests the next candidate stands for; `None` where it is left out.
    fn weight(&self, sender: SenderIds, hour: i64) -> Option<u32> {
        let count = self.counts.change((sender, hour), u32::default, |count| {
            *count = count.saturating_add(1);
            *count
        });
        if count <= KEPT_ALL {
            return Some(SAMPLED_ONE_IN);
        }
        count
            .is_multiple_of(KEPT_ONE_IN)
            .then_some(SAMPLED_ONE_IN * KEPT_ONE_IN)
    }
}

/// Stores the sampled requests of a batch.
pub(crate) async fn store(
    connection: &mut PgConnection,
    work: &Work<'_>,
    thinning: &Thinning,
) -> Result<(), StoreError> {
    let mut rows = Rows::new(7);
    for (sender, endpoint, span) in &work.requests {
        let Some(entry) = &span.entry else { continue };
        let Some(attributes) = &entry.sampled else { continue };
        let Some(weight) = thinning.weight(*sender, entry.at.hour().millis()) else {
            continue;
        };
        let of_span = [span.trace_id.0.as_slice(), &span.facts.id.0.to_be_bytes()].concat();
        let id = OccurrenceId::new(entry.at, Digest::of_bytes(&of_span));
        let json = serde_json::to_vec(&attributes.to_json()).expect("a map of JSON values always encodes");
        #[expect(clippy::cast_precision_loss, reason = "weights need no more digits")]
        rows.row()
            .uuid(id_uuid(id))
            .int4(sender.service)
            .int4(sender.environment)
            .int4(sender.version)
            .int4(*endpoint)
            .float4(weight as f32 * entry.weight.max(1) as f32)
            .jsonb(&json);
    }
    if rows.is_empty() {
        return Ok(());
    }
    // A span that comes again after its trace's state was purged is sampled again: its row is there already.
    sqlx::query("CREATE TEMPORARY TABLE IF NOT EXISTS sampled_now (LIKE request_sample) ON COMMIT DELETE ROWS")
        .execute(&mut *connection)
        .await?;
    rows.send(connection, "COPY sampled_now FROM STDIN (FORMAT binary)")
        .await?;
    sqlx::query(
        "INSERT INTO request_sample SELECT DISTINCT ON (id) * FROM sampled_now ORDER BY id ON CONFLICT (id) DO NOTHING",
    )
    .execute(connection)
    .await?;
    Ok(())
}
