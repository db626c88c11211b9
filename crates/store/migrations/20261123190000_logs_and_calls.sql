-- Log lines, by day of event time; kept for days of their own. Columns that predicates ask for are named as an occurrence's are.
CREATE TABLE log_record (
    id uuid NOT NULL,
    service_id integer NOT NULL,
    environment_id integer NOT NULL,
    version_id integer NOT NULL,
    trace_id uuid,
    span_id bigint,
    severity smallint NOT NULL,
    template uuid NOT NULL,
    resource uuid NOT NULL,
    message text NOT NULL,
    attributes jsonb NOT NULL,
    PRIMARY KEY (id)
) PARTITION BY RANGE (id);
CREATE INDEX ON log_record USING hash (trace_id);

-- What lines have in common, and how often each came: interned by hash, purged by the last day of use.
CREATE TABLE log_template (
    hash uuid PRIMARY KEY,
    template text NOT NULL,
    used_day integer NOT NULL
);
CREATE TABLE log_hour (
    hour timestamptz NOT NULL,
    service_id integer NOT NULL,
    environment_id integer NOT NULL,
    template uuid NOT NULL,
    severity smallint NOT NULL,
    n bigint NOT NULL,
    PRIMARY KEY (hour, service_id, environment_id, template)
);

-- What services call: databases, queues, other services as the caller names them, and statements; counted by the hour.
CREATE TABLE called (
    id integer GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    service_id integer NOT NULL REFERENCES service (id),
    kind text NOT NULL CHECK (kind IN ('database', 'queue', 'consumed', 'rpc', 'http', 'statement')),
    name text NOT NULL,
    hash uuid NOT NULL,
    -- The service behind the name, once a trace has shown it.
    to_service_id integer REFERENCES service (id),
    UNIQUE (service_id, hash)
);
CREATE TABLE called_hour (
    hour timestamptz NOT NULL,
    called_id integer NOT NULL,
    environment_id integer NOT NULL,
    version_id integer NOT NULL,
    n bigint NOT NULL,
    failed bigint NOT NULL,
    total_us bigint NOT NULL,
    longest_us bigint NOT NULL,
    PRIMARY KEY (hour, called_id, environment_id, version_id)
);

-- Instances that sent something, and what they served.
CREATE TABLE instance (
    id integer GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    hash uuid NOT NULL UNIQUE,
    service_id integer NOT NULL REFERENCES service (id),
    environment_id integer NOT NULL,
    version_id integer NOT NULL,
    name text NOT NULL,
    host text NOT NULL,
    region text NOT NULL,
    first_at timestamptz NOT NULL,
    last_at timestamptz NOT NULL,
    readings jsonb NOT NULL DEFAULT '{}'
);
CREATE INDEX ON instance (last_at);
CREATE TABLE instance_hour (
    hour timestamptz NOT NULL,
    instance_id integer NOT NULL REFERENCES instance (id) ON DELETE CASCADE,
    requests bigint NOT NULL,
    failed bigint NOT NULL,
    PRIMARY KEY (hour, instance_id)
);
