-- Questions that people saved under a name. A name is its owner's alone: nobody else writes over it.
CREATE TABLE saved_question (
    id integer GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    name text NOT NULL UNIQUE,
    question text NOT NULL,
    description text NOT NULL,
    owner text NOT NULL,
    version integer NOT NULL,
    changed_at timestamptz NOT NULL
);
-- What each of them was before it was changed.
CREATE TABLE saved_question_before (
    saved_id integer NOT NULL REFERENCES saved_question (id) ON DELETE CASCADE,
    version integer NOT NULL,
    question text NOT NULL,
    description text NOT NULL,
    changed_at timestamptz NOT NULL,
    PRIMARY KEY (saved_id, version)
);
