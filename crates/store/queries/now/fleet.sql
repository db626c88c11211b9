-- Requests of each service, version and step of $4 seconds between $1 and $2, in the environment $3 or in all where it is
-- NULL.
SELECT t.service_id, t.version_id, version.label AS version, floor(extract(epoch FROM t.minute - $1) / $4)::int AS step,
    sum(t.requests)::bigint AS requests, sum(t.failed)::bigint AS failed
FROM traffic_minute t JOIN version ON version.id = t.version_id
WHERE t.minute >= $1 AND t.minute < $2
    AND ($3::text IS NULL OR t.environment_id IN (SELECT id FROM environment WHERE name = $3))
GROUP BY 1, 2, 3, 4
