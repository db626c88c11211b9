-- Tokens with names, ends and last uses; sessions that say where they are; a record of what people changed in the set-up.
ALTER TABLE token
    ADD COLUMN name text NOT NULL DEFAULT '',
    ADD COLUMN expires_at timestamptz,
    ADD COLUMN last_used_at timestamptz;
CREATE INDEX token_by_member ON token (member_id);

ALTER TABLE session
    ADD COLUMN id integer GENERATED ALWAYS AS IDENTITY UNIQUE,
    ADD COLUMN last_used_at timestamptz NOT NULL DEFAULT now(),
    ADD COLUMN agent text NOT NULL DEFAULT '';
CREATE INDEX session_by_member ON session (member_id);

-- Who changed what in the set-up: members, tokens, keys, discarding, scrubbing, settings. Kept for 400 days, so that a year's review finds all.
CREATE TABLE audit_entry (
    id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    at timestamptz NOT NULL DEFAULT now(),
    by text NOT NULL,
    did text NOT NULL,
    subject text NOT NULL
);
CREATE INDEX audit_entry_at ON audit_entry (at);

-- Failed attempts to sign in are forgotten by their time.
CREATE INDEX sign_in_failure_last ON sign_in_failure (last_at);

-- Addresses that a member signed in from: guesses made elsewhere, or by others behind the same proxy, never hold them up there.
CREATE TABLE known_address (
    member_id integer NOT NULL REFERENCES member ON DELETE CASCADE,
    address uuid NOT NULL,
    last_at timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (member_id, address)
);

-- Whether this is the demo's: it adds a member with a known password, and does so to a database of its own alone.
ALTER TABLE installation ADD COLUMN is_demo boolean NOT NULL DEFAULT false;
