-- How a ticket is made in another program, and how its state is read there.
CREATE TABLE tracker (
    is_one boolean PRIMARY KEY DEFAULT true CHECK (is_one),
    setting jsonb NOT NULL,
    made_by text NOT NULL,
    made_at timestamptz NOT NULL
);
-- The ticket of an error: linked by its address, or made there. Without an address it is being made.
CREATE TABLE ticket (
    error_id integer PRIMARY KEY REFERENCES error_group (id),
    key text NOT NULL,
    link text NOT NULL,
    state text,
    made_by text NOT NULL,
    made_at timestamptz NOT NULL,
    looked_at timestamptz NOT NULL
);
CREATE INDEX ticket_looked_at ON ticket (looked_at);
ALTER TABLE owner_rule ADD COLUMN makes_ticket boolean NOT NULL DEFAULT false;
