-- $1 since when requests and occurrences are counted: each count is one pass over all services.
WITH served AS (
    SELECT service_id, sum(requests)::bigint AS n FROM served_hour WHERE hour >= $1 GROUP BY 1
), occurred AS (
    SELECT cause.service_id, sum(t.n)::bigint AS n
    FROM (SELECT cause_id, sum(n) AS n FROM tally_hour WHERE hour >= $1 GROUP BY 1) t JOIN cause ON cause.id = t.cause_id GROUP BY 1
), reached AS (
    -- A set's first byte is its form: longer ones have members.
    SELECT DISTINCT cause.service_id FROM (SELECT DISTINCT cause_id FROM reach_hour WHERE hour >= $1 AND octet_length(users) > 1) r
    JOIN cause ON cause.id = r.cause_id
), labelled AS (
    SELECT service_id, array_agg(label ORDER BY first, label) AS versions, min(first) AS first_received_at, max(last) AS last_event_at
    FROM (
        SELECT d.service_id, version.label, min(d.first_received_at) AS first, max(d.last_event_at) AS last
        FROM deployed d JOIN version ON version.id = d.version_id GROUP BY 1, 2
    ) each_label GROUP BY 1
), placed AS (
    SELECT service_id, array_agg(name ORDER BY name) AS environments
    FROM (SELECT DISTINCT d.service_id, environment.name FROM deployed d JOIN environment ON environment.id = d.environment_id) each_place
    GROUP BY 1
), sampled AS (
    SELECT service_id, sum(sent)::bigint AS sent, sum(known)::bigint AS known, sum(stand_for)::bigint AS stand_for, sum(lines)::bigint AS lines,
        sum(lines_unsampled)::bigint AS lines_unsampled
    FROM sampling_hour WHERE hour >= date_trunc('hour', $1::timestamptz) GROUP BY 1
)
SELECT service.id, service.namespace, service.display_name AS name, placed.environments, labelled.versions, labelled.first_received_at,
    labelled.last_event_at, COALESCE(served.n, 0) AS requests, COALESCE(occurred.n, 0) AS occurrences,
    reached.service_id IS NOT NULL AS has_users,
    EXISTS (SELECT FROM metric_series s WHERE s.service_id = service.id AND s.counted_id IS NULL
        AND s.used_day >= floor(date_part('epoch', $1::timestamptz) / 86400)) AS has_metrics, COALESCE(sampled.sent, 0) AS sent, COALESCE(sampled.known, 0) AS known,
    COALESCE(sampled.stand_for, 0) AS stand_for, COALESCE(sampled.lines, 0) AS lines, COALESCE(sampled.lines_unsampled, 0) AS lines_unsampled,
    COALESCE((SELECT ms FROM clock_ahead WHERE service_id = service.id AND at >= $1), 0)::bigint AS clock_ahead_ms
FROM service
JOIN labelled ON labelled.service_id = service.id
JOIN placed ON placed.service_id = service.id
LEFT JOIN served ON served.service_id = service.id
LEFT JOIN occurred ON occurred.service_id = service.id
LEFT JOIN reached ON reached.service_id = service.id
LEFT JOIN sampled ON sampled.service_id = service.id
ORDER BY service.display_name, service.namespace
