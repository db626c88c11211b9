-- Users, endpoints and instances of spans of time. $1 causes, $2 environments, $3 from, $4 to; one element per span.
SELECT span.cause_id, span.environment_id, o.version_id, date_trunc('hour', span.from_at, 'UTC') AS hour,
    COALESCE(array_agg(DISTINCT o.user_hash) FILTER (WHERE o.user_hash IS NOT NULL), '{}') AS users,
    COALESCE(array_agg(DISTINCT o.endpoint_id) FILTER (WHERE o.endpoint_id IS NOT NULL), '{}') AS endpoints,
    (array_agg(DISTINCT hashtext(o.resource::text)))[1:64] AS instances
FROM UNNEST($1::bigint[], $2::int[], $3::timestamptz[], $4::timestamptz[]) AS span (cause_id, environment_id, from_at, to_at)
JOIN occurrence o ON o.cause_id = span.cause_id AND o.environment_id = span.environment_id
    AND o.id >= first_id_at(span.from_at) AND o.id < first_id_at(span.to_at)
GROUP BY 1, 2, 3, 4
