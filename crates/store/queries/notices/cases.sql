SELECT version.label AS version, o.type AS type_name, o.message, o.severity, o.trace_id, coalesce(endpoint.name, '') AS endpoint,
    o.uncaught, o.attributes, coalesce(resource.body, '{}'::jsonb) AS resource, stack.frames
FROM occurrence o
JOIN version ON version.id = o.version_id
LEFT JOIN endpoint ON endpoint.id = o.endpoint_id
LEFT JOIN resource ON resource.hash = o.resource
LEFT JOIN stack ON stack.hash = o.stack
WHERE o.cause_id = ANY(ARRAY(SELECT id FROM cause WHERE error_id = $1)) AND o.environment_id = $2
ORDER BY o.id DESC LIMIT $3
