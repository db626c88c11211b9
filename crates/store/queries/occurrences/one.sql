SELECT o.id, service.display_name AS service, environment.name AS environment, version.label AS version, endpoint.name AS endpoint,
    o.type AS type_name, o.message, o.severity, o.uncaught, o.trace_id, o.span_id, o.received_at,
    resource.body ->> 'host.name' AS host, resource.body ->> 'service.instance.id' AS instance,
    OF_USER AS "user",
    cause.error_id, o.attributes, COALESCE(resource.body, '{}'::jsonb) AS resource, stack.frames AS stack, COALESCE(payload.body,
        (SELECT body FROM kept_body WHERE occurrence_id = o.id LIMIT 1)) AS payload
FROM occurrence o
JOIN cause ON cause.id = o.cause_id
JOIN service ON service.id = o.service_id
JOIN environment ON environment.id = o.environment_id
JOIN version ON version.id = o.version_id
LEFT JOIN endpoint ON endpoint.id = o.endpoint_id
LEFT JOIN resource ON resource.hash = o.resource
LEFT JOIN stack ON stack.hash = o.stack
LEFT JOIN payload ON payload.occurrence_id = o.id
WHERE o.id = $1
