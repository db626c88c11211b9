-- Requests of each service, version and step of $4 seconds between $1 and $2, in the environment $3 or in all where it is
-- NULL. Summed before names are joined.
WITH summed AS MATERIALIZED (
    SELECT service_id, version_id, floor(date_part('epoch', minute - $1) / $4)::int AS step,
        sum(requests)::bigint AS requests, sum(failed)::bigint AS failed
    FROM served_minute
    WHERE minute >= $1 AND minute < $2 AND ($3::text IS NULL OR environment_id IN (SELECT id FROM environment WHERE name = $3))
    GROUP BY 1, 2, 3
)
SELECT summed.service_id, summed.version_id, version.label AS version, summed.step, summed.requests, summed.failed
FROM summed JOIN version ON version.id = summed.version_id
