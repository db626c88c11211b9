), described AS (
    SELECT pair.key AS name, pair.value FROM seen
    LEFT JOIN resource ON resource.hash = seen.resource
    CROSS JOIN LATERAL jsonb_each_text(COALESCE(resource.body, '{}'::jsonb) || seen.attributes) AS pair
    -- What tells of a call to elsewhere is not held against requests; notes of ours tell of nothing.
    WHERE NOT COALESCE(seen.attributes -> 'outcrop.of_call' ? pair.key, false) AND pair.key NOT IN ('outcrop.of_call', 'outcrop.sent_as', 'outcrop.request.duration_ms')
    UNION ALL
    SELECT 'version', label FROM seen JOIN version ON version.id = seen.version_id
    UNION ALL
    SELECT 'environment', name FROM seen JOIN environment ON environment.id = seen.environment_id
    UNION ALL
    SELECT 'endpoint', name FROM seen JOIN endpoint ON endpoint.id = seen.endpoint_id
    UNION ALL
    SELECT 'hour of the day (UTC)', to_char(to_timestamp(millis / 1000.0) AT TIME ZONE 'UTC', 'HH24') FROM seen
    UNION ALL
    SELECT 'minute of the hour', to_char(to_timestamp(millis / 1000.0) AT TIME ZONE 'UTC', 'MI') FROM seen
    UNION ALL
    SELECT 'weekday (UTC)', to_char(to_timestamp(millis / 1000.0) AT TIME ZONE 'UTC', 'FMDay') FROM seen
), counted AS (
    SELECT name, value, count(*) AS n, row_number() OVER (PARTITION BY name ORDER BY count(*) DESC, value) AS rank,
        count(*) OVER (PARTITION BY name) AS kinds
    FROM described
    WHERE value <> '' AND length(value) <= 200 AND name NOT LIKE 'exception.%'
    GROUP BY name, value
)
SELECT name, value, n, kinds FROM counted WHERE rank <= 20 ORDER BY name, rank
