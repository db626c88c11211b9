-- The fullest has its exact data where any has. $1 error, $2 environment, $3 version, $4 first | latest | fullest | older |
-- newer | at | from, $5 the id it is older or newer than, at, or from on.
WITH kept AS (
    SELECT occurrence.id, occurrence.version_id FROM cause
    JOIN occurrence ON occurrence.cause_id = cause.id
    WHERE cause.error_id = $1 AND ($2::text IS NULL OR occurrence.environment_id = (SELECT id FROM environment WHERE name = $2))
), newest AS (
    SELECT id FROM kept WHERE $3::text IS NULL OR version_id IN (SELECT id FROM version WHERE label = $3) ORDER BY id DESC LIMIT 500
), chosen AS (
    SELECT CASE $4
        WHEN 'first' THEN (SELECT id FROM kept ORDER BY id LIMIT 1)
        WHEN 'latest' THEN (SELECT id FROM newest ORDER BY id DESC LIMIT 1)
        WHEN 'older' THEN (SELECT id FROM kept WHERE id < $5 ORDER BY id DESC LIMIT 1)
        WHEN 'at' THEN (SELECT id FROM kept WHERE id = $5)
        WHEN 'from' THEN (SELECT id FROM kept WHERE id >= $5 ORDER BY id LIMIT 1)
        WHEN 'newer' THEN (SELECT id FROM kept WHERE id > $5 ORDER BY id LIMIT 1)
        ELSE (SELECT occurrence.id FROM newest JOIN occurrence USING (id)
            ORDER BY EXISTS (SELECT FROM payload WHERE occurrence_id = id UNION ALL SELECT FROM kept_body WHERE occurrence_id = id) DESC,
                (occurrence.stack IS NOT NULL)::int DESC, pg_column_size(occurrence.attributes) DESC, occurrence.id DESC LIMIT 1)
        END AS id
)
SELECT chosen.id, (SELECT count(*) FROM kept WHERE kept.id <= chosen.id), (SELECT count(*) FROM kept)
FROM chosen WHERE chosen.id IS NOT NULL
