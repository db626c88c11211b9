-- Requests of the last 26 hours by the minute: of each service some endpoints are busy and some are not. Rows lie by their
-- times, as they do where they came one after another.
INSERT INTO traffic_minute (minute, service_id, endpoint_id, environment_id, version_id, requests, failed, statuses)
SELECT at, e.service_id, e.id, environment.id, v.id, 40 + e.id % 60, e.id % 2, '{0,40,0,0,0}'
FROM (SELECT endpoint.*, split_part(endpoint.name, '/', 4)::integer AS place FROM endpoint JOIN service ON service.id = service_id WHERE service.name LIKE 'harbour-%') e
JOIN version v ON v.service_id = e.service_id AND v.label = '1.' || $days - 1 || '.0'
JOIN environment ON environment.name = 'production'
JOIN generate_series(date_trunc('minute', $now - interval '26 hours'), $now, interval '1 minute') at
    ON extract(epoch FROM at)::bigint / 60 % (e.place + 1) = 0
ORDER BY at;
INSERT INTO traffic_hour (hour, service_id, endpoint_id, environment_id, version_id, requests, failed)
SELECT at, e.service_id, e.id, environment.id, v.id, (40 + e.id % 60) * 60 / (e.place + 1), (e.id % 2) * 60 / (e.place + 1)
FROM (SELECT endpoint.*, split_part(endpoint.name, '/', 4)::integer AS place FROM endpoint JOIN service ON service.id = service_id WHERE service.name LIKE 'harbour-%') e
JOIN environment ON environment.name = 'production' OR environment.name = 'staging' AND e.place < 2
JOIN generate_series($hour - ($days - 1) * interval '1 day', $hour, interval '1 hour') at ON true
JOIN version v ON v.service_id = e.service_id
    AND v.label = '1.' || $days - 1 - extract(epoch FROM $now - at)::integer / 86400 || '.0'
ORDER BY at;
INSERT INTO traffic_day (day, service_id, endpoint_id, environment_id, version_id, requests, failed)
SELECT date_trunc('day', hour, 'UTC'), service_id, endpoint_id, environment_id, version_id, sum(requests), sum(failed)
FROM traffic_hour GROUP BY 1, 2, 3, 4, 5;
INSERT INTO served_minute SELECT service_id, minute, environment_id, version_id, sum(requests), sum(failed) FROM traffic_minute
GROUP BY 1, 2, 3, 4 ORDER BY 2;
INSERT INTO served_hour SELECT service_id, hour, environment_id, version_id, sum(requests), sum(failed) FROM traffic_hour
GROUP BY 1, 2, 3, 4 ORDER BY 2;
INSERT INTO served_day SELECT service_id, day, environment_id, version_id, sum(requests), sum(failed) FROM traffic_day
GROUP BY 1, 2, 3, 4 ORDER BY 2;
-- What was said of errors: of one in fifty, most of it over.
INSERT INTO flag (error_id, service_id, environment_id, kind, version, by_deploy, since, said_at, ended_at, count, expected, evidence, noted_at, end_noted_at, handed_at)
SELECT g.id, g.service_id, environment.id, CASE WHEN g.id % 100 = 0 THEN 'surging' ELSE 'new' END, '1.6.0', g.id % 3 = 0, at, at,
    CASE WHEN g.id % 200 <> 0 THEN at + interval '1 hour' END, 20, 1.2, 9, at, at, at
FROM error_group g JOIN environment ON environment.name = 'production'
CROSS JOIN LATERAL (SELECT $now - (g.id % 160) * interval '1 hour' AS at) said WHERE g.id % 50 = 0;
INSERT INTO handling (error_id, taken_by, settled_in, settled_at)
SELECT id, CASE WHEN id % 40 = 7 THEN 'purser@skerry.example' END, CASE WHEN id % 20 = 3 THEN '1.6.0' END, CASE WHEN id % 20 = 3 THEN $now END
FROM error_group WHERE id % 20 = 3 OR id % 40 = 7;
-- What jobs are to work out of them, as after each occurrence.
INSERT INTO error_stale (error_id) SELECT id FROM error_group ON CONFLICT DO NOTHING;
