-- What people change about grouping: by hand, or by a rule that also holds for what is to come. Causes move between errors;
-- nothing else is rewritten. A change that is undone stays in the history, and its rule ends.
CREATE TABLE grouping_change (
    id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    at timestamptz NOT NULL DEFAULT now(),
    by text NOT NULL,
    service_id integer NOT NULL REFERENCES service,
    -- As given, without what was worked out of it: {"kind": "own_code", …}.
    change jsonb NOT NULL,
    sentence text NOT NULL,
    -- [{"cause", "from", "to"}]: causes that went to another error.
    moves jsonb NOT NULL,
    undone_at timestamptz,
    undone_by text
);
CREATE INDEX grouping_change_by_service ON grouping_change (service_id, id);

-- Where an error's causes went when it was left with none: its reference still leads somewhere.
ALTER TABLE error_group ADD COLUMN joined_into integer REFERENCES error_group;
