-- Spans as compressed chunks, one per trace, sender and request. First in tables of 15 minutes of reception, dropped as a
-- whole; what is kept moves to partitions by day.
CREATE TABLE hot_chunk (
    trace_id uuid NOT NULL,
    service_id integer NOT NULL,
    received_at timestamptz NOT NULL,
    first_at timestamptz NOT NULL,
    last_at timestamptz NOT NULL,
    marks smallint NOT NULL,
    spans integer NOT NULL,
    body bytea NOT NULL
);
ALTER TABLE hot_chunk ALTER COLUMN body SET STORAGE EXTERNAL;
CREATE INDEX ON hot_chunk USING hash (trace_id);
-- The hot tables there are; the table of a row is named hot_ and its beginning.
CREATE TABLE hot_table (begins timestamptz PRIMARY KEY);

CREATE TABLE kept_chunk (LIKE hot_chunk INCLUDING DEFAULTS INCLUDING STORAGE) PARTITION BY RANGE (received_at);
CREATE INDEX ON kept_chunk (trace_id);
CREATE TABLE kept_trace (
    trace_id uuid PRIMARY KEY,
    reasons smallint NOT NULL,
    kept_at timestamptz NOT NULL
);
CREATE INDEX ON kept_trace (kept_at);

-- Requests that are kept by themselves: failed, answered 4xx or 5xx, slow, or of the even sample.
CREATE TABLE request (
    id uuid NOT NULL,
    trace_id uuid NOT NULL,
    span_id bigint NOT NULL,
    service_id integer NOT NULL,
    environment_id integer NOT NULL,
    version_id integer NOT NULL,
    endpoint_id integer NOT NULL,
    status smallint,
    failed boolean NOT NULL,
    marks smallint NOT NULL,
    duration_us bigint NOT NULL,
    attributes jsonb,
    PRIMARY KEY (id)
) PARTITION BY RANGE (id);
CREATE INDEX ON request (endpoint_id, id);

-- How long requests took: parts as they come, folded by the hour and the day by a job.
CREATE TABLE latency_part (
    hour timestamptz NOT NULL,
    service_id integer NOT NULL,
    endpoint_id integer NOT NULL,
    environment_id integer NOT NULL,
    version_id integer NOT NULL,
    sketch bytea NOT NULL
);
CREATE TABLE latency_hour (
    hour timestamptz NOT NULL,
    service_id integer NOT NULL,
    endpoint_id integer NOT NULL,
    environment_id integer NOT NULL,
    version_id integer NOT NULL,
    sketch bytea NOT NULL,
    PRIMARY KEY (hour, endpoint_id, environment_id, version_id)
);
CREATE TABLE latency_day (LIKE latency_hour INCLUDING ALL);

-- From when on a request of an endpoint is slow, in microseconds.
CREATE TABLE endpoint_slow (
    endpoint_id integer PRIMARY KEY REFERENCES endpoint (id),
    threshold_us bigint NOT NULL,
    is_set boolean NOT NULL
);

-- Traces with a failure whose origin is to be found, and what was found per occurrence.
CREATE TABLE origin_due (
    trace_id uuid PRIMARY KEY,
    due_at timestamptz NOT NULL
);
CREATE TABLE occurrence_origin (
    occurrence_id uuid PRIMARY KEY,
    trace_id uuid NOT NULL,
    at timestamptz NOT NULL,
    cause_id bigint NOT NULL,
    origin_cause_id bigint NOT NULL,
    environment_id integer NOT NULL
);
CREATE INDEX ON occurrence_origin USING hash (trace_id);
CREATE INDEX ON occurrence_origin (cause_id, at);
CREATE INDEX ON occurrence_origin (origin_cause_id, at);

-- Answers of 4xx and 5xx by their status.
CREATE TABLE status_minute (
    minute timestamptz NOT NULL,
    service_id integer NOT NULL,
    endpoint_id integer NOT NULL,
    environment_id integer NOT NULL,
    version_id integer NOT NULL,
    status smallint NOT NULL,
    n bigint NOT NULL,
    PRIMARY KEY (minute, endpoint_id, environment_id, version_id, status)
) PARTITION BY RANGE (minute);
