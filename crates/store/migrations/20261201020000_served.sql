-- Requests of each service, all its endpoints together: what pages of all services sum is a tenth as long or less.
CREATE TABLE served_minute (
    service_id integer NOT NULL,
    minute timestamptz NOT NULL,
    environment_id integer NOT NULL,
    version_id integer NOT NULL,
    requests bigint NOT NULL,
    failed bigint NOT NULL,
    PRIMARY KEY (service_id, minute, environment_id, version_id)
) PARTITION BY RANGE (minute);
CREATE TABLE served_hour (
    service_id integer NOT NULL,
    hour timestamptz NOT NULL,
    environment_id integer NOT NULL,
    version_id integer NOT NULL,
    requests bigint NOT NULL,
    failed bigint NOT NULL,
    PRIMARY KEY (service_id, hour, environment_id, version_id)
);
CREATE TABLE served_day (
    service_id integer NOT NULL,
    day timestamptz NOT NULL,
    environment_id integer NOT NULL,
    version_id integer NOT NULL,
    requests bigint NOT NULL,
    failed bigint NOT NULL,
    PRIMARY KEY (service_id, day, environment_id, version_id)
);

DO $$
DECLARE day record;
BEGIN
    FOR day IN
        SELECT replace(c.relname, 'traffic_', 'served_') AS name, pg_get_expr(c.relpartbound, c.oid) AS bound
        FROM pg_inherits i JOIN pg_class c ON c.oid = i.inhrelid WHERE i.inhparent = 'traffic_minute'::regclass
    LOOP
        EXECUTE format('CREATE TABLE %I PARTITION OF served_minute %s', day.name, day.bound);
    END LOOP;
END $$;
INSERT INTO served_minute SELECT service_id, minute, environment_id, version_id, sum(requests), sum(failed) FROM traffic_minute
GROUP BY 1, 2, 3, 4 ORDER BY 2;
INSERT INTO served_hour SELECT service_id, hour, environment_id, version_id, sum(requests), sum(failed) FROM traffic_hour
GROUP BY 1, 2, 3, 4 ORDER BY 2;
INSERT INTO served_day SELECT service_id, day, environment_id, version_id, sum(requests), sum(failed) FROM traffic_day
GROUP BY 1, 2, 3, 4 ORDER BY 2;
-- Made once the rows are there, so that all of them are in it.
CREATE INDEX served_minute_by_time ON served_minute USING brin (minute) WITH (pages_per_range = 4, autosummarize = on);
CREATE INDEX served_hour_by_time ON served_hour USING brin (hour) WITH (pages_per_range = 4, autosummarize = on);
