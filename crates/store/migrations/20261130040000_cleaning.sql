-- What people had deleted: kept for a year's review, and done by a job, partition by partition.
CREATE TABLE cleaning (
    id integer GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    kind text NOT NULL CHECK (kind IN ('service', 'environment', 'error', 'user')),
    -- As it was typed; of a user only how many there are of them.
    name text NOT NULL,
    number integer,
    user_hash bigint,
    users text[],
    asked_by text NOT NULL,
    asked_at timestamptz NOT NULL,
    removed bigint NOT NULL DEFAULT 0,
    done_at timestamptz
);
CREATE INDEX cleaning_asked_at ON cleaning (asked_at);

-- Errors of which a test was reported: those of tests alone are deleted a day after the last.
CREATE TABLE test_report (
    error_id integer PRIMARY KEY REFERENCES error_group (id),
    last_at timestamptz NOT NULL
);
CREATE INDEX test_report_last_at ON test_report (last_at);
