-- Pages of questions and text that people arranged. A name is its owner's alone.
CREATE TABLE sheet (
    name text PRIMARY KEY,
    document jsonb NOT NULL,
    owner text NOT NULL,
    version integer NOT NULL,
    changed_at timestamptz NOT NULL
);
