-- Conditions on o are put behind it.
SELECT o.id, service.display_name AS service, environment.name AS environment, version.label AS version, endpoint.name AS endpoint,
    o.type AS type_name, o.message, o.severity, o.uncaught, o.trace_id, o.span_id, o.received_at,
    resource.body ->> 'host.name' AS host,
    COALESCE(o.attributes ->> 'user.id', o.attributes ->> 'enduser.id', o.attributes ->> 'user.name', o.attributes ->> 'user.email', o.attributes ->> 'user_id', o.attributes ->> 'userId', o.attributes ->> 'username', o.attributes ->> 'user') AS "user"
FROM occurrence o
JOIN service ON service.id = o.service_id
JOIN environment ON environment.id = o.environment_id
JOIN version ON version.id = o.version_id
LEFT JOIN endpoint ON endpoint.id = o.endpoint_id
LEFT JOIN resource ON resource.hash = o.resource
WHERE 