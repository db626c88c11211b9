-- STEP: day, hour or minute. $1 services, $2 from, $3 to, $4 seconds per step, $5 environment, $6 version. Summed before names are joined.
WITH summed AS MATERIALIZED (
    SELECT service_id, version_id, floor(date_part('epoch', STEP - $2) / $4)::int AS at, sum(requests)::bigint AS n
    FROM traffic_STEP
    WHERE service_id = ANY(ARRAY(SELECT services_named(asked) FROM UNNEST($1::text[]) AS asked)) AND STEP >= $2 AND STEP < $3
        AND ($5::text IS NULL OR environment_id = (SELECT id FROM environment WHERE name = $5))
    GROUP BY 1, 2, 3
)
SELECT service.display_name AS service, service.id AS owner, version.label AS version, summed.at, summed.n
FROM summed
JOIN service ON service.id = summed.service_id
JOIN version ON version.id = summed.version_id
WHERE $6::text IS NULL OR version.label = $6
ORDER BY 1, 3, 4
