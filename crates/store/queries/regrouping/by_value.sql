-- An error's occurrences of a window by the value of an attribute. $1 error, $2 attribute, $3 from, $4 to.
SELECT cause.id, cause.key, COALESCE(o.attributes ->> $2, resource.body ->> $2) AS value, count(*)
FROM cause JOIN occurrence o ON o.cause_id = cause.id LEFT JOIN resource ON resource.hash = o.resource
WHERE cause.error_id = $1 AND o.id >= first_id_at($3) AND o.id < first_id_at($4)
GROUP BY cause.id, value
