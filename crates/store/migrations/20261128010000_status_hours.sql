-- Answers of 4xx and 5xx by the hour, and how many of their requests are kept: a week of 500 endpoints is read by the hour,
-- without looking at the requests.
CREATE TABLE status_hour (
    hour timestamptz NOT NULL,
    service_id integer NOT NULL,
    endpoint_id integer NOT NULL,
    environment_id integer NOT NULL,
    version_id integer NOT NULL,
    status smallint NOT NULL,
    n bigint NOT NULL,
    kept bigint NOT NULL,
    PRIMARY KEY (hour, endpoint_id, environment_id, version_id, status)
);
ALTER TABLE status_minute ADD COLUMN kept bigint NOT NULL DEFAULT 0;

UPDATE status_minute s SET kept = r.kept
FROM (
    SELECT date_trunc('minute', id_time(id)) AS minute, endpoint_id, environment_id, version_id, status, count(*) AS kept
    FROM request WHERE status >= 400 GROUP BY 1, 2, 3, 4, 5
) r
WHERE (s.minute, s.endpoint_id, s.environment_id, s.version_id, s.status) = (r.minute, r.endpoint_id, r.environment_id, r.version_id, r.status);
INSERT INTO status_hour (hour, service_id, endpoint_id, environment_id, version_id, status, n, kept)
SELECT date_trunc('hour', minute), min(service_id), endpoint_id, environment_id, version_id, status, sum(n), sum(kept)
FROM status_minute GROUP BY 1, 3, 4, 5, 6;
