-- Whom and what an error hits, folded by the hour, so that a list need not walk every occurrence.
-- users is a set of user hashes: exact while few, a sketch above (outcrop_core::Distinct).
CREATE TABLE reach_hour (
    hour timestamptz NOT NULL,
    cause_id bigint NOT NULL,
    environment_id integer NOT NULL,
    version_id integer NOT NULL,
    users bytea NOT NULL,
    endpoints integer[] NOT NULL,
    PRIMARY KEY (cause_id, hour, environment_id, version_id)
);
ALTER TABLE reach_hour ALTER COLUMN users SET STORAGE EXTERNAL;

CREATE INDEX reach_hour_by_time ON reach_hour (hour);

-- Strips of a page's errors read by cause, lists by time.
ALTER TABLE tally_hour DROP CONSTRAINT tally_hour_pkey;
ALTER TABLE tally_hour ADD PRIMARY KEY (cause_id, hour, environment_id, version_id);
CREATE INDEX tally_hour_by_time ON tally_hour USING brin (hour) WITH (pages_per_range = 16);

-- Minutes whose occurrences are not folded yet: written with the occurrences, taken by one job. recount: something was
-- taken back or changed, so the hour is counted from its occurrences anew.
CREATE TABLE touched (
    cause_id bigint NOT NULL,
    environment_id integer NOT NULL,
    minute timestamptz NOT NULL,
    recount boolean NOT NULL,
    PRIMARY KEY (cause_id, environment_id, minute)
) WITH (fillfactor = 50);

-- The smallest occurrence id of a time: ids begin with 48 bits of milliseconds.
CREATE FUNCTION first_id_at(at timestamptz) RETURNS uuid LANGUAGE sql STABLE PARALLEL SAFE
    RETURN (lpad(to_hex((extract(epoch FROM at) * 1000)::bigint), 12, '0') || '00000000000000000000')::uuid;

-- The same by the day (UTC), merged from the hours, and counts by the day, for windows of many days.
CREATE TABLE reach_day (LIKE reach_hour INCLUDING ALL);
ALTER TABLE reach_day RENAME COLUMN hour TO day;
CREATE TABLE tally_day (
    day timestamptz NOT NULL,
    environment_id integer NOT NULL,
    cause_id bigint NOT NULL,
    version_id integer NOT NULL,
    n bigint NOT NULL,
    PRIMARY KEY (day, environment_id, cause_id, version_id)
);
INSERT INTO tally_day SELECT date_trunc('day', hour, 'UTC'), environment_id, cause_id, version_id, sum(n) FROM tally_hour GROUP BY 1, 2, 3, 4;

INSERT INTO touched SELECT DISTINCT cause_id, environment_id, minute, false FROM tally_minute WHERE n > 0;
