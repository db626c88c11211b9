-- Users and endpoints per error in the window: an index-only scan of occurrence_by_cause.
-- $1 first id, $2 id after the last, $3 errors, $4 environment, $5 version.
SELECT cause.error_id, count(DISTINCT occurrence.user_hash),
    COALESCE(array_agg(DISTINCT occurrence.endpoint_id) FILTER (WHERE occurrence.endpoint_id IS NOT NULL), '{}')
FROM cause
JOIN occurrence ON occurrence.cause_id = cause.id
WHERE cause.error_id = ANY($3) AND occurrence.id >= $1 AND occurrence.id < $2
    AND ($4::text IS NULL OR occurrence.environment_id = (SELECT id FROM environment WHERE name = $4))
    AND ($5::text IS NULL OR occurrence.version_id IN (SELECT id FROM version WHERE label = $5))
GROUP BY cause.error_id
