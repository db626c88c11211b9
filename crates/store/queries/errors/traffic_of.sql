-- $1 from, $2 first whole hour, $3 end of the last whole hour, $4 to, $5 service, $6 environment, $7 version,
-- $8 first whole day, $9 end of the last whole day.
SELECT COALESCE(sum(requests), 0)::bigint, COALESCE(sum(failed), 0)::bigint
FROM (
    SELECT service_id, environment_id, version_id, requests, failed FROM served_day WHERE day >= $8 AND day < $9
    UNION ALL
    SELECT service_id, environment_id, version_id, requests, failed FROM served_hour
    WHERE hour >= $2 AND hour < $3 AND NOT (hour >= $8 AND hour < $9)
    UNION ALL
    SELECT service_id, environment_id, version_id, requests, failed FROM served_minute WHERE minute >= $1 AND minute < $2
    UNION ALL
    SELECT service_id, environment_id, version_id, requests, failed FROM served_minute WHERE minute >= $3 AND minute < $4
) AS traffic
WHERE ($5::text IS NULL OR service_id IN (SELECT services_named($5)))
    AND ($6::text IS NULL OR environment_id = (SELECT id FROM environment WHERE name = $6))
    AND ($7::text IS NULL OR version_id IN (SELECT id FROM version WHERE label = $7))
