-- The error that most of the newest failures between $2 and $3 at each of the endpoints $1 are of, in the environment $4 or
-- in all where it is NULL: of 2,000 of each cause.
SELECT DISTINCT ON (1) seen.endpoint_id, cause.error_id, count(*)
FROM (
    SELECT DISTINCT t.cause_id FROM tally_minute t JOIN cause ON cause.id = t.cause_id
    WHERE t.minute >= $2 AND t.minute < $3 AND cause.service_id IN (SELECT service_id FROM endpoint WHERE id = ANY($1))
) active JOIN cause ON cause.id = active.cause_id
CROSS JOIN LATERAL (
    SELECT o.endpoint_id, o.environment_id FROM occurrence o
    WHERE o.cause_id = active.cause_id AND o.id >= first_id_at($2) AND o.id < first_id_at($3)
    ORDER BY o.id DESC LIMIT 2000
) seen
WHERE seen.endpoint_id = ANY($1)
    AND ($4::text IS NULL OR seen.environment_id IN (SELECT id FROM environment WHERE name = $4))
GROUP BY 1, 2 ORDER BY 1, 3 DESC, 2
