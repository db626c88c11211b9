-- $1 since when requests and occurrences are counted: each count is one pass over all services.
WITH served AS MATERIALIZED (
    SELECT service_id, sum(requests)::bigint AS n FROM traffic_hour WHERE hour >= $1 GROUP BY 1
), occurred AS MATERIALIZED (
    SELECT cause.service_id, sum(t.n)::bigint AS n
    FROM (SELECT cause_id, sum(n) AS n FROM tally_hour WHERE hour >= $1 GROUP BY 1) t JOIN cause ON cause.id = t.cause_id GROUP BY 1
), reached AS MATERIALIZED (
    -- A set's first byte is its form: longer ones have members.
    SELECT DISTINCT cause.service_id FROM (SELECT DISTINCT cause_id FROM reach_hour WHERE hour >= $1 AND octet_length(users) > 1) r
    JOIN cause ON cause.id = r.cause_id
)
SELECT service.id, service.namespace, service.display_name AS name, seen.environments, seen.versions, seen.first_received_at, seen.last_event_at,
    COALESCE((SELECT n FROM served WHERE served.service_id = service.id), 0)::bigint AS requests,
    COALESCE((SELECT n FROM occurred WHERE occurred.service_id = service.id), 0)::bigint AS occurrences,
    EXISTS (SELECT FROM reached WHERE reached.service_id = service.id) AS has_users,
    COALESCE(sampling.sent, 0)::bigint AS sent, COALESCE(sampling.known, 0)::bigint AS known, COALESCE(sampling.stand_for, 0)::bigint AS stand_for,
    COALESCE(sampling.lines, 0)::bigint AS lines, COALESCE(sampling.lines_unsampled, 0)::bigint AS lines_unsampled,
    COALESCE((SELECT ms FROM clock_ahead WHERE service_id = service.id AND at >= $1), 0)::bigint AS clock_ahead_ms
FROM service
JOIN (
    SELECT deployed.service_id, array_agg(DISTINCT environment.name) AS environments,
        (SELECT array_agg(label ORDER BY first, label) FROM (
            SELECT version.label, min(d.first_received_at) AS first FROM deployed d JOIN version ON version.id = d.version_id
            WHERE d.service_id = deployed.service_id GROUP BY version.label) AS ordered) AS versions,
        min(deployed.first_received_at) AS first_received_at, max(deployed.last_event_at) AS last_event_at
    FROM deployed JOIN environment ON environment.id = deployed.environment_id
    GROUP BY deployed.service_id
) AS seen ON seen.service_id = service.id
LEFT JOIN LATERAL (
    SELECT sum(sent) AS sent, sum(known) AS known, sum(stand_for) AS stand_for, sum(lines) AS lines, sum(lines_unsampled) AS lines_unsampled
    FROM sampling_hour WHERE service_id = service.id AND hour >= date_trunc('hour', $1::timestamptz)
) AS sampling ON true
ORDER BY service.display_name, service.namespace
