-- A service's occurrences of a window by what grouping looks at. $1 service, $2 from, $3 to.
SELECT cause.id AS cause, cause.error_id AS error, cause.key, cause.algorithm, o.stack, o.type AS type_name,
    o.attributes ->> 'exception.type' AS sent_type, max(o.message) AS message, count(*) AS count
FROM occurrence o JOIN cause ON cause.id = o.cause_id
WHERE o.service_id = $1 AND o.id >= first_id_at($2) AND o.id < first_id_at($3)
GROUP BY cause.id, o.stack, o.type, sent_type
