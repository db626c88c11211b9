SELECT environment.name AS environment, version.label AS version, sum(sighted.n)::bigint AS count, sum(sighted.uncaught)::bigint AS uncaught,
    min(sighted.first_at) AS first_seen, max(sighted.last_at) AS last_seen
FROM sighted
JOIN cause ON cause.id = sighted.cause_id
JOIN environment ON environment.id = sighted.environment_id
JOIN version ON version.id = sighted.version_id
LEFT JOIN deployed ON deployed.version_id = sighted.version_id AND deployed.environment_id = sighted.environment_id
WHERE cause.error_id = $1 AND sighted.n > 0
GROUP BY environment.name, version.label
ORDER BY max(deployed.first_received_at) DESC NULLS LAST, version.label DESC, environment.name
