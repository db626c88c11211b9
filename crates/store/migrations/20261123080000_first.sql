-- The first schema. Names, causes and errors are small tables with numbers as keys; what senders send in bulk lies in
-- partitions by day of event time, written by COPY straight into the partition. Unique keys are hashes wherever the
-- text is a sender's, since 12 kB of text in a unique index would abort the transaction.

CREATE TABLE service (
    id integer GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    namespace text NOT NULL,
    name text NOT NULL,
    name_hash uuid NOT NULL UNIQUE,
    created_at timestamptz NOT NULL DEFAULT now()
);

CREATE TABLE environment (
    id integer GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    name text NOT NULL,
    name_hash uuid NOT NULL UNIQUE
);

CREATE TABLE version (
    id integer GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    service_id integer NOT NULL REFERENCES service,
    label text NOT NULL,
    label_hash uuid NOT NULL,
    UNIQUE (service_id, label_hash)
);

CREATE TABLE endpoint (
    id integer GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    service_id integer NOT NULL REFERENCES service,
    name text NOT NULL,
    name_hash uuid NOT NULL,
    UNIQUE (service_id, name_hash)
);

-- Which version was seen where, and when first: the order of versions is read from it.
CREATE TABLE deployed (
    service_id integer NOT NULL,
    environment_id integer NOT NULL,
    version_id integer NOT NULL,
    first_received_at timestamptz NOT NULL,
    first_event_at timestamptz NOT NULL,
    last_event_at timestamptz NOT NULL,
    PRIMARY KEY (service_id, environment_id, version_id)
);

-- Interned by content hash. used_day counts days since 1970; rows unused since before the oldest kept day go.
CREATE TABLE resource (
    hash uuid PRIMARY KEY,
    body jsonb NOT NULL,
    used_day integer NOT NULL
);

CREATE TABLE stack (
    hash uuid PRIMARY KEY,
    frames bytea NOT NULL,
    used_day integer NOT NULL
);

-- An error of the product's words; the reference people speak is a permutation of id.
CREATE TABLE error_group (
    id integer GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    service_id integer NOT NULL REFERENCES service,
    title text NOT NULL,
    type text NOT NULL,
    own_frame text,
    created_at timestamptz NOT NULL DEFAULT now(),
    row_version integer NOT NULL DEFAULT 0
);

-- One grouping key in one service. An error is a set of causes; causes are never deleted.
CREATE TABLE cause (
    id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    service_id integer NOT NULL REFERENCES service,
    key uuid NOT NULL,
    algorithm smallint NOT NULL,
    error_id integer NOT NULL REFERENCES error_group,
    UNIQUE (service_id, key)
);
CREATE INDEX cause_by_error ON cause (error_id);

-- Of all time: when a cause was first and last seen in an environment and version, and how often.
CREATE TABLE sighted (
    cause_id bigint NOT NULL,
    environment_id integer NOT NULL,
    version_id integer NOT NULL,
    first_at timestamptz NOT NULL,
    last_at timestamptz NOT NULL,
    n bigint NOT NULL CHECK (n >= 0),
    uncaught bigint NOT NULL,
    severity smallint NOT NULL,
    PRIMARY KEY (cause_id, environment_id, version_id)
);

-- A body taken before is acknowledged again and counted nowhere twice.
CREATE TABLE receipt (
    digest uuid PRIMARY KEY,
    received_at timestamptz NOT NULL,
    rejected bigint NOT NULL,
    reason text NOT NULL
);
CREATE INDEX receipt_by_time ON receipt USING brin (received_at);

-- What has been seen of one service's part of a trace: entry spans, how spans hang together, reports of failures.
CREATE TABLE failing (
    service_id integer NOT NULL,
    trace_key uuid NOT NULL,
    state bytea NOT NULL,
    touched_at timestamptz NOT NULL,
    PRIMARY KEY (service_id, trace_key)
);
CREATE INDEX failing_by_time ON failing USING brin (touched_at);

-- Failures of one instance and exception, to pair those without a trace with those that have one.
CREATE TABLE pairing (
    service_id integer NOT NULL,
    pair_key uuid NOT NULL,
    state bytea NOT NULL,
    touched_at timestamptz NOT NULL,
    PRIMARY KEY (service_id, pair_key)
);
CREATE INDEX pairing_by_time ON pairing USING brin (touched_at);

CREATE TABLE occurrence (
    id uuid NOT NULL,
    service_id integer NOT NULL,
    cause_id bigint NOT NULL,
    environment_id integer NOT NULL,
    version_id integer NOT NULL,
    endpoint_id integer,
    trace_id uuid,
    span_id bigint,
    resource uuid NOT NULL,
    stack uuid,
    user_hash bigint,
    uncaught boolean NOT NULL,
    severity smallint NOT NULL,
    received_at timestamptz NOT NULL,
    type text NOT NULL,
    message text NOT NULL,
    attributes jsonb NOT NULL
) PARTITION BY RANGE (id);
ALTER TABLE occurrence ADD PRIMARY KEY (id);
CREATE INDEX occurrence_by_cause ON occurrence (cause_id, id) INCLUDE (user_hash, endpoint_id, environment_id, version_id);
CREATE INDEX occurrence_by_trace ON occurrence USING hash (trace_id);

-- Reports that are part of an occurrence another report stands for. Rows move between the two tables when late evidence
-- changes which one that is; purged with the evidence.
CREATE TABLE also_reported (LIKE occurrence);
ALTER TABLE also_reported ADD PRIMARY KEY (id);
ALTER TABLE also_reported ADD COLUMN part_of uuid NOT NULL;
CREATE INDEX also_reported_by_occurrence ON also_reported (part_of);

-- The exact data sent and the raw stack text, sampled; zstd of JSON.
CREATE TABLE payload (
    occurrence_id uuid NOT NULL,
    body bytea NOT NULL
) PARTITION BY RANGE (occurrence_id);
ALTER TABLE payload ADD PRIMARY KEY (occurrence_id);
ALTER TABLE payload ALTER COLUMN body SET STORAGE EXTERNAL;

CREATE TABLE tally_minute (
    minute timestamptz NOT NULL,
    environment_id integer NOT NULL,
    cause_id bigint NOT NULL,
    version_id integer NOT NULL,
    n bigint NOT NULL,
    PRIMARY KEY (minute, environment_id, cause_id, version_id)
) PARTITION BY RANGE (minute);

CREATE TABLE tally_hour (
    hour timestamptz NOT NULL,
    environment_id integer NOT NULL,
    cause_id bigint NOT NULL,
    version_id integer NOT NULL,
    n bigint NOT NULL,
    PRIMARY KEY (hour, environment_id, cause_id, version_id)
);

-- statuses counts answers by the hundreds of their HTTP status: [1xx, 2xx, 3xx, 4xx, 5xx].
CREATE TABLE traffic_minute (
    minute timestamptz NOT NULL,
    service_id integer NOT NULL,
    endpoint_id integer NOT NULL,
    environment_id integer NOT NULL,
    version_id integer NOT NULL,
    requests bigint NOT NULL,
    failed bigint NOT NULL,
    statuses bigint[] NOT NULL,
    PRIMARY KEY (minute, service_id, endpoint_id, environment_id, version_id)
) PARTITION BY RANGE (minute);

CREATE TABLE traffic_hour (
    hour timestamptz NOT NULL,
    service_id integer NOT NULL,
    endpoint_id integer NOT NULL,
    environment_id integer NOT NULL,
    version_id integer NOT NULL,
    requests bigint NOT NULL,
    failed bigint NOT NULL,
    PRIMARY KEY (hour, service_id, endpoint_id, environment_id, version_id)
);

CREATE TABLE member (
    id integer GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    email text NOT NULL UNIQUE,
    role text NOT NULL CHECK (role IN ('viewer', 'engineer', 'admin')),
    password_hash text NOT NULL,
    created_at timestamptz NOT NULL DEFAULT now()
);

-- Secrets are kept as digests only; they are random, so a plain hash is enough.
CREATE TABLE token (
    id integer GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    member_id integer NOT NULL REFERENCES member,
    digest uuid NOT NULL UNIQUE,
    created_at timestamptz NOT NULL DEFAULT now(),
    revoked_at timestamptz
);

CREATE TABLE sender_key (
    id integer GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    name text NOT NULL UNIQUE,
    digest uuid NOT NULL UNIQUE,
    services text[] NOT NULL,
    created_at timestamptz NOT NULL DEFAULT now(),
    last_used_at timestamptz,
    revoked_at timestamptz
);
