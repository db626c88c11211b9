-- Errors with an occurrence in the window. Whole days come from tally_day, whole hours around them from tally_hour, the
-- minutes at both ends from tally_minute; they are summed before anything is joined to them.
-- $1 from, $2 first whole hour, $3 end of the last whole hour, $4 to, $5 service, $6 environment, $7 version, $8 errors (all where NULL),
-- $9 first whole day, $10 end of the last whole day,
-- SOME and EVER: conditions on the causes of $8, where there are such.
-- $11 where the window's last quarter begins: days and hours count to it by their beginning.
WITH hits AS (
    SELECT cause_id, environment_id, version_id, n, day AS at FROM tally_day WHERE day >= $9 AND day < $10 SOME
    UNION ALL
    SELECT cause_id, environment_id, version_id, n, hour AS at FROM tally_hour
    WHERE hour >= $2 AND hour < $3 AND NOT (hour >= $9 AND hour < $10) SOME
    UNION ALL
    SELECT cause_id, environment_id, version_id, n, minute AS at FROM tally_minute WHERE minute >= $1 AND minute < $2 SOME
    UNION ALL
    SELECT cause_id, environment_id, version_id, n, minute AS at FROM tally_minute WHERE minute >= $3 AND minute < $4 SOME
), summed AS MATERIALIZED (
    SELECT cause_id, environment_id, version_id, sum(n)::bigint AS n, COALESCE(sum(n) FILTER (WHERE at >= $11), 0)::bigint AS recent FROM hits
    GROUP BY 1, 2, 3
), counted AS (
    SELECT cause.error_id, sum(summed.n)::bigint AS count, sum(summed.recent)::bigint AS recent,
        array_agg(DISTINCT summed.environment_id) AS environments, array_agg(DISTINCT summed.version_id) AS versions
    FROM summed
    JOIN cause ON cause.id = summed.cause_id
    JOIN environment ON environment.id = summed.environment_id
    JOIN version ON version.id = summed.version_id
    WHERE summed.n <> 0
        AND ($6::text IS NULL OR environment.name = $6) AND ($7::text IS NULL OR version.label = $7)
    GROUP BY cause.error_id
    HAVING sum(summed.n) > 0
), ever AS (
    SELECT cause.error_id, min(sighted.first_at) AS first_seen, max(sighted.last_at) AS last_seen,
        (array_agg(sighted.version_id ORDER BY sighted.first_at))[1] AS first_version_id,
        sum(sighted.uncaught) > 0 AS uncaught, max(sighted.severity) AS severity
    FROM sighted
    JOIN cause ON cause.id = sighted.cause_id
    WHERE EVER cause.error_id = ANY(CASE WHEN $8::int[] IS NULL THEN ARRAY(SELECT error_id FROM counted) ELSE $8 END)
    GROUP BY cause.error_id
    HAVING sum(sighted.n) > 0
)
SELECT ever.error_id,
    -- It came with its version: first seen within an hour of the version's own first event, which was not the service's first.
    EXISTS (
        SELECT 1 FROM deployed d WHERE d.service_id = service.id AND d.version_id = ever.first_version_id
            AND ever.first_seen < d.first_event_at + interval '1 hour'
            AND EXISTS (SELECT 1 FROM deployed earlier WHERE earlier.service_id = service.id AND earlier.environment_id = d.environment_id
                AND earlier.version_id <> d.version_id AND earlier.first_event_at < d.first_event_at)
    ) AS came_with_version,
    service.namespace, service.display_name AS service, error_group.type AS type_name, error_group.title, error_group.own_frame,
    COALESCE(counted.count, 0) AS count, COALESCE(counted.recent, 0) AS recent, COALESCE(counted.environments, '{}') AS environments, COALESCE(counted.versions, '{}') AS versions,
    service.id AS service_id, ever.first_seen, ever.last_seen, first.label AS first_version, ever.uncaught, ever.severity
FROM ever
JOIN error_group ON error_group.id = ever.error_id
JOIN service ON service.id = error_group.service_id
JOIN version first ON first.id = ever.first_version_id
LEFT JOIN counted ON counted.error_id = ever.error_id
WHERE $5::text IS NULL OR service.id IN (SELECT services_named($5))
ORDER BY ever.error_id
