-- Traffic by instance group, of services whose setting says which attribute tells groups apart: rows are appended, those of one
-- minute are put together by a job. statuses as in traffic_minute.
CREATE TABLE group_part (
    minute timestamptz NOT NULL,
    service_id integer NOT NULL,
    endpoint_id integer NOT NULL,
    environment_id integer NOT NULL,
    version_id integer NOT NULL,
    group_name text NOT NULL,
    requests bigint NOT NULL,
    failed bigint NOT NULL,
    statuses bigint[] NOT NULL,
    sketch bytea NOT NULL
) PARTITION BY RANGE (minute);
CREATE INDEX ON group_part (service_id, minute);

-- The instance group that a deploy goes to, where it goes to one.
ALTER TABLE deploy ADD COLUMN instance_group text;
