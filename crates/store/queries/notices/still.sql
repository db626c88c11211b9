-- Services, endpoints and sender keys that reported since $3, and nothing since $2, with their hours since $4; of endpoints and
-- services $5 at most, those first that have missed most by their mean. Looked at are those of which at least $6 reports would
-- have come meanwhile, and those that report seldom: what runs by a clock is missed once. Half a report suffices of these, since
-- the day of the first one counts as a whole. What is told to be silent is not read again: it stays so, until $7 at least, while
-- nothing is reported of it, for eight days after it was told.
WITH recent AS MATERIALIZED (
    SELECT DISTINCT service_id, environment_id, endpoint_id FROM traffic_minute WHERE minute >= $2::timestamptz - interval '1 minute'
), reported AS MATERIALIZED (
    -- A service also reports by its failures and its log lines.
    SELECT service_id, environment_id FROM recent UNION
    SELECT service_id, environment_id FROM occurrence o WHERE o.id >= first_id_at($2) UNION
    SELECT service_id, environment_id FROM log_record o WHERE o.id >= first_id_at($2)
), silent AS MATERIALIZED (
    SELECT e.what, e.event_key, split_part(e.what, ' ', 2) AS kind, split_part(e.what, ' ', 3)::integer AS service_id,
        split_part(e.what, ' ', 4)::integer AS environment_id, split_part(e.what, ' ', 5)::integer AS number
    FROM notice_episode e WHERE e.kind = 'silent'
), goes_on AS (
    UPDATE notice_episode e SET over_at = $7 FROM silent s
    WHERE e.what = s.what AND EXISTS (SELECT FROM notice_event told WHERE told.key = s.event_key AND told.at >= $3) AND NOT CASE s.kind
        WHEN 'service' THEN EXISTS (SELECT FROM reported r WHERE r.service_id = s.service_id AND r.environment_id = s.environment_id)
        WHEN 'endpoint' THEN EXISTS (SELECT FROM recent r WHERE r.endpoint_id = s.number AND r.environment_id = s.environment_id)
        ELSE EXISTS (SELECT FROM key_use u WHERE u.key_id = s.number AND u.requests > 0 AND u.hour + interval '1 hour' >= $2)
    END
), days AS MATERIALIZED (
    SELECT service_id, environment_id, endpoint_id, sum(requests)::float8 AS n,
        GREATEST(extract(epoch FROM $1 - min(day))::float8 / 3600, 1) AS known
    FROM traffic_day t WHERE day >= date_trunc('day', $3::timestamptz, 'UTC') AND day <= $1 AND NOT EXISTS (
        -- Of a silent service its endpoints are not looked at.
        SELECT FROM silent s WHERE s.kind = 'service' AND s.service_id = t.service_id AND s.environment_id = t.environment_id)
        AND NOT EXISTS (SELECT FROM recent r WHERE r.endpoint_id = t.endpoint_id AND r.environment_id = t.environment_id)
    GROUP BY 1, 2, 3
), dated AS MATERIALIZED (
    -- The last hour of each endpoint that is still: a step along an index.
    SELECT d.*, last.hour, (SELECT count(*) FROM reported r WHERE r.service_id = d.service_id AND r.environment_id = d.environment_id) = 0 AS is_still
    FROM days d CROSS JOIN LATERAL (
        SELECT h.hour FROM traffic_hour h WHERE h.service_id = d.service_id AND h.endpoint_id = d.endpoint_id
            AND h.environment_id = d.environment_id AND h.hour >= date_trunc('hour', $3::timestamptz) AND h.hour <= $1
        ORDER BY h.hour DESC LIMIT 1
    ) last
), quiet AS (
    SELECT 'service' AS kind, service_id, environment_id, NULL::integer AS endpoint_id, sum(n) / max(known) AS an_hour, max(hour) AS hour
    FROM dated WHERE is_still GROUP BY 2, 3
    UNION ALL
    SELECT 'endpoint', service_id, environment_id, endpoint_id, n / known, hour FROM dated d
    WHERE NOT EXISTS (SELECT FROM silent s WHERE s.kind = 'endpoint' AND s.number = d.endpoint_id AND s.environment_id = d.environment_id)
), candidates AS MATERIALIZED (
    SELECT *, an_hour * extract(epoch FROM $1 - hour)::float8 / 3600 AS missed FROM quiet
    WHERE an_hour * extract(epoch FROM $1 - hour)::float8 / 3600 >= CASE WHEN an_hour <= 2 THEN 0.5 ELSE $6 END
        AND (hour >= $1 - interval '48 hours' OR an_hour <= 0.2)
    ORDER BY missed DESC LIMIT $5
)
SELECT c.kind, c.service_id, service.display_name AS service, service.namespace, c.environment_id,
    environment.name AS environment, coalesce(c.endpoint_id, 0) AS number, coalesce(endpoint.name, '') AS name,
    coalesce(last.at, c.hour + interval '1 hour') AS last_at, past.hours, past.counts
FROM candidates c
JOIN service ON service.id = c.service_id
JOIN environment ON environment.id = c.environment_id
LEFT JOIN endpoint ON endpoint.id = c.endpoint_id
CROSS JOIN LATERAL (
    SELECT max(m.minute) + interval '1 minute' AS at FROM endpoint e
    JOIN traffic_minute m ON m.service_id = e.service_id AND m.endpoint_id = e.id AND m.environment_id = c.environment_id
        AND m.minute >= c.hour AND m.minute < c.hour + interval '1 hour'
    WHERE e.service_id = c.service_id AND (c.endpoint_id IS NULL OR e.id = c.endpoint_id)
) last
CROSS JOIN LATERAL (
    SELECT array_agg(floor(extract(epoch FROM h.hour) / 3600)::bigint ORDER BY h.hour) AS hours, array_agg(h.n ORDER BY h.hour) AS counts
    FROM (SELECT t.hour, sum(t.requests)::bigint AS n FROM endpoint e
        JOIN traffic_hour t ON t.service_id = e.service_id AND t.endpoint_id = e.id AND t.environment_id = c.environment_id AND t.hour >= $4
        WHERE e.service_id = c.service_id AND (c.endpoint_id IS NULL OR e.id = c.endpoint_id) GROUP BY 1) h
) past
WHERE past.hours IS NOT NULL
UNION ALL
SELECT 'sender', NULL, '', '', NULL, '', k.id, k.name, max(u.hour) + interval '1 hour',
    array_agg(floor(extract(epoch FROM u.hour) / 3600)::bigint ORDER BY u.hour), array_agg(u.requests ORDER BY u.hour)
FROM sender_key k JOIN key_use u ON u.key_id = k.id
WHERE k.revoked_at IS NULL AND u.hour >= $4 AND u.requests > 0
    AND NOT EXISTS (SELECT FROM silent s WHERE s.kind = 'sender' AND s.number = k.id)
GROUP BY k.id, k.name HAVING max(u.hour) + interval '1 hour' < $2 AND max(u.hour) >= $3
