-- Traffic, statuses and calls by the day, so that a week or a month is read in a few hundred rows an endpoint less.
CREATE TABLE traffic_day (
    day timestamptz NOT NULL,
    service_id integer NOT NULL,
    endpoint_id integer NOT NULL,
    environment_id integer NOT NULL,
    version_id integer NOT NULL,
    requests bigint NOT NULL,
    failed bigint NOT NULL,
    PRIMARY KEY (day, service_id, endpoint_id, environment_id, version_id)
);
CREATE TABLE status_day (
    day timestamptz NOT NULL,
    service_id integer NOT NULL,
    endpoint_id integer NOT NULL,
    environment_id integer NOT NULL,
    version_id integer NOT NULL,
    status smallint NOT NULL,
    n bigint NOT NULL,
    kept bigint NOT NULL,
    PRIMARY KEY (day, endpoint_id, environment_id, version_id, status)
);
CREATE TABLE called_day (
    day timestamptz NOT NULL,
    called_id integer NOT NULL,
    environment_id integer NOT NULL,
    version_id integer NOT NULL,
    n bigint NOT NULL,
    failed bigint NOT NULL,
    total_us bigint NOT NULL,
    longest_us bigint NOT NULL,
    PRIMARY KEY (day, called_id, environment_id, version_id)
);
INSERT INTO traffic_day SELECT date_trunc('day', hour, 'UTC'), service_id, endpoint_id, environment_id, version_id, sum(requests), sum(failed)
FROM traffic_hour GROUP BY 1, 2, 3, 4, 5;
INSERT INTO status_day SELECT date_trunc('day', hour, 'UTC'), min(service_id), endpoint_id, environment_id, version_id, status, sum(n), sum(kept)
FROM status_hour GROUP BY 1, 3, 4, 5, 6;
INSERT INTO called_day SELECT date_trunc('day', hour, 'UTC'), called_id, environment_id, version_id, sum(n), sum(failed), sum(total_us), max(longest_us)
FROM called_hour GROUP BY 1, 2, 3, 4;
