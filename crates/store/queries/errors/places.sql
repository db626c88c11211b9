-- Users, endpoints and instances per error in the window, in parts to be merged: whole days and hours as folded, the ends of the
-- window and what is not folded yet from the occurrences. One statement, so that nothing is missed between the parts.
-- Instances are of the folded part alone: reading them of each occurrence would leave the index.
-- SOME: a condition on the causes of $5, where there are such.
-- $1 from, $2 first whole hour, $3 end of the last whole hour, $4 to, $5 errors (all where NULL), $6 environment, $7 version,
-- $8 first whole day, $9 end of the last whole day.
WITH place AS MATERIALIZED (
    SELECT cause.id AS cause_id, cause.error_id FROM cause WHERE $5::int[] IS NULL OR cause.error_id = ANY($5)
), bare AS (
    SELECT place.error_id, o.user_hash, o.endpoint_id, o.environment_id, o.version_id
    FROM place JOIN occurrence o ON o.cause_id = place.cause_id
    WHERE o.id >= first_id_at($1) AND o.id < first_id_at($2) SOME o.cause_id
    UNION ALL
    SELECT place.error_id, o.user_hash, o.endpoint_id, o.environment_id, o.version_id
    FROM place JOIN occurrence o ON o.cause_id = place.cause_id
    WHERE o.id >= first_id_at($3) AND o.id < first_id_at($4) SOME o.cause_id
    UNION ALL
    SELECT place.error_id, o.user_hash, o.endpoint_id, o.environment_id, o.version_id
    FROM touched JOIN place ON place.cause_id = touched.cause_id
    JOIN occurrence o ON o.cause_id = touched.cause_id AND o.environment_id = touched.environment_id
    WHERE touched.minute >= $2 AND touched.minute < $3
        AND o.id >= first_id_at(touched.minute) AND o.id < first_id_at(touched.minute + interval '1 minute')
)
SELECT place.error_id, reach.users, NULL::bigint[] AS hashes, reach.endpoints, reach.instances
FROM (
    SELECT cause_id, environment_id, version_id, users, endpoints, instances FROM reach_day WHERE day >= $8 AND day < $9 SOME cause_id
    UNION ALL
    SELECT cause_id, environment_id, version_id, users, endpoints, instances FROM reach_hour
    WHERE hour >= $2 AND hour < $3 AND NOT (hour >= $8 AND hour < $9) SOME cause_id
) AS reach
JOIN place ON reach.cause_id = place.cause_id
WHERE ($6::text IS NULL OR reach.environment_id = (SELECT id FROM environment WHERE name = $6))
    AND ($7::text IS NULL OR reach.version_id IN (SELECT id FROM version WHERE label = $7))
UNION ALL
SELECT error_id, NULL, array_agg(DISTINCT user_hash) FILTER (WHERE user_hash IS NOT NULL),
    COALESCE(array_agg(DISTINCT endpoint_id) FILTER (WHERE endpoint_id IS NOT NULL), '{}'), '{}'
FROM bare
WHERE ($6::text IS NULL OR environment_id = (SELECT id FROM environment WHERE name = $6))
    AND ($7::text IS NULL OR version_id IN (SELECT id FROM version WHERE label = $7))
GROUP BY error_id
