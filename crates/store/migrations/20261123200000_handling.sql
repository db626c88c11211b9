-- What people do about errors: three independent facts, and how they came about. An error without a row is open and nobody's.
CREATE TABLE handling (
    error_id integer PRIMARY KEY REFERENCES error_group (id),
    taken_by text,
    settled_in text,
    settled_at timestamptz,
    quiet_until timestamptz,
    -- Or until a predicate holds for it, counted from when it was made quiet.
    quiet_where text,
    quiet_at timestamptz,
    CHECK ((settled_in IS NULL) = (settled_at IS NULL)),
    CHECK ((quiet_until IS NULL AND quiet_where IS NULL) = (quiet_at IS NULL))
);
CREATE TABLE handling_change (
    id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    error_id integer NOT NULL REFERENCES error_group (id),
    at timestamptz NOT NULL DEFAULT now(),
    by text NOT NULL,
    verb text NOT NULL CHECK (verb IN ('take', 'hand back', 'settle', 'quiet', 'reopen', 'return', 'speak up', 'note')),
    -- To whom, in which version, until what, or the note.
    what text NOT NULL
);
CREATE INDEX ON handling_change (error_id, id);
CREATE INDEX ON handling_change (at) WHERE verb IN ('settle', 'reopen');

-- Any change that is no deploy: a database upgrade, a configuration, provisioning.
CREATE TABLE marker (
    id integer GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    at timestamptz NOT NULL,
    ended_at timestamptz,
    kind text NOT NULL,
    title text NOT NULL,
    -- What it may touch; all where not said.
    service_id integer REFERENCES service (id),
    environment_id integer REFERENCES environment (id),
    link text NOT NULL,
    made_by text NOT NULL,
    made_at timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX ON marker (at);

-- What a deploy brought, as its pipeline read it from the repository: commits with the lines they changed, and who owns which files.
CREATE TABLE deploy_change (
    service_id integer NOT NULL REFERENCES service (id),
    version text NOT NULL,
    repository text NOT NULL,
    commits jsonb NOT NULL,
    owners jsonb NOT NULL,
    sent_at timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (service_id, version)
);
