-- Requests per service, endpoint and environment in the window, put together like the counts of errors.
-- $1 from, $2 first whole hour, $3 end of the last whole hour, $4 to, $5 service, $6 version, $7 an error whose
-- service alone is asked for.
SELECT service_id, endpoint_id, environment_id, sum(requests)::bigint
FROM (
    SELECT service_id, endpoint_id, environment_id, version_id, requests FROM traffic_hour WHERE hour >= $2 AND hour < $3
    UNION ALL
    SELECT service_id, endpoint_id, environment_id, version_id, requests FROM traffic_minute WHERE minute >= $1 AND minute < $2
    UNION ALL
    SELECT service_id, endpoint_id, environment_id, version_id, requests FROM traffic_minute WHERE minute >= $3 AND minute < $4
) AS traffic
WHERE ($7::int IS NULL OR service_id = (SELECT service_id FROM error_group WHERE id = $7)) AND ($5::text IS NULL OR service_id IN (SELECT services_named($5))) AND ($6::text IS NULL OR version_id IN (SELECT id FROM version WHERE label = $6))
GROUP BY 1, 2, 3
