-- Who owns what: of a service, a namespace, a path in the repository, what a predicate holds for, or what nobody else owns.
CREATE TABLE owner_rule (
    id integer GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    owner text NOT NULL,
    service text,
    namespace text,
    path text,
    predicate text,
    hands_over boolean NOT NULL,
    made_by text NOT NULL,
    made_at timestamptz NOT NULL
);
-- When it was looked at whether a new error goes to its owner by itself.
ALTER TABLE flag ADD COLUMN handed_at timestamptz;
