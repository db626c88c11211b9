-- What people add to the built-in scrubbing: values removed by name, kept by name, removed by shape (a regular expression);
-- without a service it holds for all.
CREATE TABLE scrub_rule (
    id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    service text,
    verb text NOT NULL CHECK (verb IN ('remove', 'keep', 'shape')),
    what text NOT NULL,
    reason text NOT NULL,
    made_by text NOT NULL,
    made_at timestamptz NOT NULL DEFAULT now(),
    ended_by text,
    ended_at timestamptz
);

-- How a service's requests are sampled: those that came, those of them with a sampling threshold, what these stand for;
-- log records of a trace, those of them of a trace that was not sampled.
CREATE TABLE sampling_hour (
    hour timestamptz NOT NULL,
    service_id integer NOT NULL,
    environment_id integer NOT NULL,
    sent bigint NOT NULL,
    known bigint NOT NULL,
    stand_for bigint NOT NULL,
    lines bigint NOT NULL,
    lines_unsampled bigint NOT NULL,
    PRIMARY KEY (hour, service_id, environment_id)
);

-- The exact data of the first, the latest and the fullest occurrence of a cause in a version, where sampling left it out.
CREATE TABLE kept_body (
    cause_id bigint NOT NULL,
    version_id integer NOT NULL,
    which text NOT NULL CHECK (which IN ('first', 'latest', 'fullest')),
    occurrence_id uuid NOT NULL,
    fullness integer NOT NULL,
    body bytea NOT NULL,
    PRIMARY KEY (cause_id, version_id, which)
);
ALTER TABLE kept_body ALTER COLUMN body SET STORAGE EXTERNAL;
CREATE INDEX kept_body_by_occurrence ON kept_body (occurrence_id);
