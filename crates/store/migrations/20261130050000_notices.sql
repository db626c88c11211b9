-- Notices: rules, ways, what happened, and what is sent to whom.
CREATE TABLE notice_rule (
    id integer GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    name text NOT NULL,
    setting jsonb NOT NULL,
    is_on boolean NOT NULL,
    changed_by text NOT NULL,
    changed_at timestamptz NOT NULL
);
CREATE UNIQUE INDEX notice_rule_name ON notice_rule (lower(name));

-- Ways that go to no single member: a chat, a webhook.
CREATE TABLE notice_way (
    name text PRIMARY KEY,
    setting jsonb NOT NULL,
    changed_by text NOT NULL,
    changed_at timestamptz NOT NULL
);

-- What happened. The key says what it is of, so that it is noted once. What is noted long after it
-- happened (a week of history that is loaded) is late: rules are tried on it, and nobody is told.
CREATE TABLE notice_event (
    id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    key text NOT NULL UNIQUE,
    kind text NOT NULL,
    at timestamptz NOT NULL,
    is_late boolean NOT NULL,
    is_planned boolean NOT NULL DEFAULT false,
    service_id integer REFERENCES service (id) ON DELETE CASCADE,
    environment_id integer REFERENCES environment (id) ON DELETE SET NULL,
    error_id integer REFERENCES error_group (id) ON DELETE CASCADE,
    facts jsonb NOT NULL
);
CREATE INDEX notice_event_at ON notice_event (at);
CREATE INDEX notice_event_waiting ON notice_event (id) WHERE NOT is_planned;
CREATE INDEX notice_event_error ON notice_event (error_id, id);
CREATE INDEX notice_event_service ON notice_event (service_id);

-- What lasts: an endpoint that fails, a threshold that is passed, a sender that is silent. It is over at a time, unless it is so again before.
CREATE TABLE notice_episode (
    what text PRIMARY KEY,
    kind text NOT NULL,
    event_key text NOT NULL,
    over_at timestamptz NOT NULL
);

-- The state of the plan: what waits, what was sent lately. Its version says whether an instance's copy is current.
CREATE TABLE notice_plan (
    is_one boolean PRIMARY KEY DEFAULT true CHECK (is_one),
    version bigint NOT NULL,
    state jsonb NOT NULL
);
INSERT INTO notice_plan (version, state) VALUES (0, '{}');

-- What is sent: to whom, by which way, and what came of it. Whoever sends it holds it until a time.
CREATE TABLE notice (
    id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    rule_id integer REFERENCES notice_rule (id) ON DELETE SET NULL,
    rule_name text NOT NULL,
    way text NOT NULL,
    recipient text NOT NULL,
    reason text NOT NULL,
    subject text NOT NULL,
    event_ids bigint[] NOT NULL,
    more integer NOT NULL,
    -- What is sent where it is not made of events: a digest.
    body jsonb,
    made_at timestamptz NOT NULL,
    state text NOT NULL CHECK (state IN ('waiting', 'sent', 'failed')),
    attempts integer NOT NULL DEFAULT 0,
    next_at timestamptz NOT NULL,
    held_until timestamptz,
    ended_at timestamptz,
    answer text NOT NULL DEFAULT ''
);
CREATE INDEX notice_due ON notice (next_at) WHERE state = 'waiting';
CREATE INDEX notice_made_at ON notice (made_at);
CREATE INDEX notice_events ON notice USING gin (event_ids);

-- How members want to be told, and when each had the last digest.
CREATE TABLE notice_wishes (
    member_id integer PRIMARY KEY REFERENCES member (id) ON DELETE CASCADE,
    wishes jsonb NOT NULL,
    digest_at timestamptz
);

-- Of a flag it is noted that it rose, and that it ended or was taken back.
ALTER TABLE flag ADD COLUMN noted_at timestamptz, ADD COLUMN end_noted_at timestamptz;
CREATE INDEX flag_to_note ON flag (id) WHERE noted_at IS NULL;
CREATE INDEX flag_end_to_note ON flag (id)
    WHERE end_noted_at IS NULL AND (ended_at IS NOT NULL OR withdrawn_at IS NOT NULL);

-- Good rules from the first minute.
INSERT INTO notice_rule (name, setting, is_on, changed_by, changed_at) VALUES
    ('New and returned errors',
     '{"when": ["new", "returned"], "environment": "prod*", "tell": ["owner"], "by": ["mail", "browser"]}',
     true, 'outcrop', now()),
    ('Deploys that cause errors',
     '{"when": ["deploy-flagged"], "environment": "prod*", "tell": ["deployer"], "by": ["mail", "browser"]}',
     true, 'outcrop', now());

-- What signs the links of notices.
ALTER TABLE installation ADD COLUMN link_key bytea NOT NULL
    DEFAULT decode(replace(gen_random_uuid()::text || gen_random_uuid()::text, '-', ''), 'hex');
