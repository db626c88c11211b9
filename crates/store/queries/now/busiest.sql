-- Errors with most occurrences between $1 and $2; $3 an environment or NULL, $4 how many.
SELECT error_group.id AS error_id, error_group.title, service.display_name AS service, newest.n AS count, newest.since,
    coalesce((SELECT sum(t.n) FROM tally_hour t JOIN cause c ON c.id = t.cause_id WHERE c.error_id = error_group.id
        AND t.hour >= $2 - interval '25 hours' AND t.hour < $2 - interval '1 hour'), 0)::float8 / 96 AS usual
FROM (
    SELECT cause.error_id, sum(t.n)::bigint AS n, min(t.minute) AS since FROM tally_minute t JOIN cause ON cause.id = t.cause_id
    WHERE t.minute >= $1 AND t.minute < $2 AND ($3::text IS NULL OR t.environment_id IN (SELECT id FROM environment WHERE name = $3))
    GROUP BY 1 ORDER BY 2 DESC LIMIT $4
) newest JOIN error_group ON error_group.id = newest.error_id JOIN service ON service.id = error_group.service_id
WHERE newest.n > 0 ORDER BY newest.n DESC, error_group.id
