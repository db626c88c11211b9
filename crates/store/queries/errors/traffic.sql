-- Requests per service, endpoint and environment in the window: whole days, whole hours around them, the minutes at both ends.
-- SOME: a join that leaves the endpoints of $7, where such are named. $1 from, $2 first whole hour, $3 end of the last whole hour,
-- $4 to, $5 service, $6 version, $7 the endpoints that alone are asked for, $8 first whole day, $9 end of the last whole day.
SELECT service_id, endpoint_id, environment_id, sum(requests)::bigint
FROM (
    SELECT t.service_id, endpoint_id, environment_id, version_id, requests FROM traffic_day t SOME WHERE day >= $8 AND day < $9
    UNION ALL
    SELECT t.service_id, endpoint_id, environment_id, version_id, requests FROM traffic_hour t SOME
    WHERE hour >= $2 AND hour < $3 AND NOT (hour >= $8 AND hour < $9)
    UNION ALL
    SELECT t.service_id, endpoint_id, environment_id, version_id, requests FROM traffic_minute t SOME WHERE minute >= $1 AND minute < $2
    UNION ALL
    SELECT t.service_id, endpoint_id, environment_id, version_id, requests FROM traffic_minute t SOME WHERE minute >= $3 AND minute < $4
) AS traffic
WHERE ($5::text IS NULL OR service_id IN (SELECT services_named($5))) AND ($6::text IS NULL OR version_id IN (SELECT id FROM version WHERE label = $6))
    AND ($7::int[] IS NULL OR true)
GROUP BY 1, 2, 3
