-- $1 errors, $2 from, $3 to, $4 seconds per step, $5 environment, $6 version.
SELECT cause.error_id AS owner, version.label AS version, (extract(epoch FROM tally.hour - $2)::bigint / $4)::int AS at, sum(tally.n)::bigint AS n
FROM cause
JOIN tally_hour AS tally ON tally.cause_id = cause.id
JOIN version ON version.id = tally.version_id
WHERE cause.error_id = ANY($1) AND tally.hour >= $2 AND tally.hour < $3
    AND ($5::text IS NULL OR tally.environment_id = (SELECT id FROM environment WHERE name = $5)) AND ($6::text IS NULL OR version.label = $6)
GROUP BY 1, 2, 3
HAVING sum(tally.n) > 0
ORDER BY 1, 2, 3
