-- Services, endpoints and sender keys that reported between $3 and $2, and nothing since $2; their hours since $4; $5 at most.
WITH hours AS (
    SELECT service_id, environment_id, endpoint_id, hour, sum(requests)::bigint AS n FROM traffic_hour
    WHERE hour >= date_trunc('hour', $3::timestamptz) AND hour <= $1 GROUP BY 1, 2, 3, 4
), recent AS (
    SELECT DISTINCT service_id, environment_id, endpoint_id FROM traffic_minute WHERE minute >= $2::timestamptz - interval '1 minute'
), reported AS (
    -- A service also reports by its failures and its log lines.
    SELECT service_id, environment_id FROM recent UNION
    SELECT service_id, environment_id FROM occurrence o WHERE o.id >= first_id_at($2) UNION
    SELECT service_id, environment_id FROM log_record o WHERE o.id >= first_id_at($2)
), candidates AS (
    SELECT 'service' AS kind, service_id, environment_id, NULL::integer AS endpoint_id, sum(n) AS n FROM hours h
    WHERE NOT EXISTS (SELECT FROM reported r WHERE r.service_id = h.service_id AND r.environment_id = h.environment_id)
    GROUP BY 2, 3
    UNION ALL
    SELECT 'endpoint', service_id, environment_id, endpoint_id, sum(n) FROM hours h
    WHERE NOT EXISTS (SELECT FROM recent r WHERE r.endpoint_id = h.endpoint_id AND r.environment_id = h.environment_id)
    GROUP BY 2, 3, 4
    ORDER BY 5 DESC LIMIT $5
)
SELECT c.kind, c.service_id, service.display_name AS service, service.namespace, c.environment_id,
    environment.name AS environment, coalesce(c.endpoint_id, 0) AS number, coalesce(endpoint.name, '') AS name,
    last.at AS last_at, past.hours, past.counts
FROM candidates c
JOIN service ON service.id = c.service_id
JOIN environment ON environment.id = c.environment_id
LEFT JOIN endpoint ON endpoint.id = c.endpoint_id
CROSS JOIN LATERAL (
    SELECT max(m.minute) + interval '1 minute' AS at FROM traffic_minute m
    WHERE m.minute >= $3 AND m.minute <= $1 AND m.service_id = c.service_id AND m.environment_id = c.environment_id
        AND (c.endpoint_id IS NULL OR m.endpoint_id = c.endpoint_id)
) last
CROSS JOIN LATERAL (
    SELECT array_agg(floor(extract(epoch FROM h.hour) / 3600)::bigint ORDER BY h.hour) AS hours, array_agg(h.n ORDER BY h.hour) AS counts
    FROM (SELECT t.hour, sum(t.requests)::bigint AS n FROM traffic_hour t
        WHERE t.hour >= $4 AND t.service_id = c.service_id AND t.environment_id = c.environment_id
            AND (c.endpoint_id IS NULL OR t.endpoint_id = c.endpoint_id) GROUP BY 1) h
) past
WHERE last.at IS NOT NULL AND past.hours IS NOT NULL
UNION ALL
SELECT 'sender', NULL, '', '', NULL, '', k.id, k.name, max(u.hour) + interval '1 hour',
    array_agg(floor(extract(epoch FROM u.hour) / 3600)::bigint ORDER BY u.hour), array_agg(u.requests ORDER BY u.hour)
FROM sender_key k JOIN key_use u ON u.key_id = k.id
WHERE k.revoked_at IS NULL AND u.hour >= $4 AND u.requests > 0
GROUP BY k.id, k.name HAVING max(u.hour) + interval '1 hour' < $2 AND max(u.hour) >= $3
