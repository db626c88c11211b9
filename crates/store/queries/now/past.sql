-- Requests of the endpoints $1 since $2, up to $3: by whole days, and by hours of the last one. $4 an environment or NULL.
SELECT t.endpoint_id, sum(t.requests)::bigint, sum(t.failed)::bigint
FROM endpoint e CROSS JOIN LATERAL (
    SELECT endpoint_id, environment_id, requests, failed FROM traffic_day d
    WHERE d.service_id = e.service_id AND d.endpoint_id = e.id AND d.day >= $2 AND d.day < date_trunc('day', $3::timestamptz, 'UTC')
    UNION ALL
    SELECT endpoint_id, environment_id, requests, failed FROM traffic_hour h
    WHERE h.service_id = e.service_id AND h.endpoint_id = e.id AND h.hour >= date_trunc('day', $3::timestamptz, 'UTC') AND h.hour < $3
) t
WHERE e.id = ANY($1) AND ($4::text IS NULL OR t.environment_id IN (SELECT id FROM environment WHERE name = $4))
GROUP BY 1
