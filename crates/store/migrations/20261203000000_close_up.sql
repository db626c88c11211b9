-- Close-ups: the next occurrences of an error, or that a predicate holds for, kept in full.
CREATE TABLE close_up (
    id integer GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    -- One of the two says what is looked at.
    error_id integer REFERENCES error_group (id) ON DELETE CASCADE,
    predicate text,
    wanted integer NOT NULL,
    until timestamptz NOT NULL,
    -- Whether who asked is told once it ends.
    tells boolean NOT NULL,
    asked_by text NOT NULL,
    asked_at timestamptz NOT NULL,
    looked_at timestamptz NOT NULL,
    -- complete: all that was wanted is kept. over: its time ended. ended: by hand, by whom.
    state text NOT NULL DEFAULT 'open' CHECK (state IN ('open', 'complete', 'over', 'ended')),
    ended_at timestamptz,
    ended_by text,
    told_at timestamptz,
    CHECK ((error_id IS NULL) <> (predicate IS NULL))
);
CREATE INDEX close_up_open ON close_up (id) WHERE state = 'open';
CREATE INDEX close_up_asked ON close_up (asked_at);
CREATE INDEX close_up_of_error ON close_up (error_id) WHERE error_id IS NOT NULL;
-- The occurrences that a close-up took.
CREATE TABLE close_up_taken (
    close_up_id integer NOT NULL REFERENCES close_up (id) ON DELETE CASCADE,
    occurrence_id uuid NOT NULL,
    taken_at timestamptz NOT NULL,
    PRIMARY KEY (close_up_id, occurrence_id)
);
