-- Users, endpoints and instances of spans of time. $1 causes, $2 environments, $3 from, $4 to; one element per span.
-- OFFSET 0 keeps each span a search of its own in the index (cause, id): joined freely, many spans of one busy cause were
-- compared each with all its occurrences.
WITH span AS MATERIALIZED (
    SELECT cause_id, environment_id, from_at, first_id_at(from_at) AS from_id, first_id_at(to_at) AS to_id
    FROM UNNEST($1::bigint[], $2::int[], $3::timestamptz[], $4::timestamptz[]) AS span (cause_id, environment_id, from_at, to_at)
)
SELECT span.cause_id, span.environment_id, o.version_id, date_trunc('hour', span.from_at, 'UTC') AS hour,
    COALESCE(array_agg(DISTINCT o.user_hash) FILTER (WHERE o.user_hash IS NOT NULL), '{}') AS users,
    COALESCE(array_agg(DISTINCT o.endpoint_id) FILTER (WHERE o.endpoint_id IS NOT NULL), '{}') AS endpoints,
    (array_agg(DISTINCT hashtext(o.resource::text)))[1:64] AS instances
FROM span
CROSS JOIN LATERAL (
    SELECT version_id, user_hash, endpoint_id, resource FROM occurrence
    WHERE cause_id = span.cause_id AND environment_id = span.environment_id AND id >= span.from_id AND id < span.to_id
    OFFSET 0
) AS o
GROUP BY 1, 2, 3, 4
