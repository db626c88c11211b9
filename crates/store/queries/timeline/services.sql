-- $1 since when requests and occurrences are counted.
SELECT service.id, service.namespace, service.display_name AS name, seen.environments, seen.versions, seen.first_received_at, seen.last_event_at,
    COALESCE((SELECT sum(requests) FROM traffic_hour WHERE service_id = service.id AND hour >= $1), 0)::bigint AS requests,
    COALESCE((SELECT sum(n) FROM tally_hour JOIN cause ON cause.id = tally_hour.cause_id WHERE cause.service_id = service.id AND hour >= $1), 0)::bigint AS occurrences,
    EXISTS (SELECT FROM reach_hour JOIN cause ON cause.id = reach_hour.cause_id
        -- A set's first byte is its form: longer ones have members.
        WHERE cause.service_id = service.id AND hour >= $1 AND octet_length(users) > 1) AS has_users,
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
