-- Errors with an occurrence in the window. Whole days come from tally_day, whole hours around them from tally_hour, the
-- minutes at both ends from tally_minute; they are summed before anything is joined to them.
-- $1 from, $2 first whole hour, $3 end of the last whole hour, $4 to, $5 service, $6 environment, $7 version, $8 error,
-- $9 first whole day, $10 end of the last whole day,
-- $11 where the window's last quarter begins: days and hours count to it by their beginning.
WITH hits AS (
    SELECT cause_id, environment_id, version_id, n, day AS at FROM tally_day WHERE day >= $9 AND day < $10
    UNION ALL
    SELECT cause_id, environment_id, version_id, n, hour AS at FROM tally_hour
    WHERE hour >= $2 AND hour < $3 AND NOT (hour >= $9 AND hour < $10)
    UNION ALL
    SELECT cause_id, environment_id, version_id, n, minute AS at FROM tally_minute WHERE minute >= $1 AND minute < $2
    UNION ALL
    SELECT cause_id, environment_id, version_id, n, minute AS at FROM tally_minute WHERE minute >= $3 AND minute < $4
), summed AS MATERIALIZED (
    SELECT cause_id, environment_id, version_id, sum(n)::bigint AS n, COALESCE(sum(n) FILTER (WHERE at >= $11), 0)::bigint AS recent FROM hits
    WHERE $8::int IS NULL OR cause_id IN (SELECT id FROM cause WHERE error_id = $8)
    GROUP BY 1, 2, 3
), counted AS (
    SELECT cause.error_id, sum(summed.n)::bigint AS count, sum(summed.recent)::bigint AS recent,
        array_agg(DISTINCT summed.environment_id) AS environments, array_agg(DISTINCT summed.version_id) AS versions
    FROM summed
    JOIN cause ON cause.id = summed.cause_id
    JOIN environment ON environment.id = summed.environment_id
    JOIN version ON version.id = summed.version_id
    WHERE summed.n <> 0
        AND ($6::text IS NULL OR environment.name = $6) AND ($7::text IS NULL OR version.label = $7) AND ($8::int IS NULL OR cause.error_id = $8)
    GROUP BY cause.error_id
    HAVING sum(summed.n) > 0
), ever AS (
    SELECT cause.error_id, min(sighted.first_at) AS first_seen, max(sighted.last_at) AS last_seen,
        (array_agg(version.label ORDER BY sighted.first_at))[1] AS first_version,
        sum(sighted.uncaught) > 0 AS uncaught, max(sighted.severity) AS severity
    FROM sighted
    JOIN cause ON cause.id = sighted.cause_id
    JOIN version ON version.id = sighted.version_id
    WHERE $8::int IS NOT NULL AND cause.error_id = $8 OR $8::int IS NULL AND cause.error_id IN (SELECT error_id FROM counted)
    GROUP BY cause.error_id
    HAVING sum(sighted.n) > 0
)
SELECT ever.error_id,
    -- It came with its version: first seen within an hour of the version's own first event, which was not the service's first.
    EXISTS (
        SELECT 1 FROM deployed JOIN version ON version.id = deployed.version_id
        WHERE version.service_id = service.id AND version.label = ever.first_version
            AND ever.first_seen < deployed.first_event_at + interval '1 hour'
            AND EXISTS (SELECT 1 FROM deployed earlier WHERE earlier.service_id = service.id AND earlier.environment_id = deployed.environment_id
                AND earlier.version_id <> deployed.version_id AND earlier.first_event_at < deployed.first_event_at)
    ) AS came_with_version,
    service.namespace, service.display_name AS service, error_group.type AS type_name, error_group.title, error_group.own_frame,
    COALESCE(counted.count, 0) AS count, COALESCE(counted.recent, 0) AS recent, COALESCE(counted.environments, '{}') AS environments, COALESCE(counted.versions, '{}') AS versions,
    service.id AS service_id, ever.first_seen, ever.last_seen, ever.first_version, ever.uncaught, ever.severity
FROM ever
JOIN error_group ON error_group.id = ever.error_id
JOIN service ON service.id = error_group.service_id
LEFT JOIN counted ON counted.error_id = ever.error_id
WHERE $5::text IS NULL OR service.id IN (SELECT services_named($5))
ORDER BY ever.error_id
