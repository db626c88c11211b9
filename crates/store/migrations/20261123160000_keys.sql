-- Keys bound to environments, limited, and rotated with a time in which the old secret still holds.
ALTER TABLE sender_key
    ADD COLUMN environments text[] NOT NULL DEFAULT '{}',
    ADD COLUMN bytes_per_minute bigint,
    ADD COLUMN previous_digest uuid UNIQUE,
    ADD COLUMN previous_until timestamptz;

-- What came by a key, by the hour.
CREATE TABLE key_use (
    key_id integer NOT NULL REFERENCES sender_key (id),
    hour timestamptz NOT NULL,
    requests bigint NOT NULL,
    bytes bigint NOT NULL,
    refused bigint NOT NULL,
    PRIMARY KEY (key_id, hour)
);

-- Requests of senders that were refused whole, by the minute; kept for a day.
CREATE TABLE refused_request (
    hash uuid PRIMARY KEY,
    minute timestamptz NOT NULL,
    key text NOT NULL,
    path text NOT NULL,
    sender text NOT NULL,
    reason text NOT NULL,
    n bigint NOT NULL,
    last_at timestamptz NOT NULL
);
CREATE INDEX refused_request_minute ON refused_request (minute);

-- What people want dropped as it comes in: by a predicate, or an error.
CREATE TABLE drop_rule (
    id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    predicate text,
    error_id integer REFERENCES error_group (id),
    note text NOT NULL,
    made_by text NOT NULL,
    made_at timestamptz NOT NULL DEFAULT now(),
    ended_by text,
    ended_at timestamptz,
    CHECK ((predicate IS NULL) <> (error_id IS NULL))
);
CREATE TABLE dropped (
    rule_id bigint NOT NULL REFERENCES drop_rule (id),
    hour timestamptz NOT NULL,
    n bigint NOT NULL,
    PRIMARY KEY (rule_id, hour)
);

-- Senders whose clock was ahead when they last sent.
CREATE TABLE clock_ahead (
    service_id integer PRIMARY KEY REFERENCES service (id),
    ms bigint NOT NULL,
    at timestamptz NOT NULL
);

-- E-mail addresses are hidden behind pseudonyms unless people choose otherwise; the key keeps others from trying addresses.
ALTER TABLE service_setting ADD COLUMN keep_addresses boolean;
CREATE TABLE installation (
    is_one boolean PRIMARY KEY DEFAULT true CHECK (is_one),
    pseudonym_key uuid NOT NULL
);
INSERT INTO installation (pseudonym_key) VALUES (gen_random_uuid());
