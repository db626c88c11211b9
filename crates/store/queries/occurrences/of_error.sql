-- Keyset paging down the index (cause_id, id). $1 error, $2 before this id, $3 limit.
SELECT o.id, service.display_name AS service, environment.name AS environment, version.label AS version, endpoint.name AS endpoint,
    o.type AS type_name, o.message, o.severity, o.uncaught, o.trace_id, o.span_id, o.received_at,
    resource.body ->> 'host.name' AS host,
    COALESCE(o.attributes ->> 'user.id', o.attributes ->> 'enduser.id', o.attributes ->> 'user.name', o.attributes ->> 'user.email', o.attributes ->> 'user_id', o.attributes ->> 'userId', o.attributes ->> 'username', o.attributes ->> 'user') AS "user"
FROM (
    SELECT newest.* FROM cause
    CROSS JOIN LATERAL (SELECT * FROM occurrence WHERE cause_id = cause.id AND id < $2 ORDER BY id DESC LIMIT $3) AS newest
    WHERE cause.error_id = $1
    ORDER BY newest.id DESC LIMIT $3
) AS o
JOIN service ON service.id = o.service_id
JOIN environment ON environment.id = o.environment_id
JOIN version ON version.id = o.version_id
LEFT JOIN endpoint ON endpoint.id = o.endpoint_id
LEFT JOIN resource ON resource.hash = o.resource
ORDER BY o.id DESC
