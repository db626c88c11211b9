-- The latest occurrence per error: one step down the index per cause.
SELECT DISTINCT ON (cause.error_id) cause.error_id, newest.id, newest.message
FROM cause
CROSS JOIN LATERAL (SELECT id, message FROM occurrence WHERE cause_id = cause.id ORDER BY id DESC LIMIT 1) AS newest
WHERE cause.error_id = ANY($1)
ORDER BY cause.error_id, newest.id DESC
