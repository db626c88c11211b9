-- Takes minutes to fold. The rows stay locked until the fold is written: a writer that touches one of them waits, then
-- makes it anew. $1 how many at most.
DELETE FROM touched
WHERE ctid = ANY(ARRAY(SELECT ctid FROM touched ORDER BY cause_id, environment_id, minute LIMIT $1 FOR UPDATE SKIP LOCKED))
RETURNING cause_id, environment_id, minute, recount
