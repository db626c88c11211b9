-- Endpoints with requests between $1 and $2, in the environment $3 or in all where it is NULL.
WITH newest AS MATERIALIZED (
    SELECT t.endpoint_id, sum(t.requests)::bigint AS now, sum(t.failed)::bigint AS now_failed
    FROM traffic_minute t WHERE t.minute >= $1 AND t.minute < $2
        AND ($3::text IS NULL OR t.environment_id IN (SELECT id FROM environment WHERE name = $3))
    GROUP BY 1
)
SELECT n.endpoint_id, service.id AS service_id, service.display_name AS service, endpoint.name, n.now, n.now_failed
FROM newest n JOIN endpoint ON endpoint.id = n.endpoint_id JOIN service ON service.id = endpoint.service_id
