-- Endpoints with requests between $1 and $2, with the past between $3 and $4; $5 an environment or NULL.
WITH newest AS (
    SELECT t.endpoint_id, sum(t.requests)::bigint AS now, sum(t.failed)::bigint AS now_failed
    FROM traffic_minute t WHERE t.minute >= $1 AND t.minute < $2
        AND ($5::text IS NULL OR t.environment_id IN (SELECT id FROM environment WHERE name = $5))
    GROUP BY 1
), past AS (
    SELECT h.endpoint_id, sum(h.requests)::bigint AS past, sum(h.failed)::bigint AS past_failed FROM traffic_hour h
    WHERE h.hour >= $3 AND h.hour < $4 - interval '1 hour'
        AND ($5::text IS NULL OR h.environment_id IN (SELECT id FROM environment WHERE name = $5))
    GROUP BY 1
)
SELECT n.endpoint_id, service.id AS service_id, service.display_name AS service, endpoint.name, n.now, n.now_failed,
    coalesce(p.past, 0) AS past, coalesce(p.past_failed, 0) AS past_failed
FROM newest n JOIN endpoint ON endpoint.id = n.endpoint_id JOIN service ON service.id = endpoint.service_id
LEFT JOIN past p ON p.endpoint_id = n.endpoint_id
