-- Deploys announced by pipelines; those seen from telemetry are in `deployed`.
CREATE TABLE deploy (
    id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    service_id integer NOT NULL REFERENCES service (id),
    environment_id integer NOT NULL REFERENCES environment (id),
    version_id integer NOT NULL REFERENCES version (id),
    at timestamptz NOT NULL,
    ended_at timestamptz,
    share real,
    revision text NOT NULL,
    link text NOT NULL,
    by text NOT NULL,
    announced_at timestamptz NOT NULL DEFAULT now(),
    UNIQUE (service_id, environment_id, version_id, at)
);

-- What was said of errors: new, surging, returned.
CREATE TABLE flag (
    id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    error_id integer NOT NULL REFERENCES error_group (id),
    service_id integer NOT NULL REFERENCES service (id),
    environment_id integer NOT NULL REFERENCES environment (id),
    kind text NOT NULL,
    version text NOT NULL,
    by_deploy boolean NOT NULL,
    since timestamptz NOT NULL,
    said_at timestamptz NOT NULL,
    ended_at timestamptz,
    count bigint NOT NULL,
    expected double precision NOT NULL,
    evidence double precision NOT NULL,
    requests bigint,
    UNIQUE (error_id, environment_id, kind, said_at)
);
CREATE INDEX ON flag (service_id, said_at);
