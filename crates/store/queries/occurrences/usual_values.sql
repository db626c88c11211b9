-- Shares of the sampled requests of a service. $1 service, $2 from, $3 to, $4 environment, $5 names, $6 values: pairs asked for.
WITH seen AS (
    SELECT sample.*, ('x' || substr(replace(sample.id::text, '-', ''), 1, 12))::bit(48)::bigint AS millis
    FROM request_sample sample
    WHERE service_id = $1 AND id >= first_id_at($2) AND id < first_id_at($3)
        AND ($4::text IS NULL OR environment_id = (SELECT id FROM environment WHERE name = $4))
    ORDER BY id DESC LIMIT 5000
), described AS (
    SELECT pair.key AS name, pair.value, weight FROM seen CROSS JOIN LATERAL jsonb_each_text(seen.attributes) AS pair
    UNION ALL
    SELECT 'version', label, weight FROM seen JOIN version ON version.id = seen.version_id
    UNION ALL
    SELECT 'environment', name, weight FROM seen JOIN environment ON environment.id = seen.environment_id
    UNION ALL
    SELECT 'endpoint', name, weight FROM seen JOIN endpoint ON endpoint.id = seen.endpoint_id
    UNION ALL
    SELECT 'hour of the day (UTC)', to_char(to_timestamp(millis / 1000.0) AT TIME ZONE 'UTC', 'HH24'), weight FROM seen
    UNION ALL
    SELECT 'minute of the hour', to_char(to_timestamp(millis / 1000.0) AT TIME ZONE 'UTC', 'MI'), weight FROM seen
    UNION ALL
    SELECT 'weekday (UTC)', to_char(to_timestamp(millis / 1000.0) AT TIME ZONE 'UTC', 'FMDay'), weight FROM seen
), whole AS (
    SELECT COALESCE(sum(weight), 0)::float8 AS weight, COALESCE(sum(weight) ^ 2 / sum(weight ^ 2), 0)::float8 AS worth, count(*) AS rows FROM seen
)
SELECT asked.name, asked.value, COALESCE(sum(described.weight), 0)::float8 AS weight, whole.weight AS whole, whole.worth, whole.rows,
    EXISTS (SELECT 1 FROM described d WHERE d.name = asked.name) AS is_sent
FROM UNNEST($5::text[], $6::text[]) AS asked (name, value)
CROSS JOIN whole
LEFT JOIN described ON described.name = asked.name AND described.value = asked.value
GROUP BY asked.name, asked.value, whole.weight, whole.worth, whole.rows
