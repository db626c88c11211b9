-- $1 services, $2 from, $3 to, $4 seconds per step, $5 environment, $6 version.
SELECT service.name AS service, service.id AS owner, version.label AS version,
    (extract(epoch FROM traffic.minute - $2)::bigint / $4)::int AS at, sum(traffic.requests)::bigint AS n
FROM traffic_minute AS traffic
JOIN service ON service.id = traffic.service_id
JOIN version ON version.id = traffic.version_id
WHERE service.name = ANY($1) AND traffic.minute >= $2 AND traffic.minute < $3
    AND ($5::text IS NULL OR traffic.environment_id = (SELECT id FROM environment WHERE name = $5)) AND ($6::text IS NULL OR version.label = $6)
GROUP BY 1, 2, 3, 4
ORDER BY 1, 3, 4
