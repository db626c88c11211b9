-- STEP: day, hour or minute. $1 errors, $2 from, $3 to, $4 seconds per step, $5 environment, $6 version. Summed before names are joined.
WITH summed AS MATERIALIZED (
    SELECT cause_id, version_id, floor(date_part('epoch', STEP - $2) / $4)::int AS at, sum(n)::bigint AS n
    FROM tally_STEP
    WHERE cause_id = ANY(ARRAY(SELECT id FROM cause WHERE error_id = ANY($1))) AND STEP >= $2 AND STEP < $3
        AND ($5::text IS NULL OR environment_id = (SELECT id FROM environment WHERE name = $5))
    GROUP BY 1, 2, 3
)
SELECT cause.error_id AS owner, version.label AS version, summed.at, sum(summed.n)::bigint AS n
FROM summed
JOIN cause ON cause.id = summed.cause_id
JOIN version ON version.id = summed.version_id
WHERE $6::text IS NULL OR version.label = $6
GROUP BY 1, 2, 3
HAVING sum(summed.n) > 0
ORDER BY 1, 2, 3
