-- STEP: day, hour or minute. $1 numbers of services, $2 from, $3 to, $4 seconds per step, $5 environment, $6 version. Summed before names are joined.
WITH summed AS MATERIALIZED (
    SELECT service_id, version_id, floor(date_part('epoch', STEP - $2) / $4)::int AS at, sum(requests)::bigint AS n
    FROM served_STEP
    WHERE service_id = ANY($1) AND STEP >= $2 AND STEP < $3
        AND ($5::text IS NULL OR environment_id = (SELECT id FROM environment WHERE name = $5))
    GROUP BY 1, 2, 3
)
SELECT summed.service_id AS owner, version.label AS version, summed.at, summed.n
FROM summed
JOIN version ON version.id = summed.version_id
WHERE $6::text IS NULL OR version.label = $6
ORDER BY 1, 2, 3
