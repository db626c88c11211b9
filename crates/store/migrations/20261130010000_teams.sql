-- Teams, who is in them, the services they own, and services that only their teams may read.
CREATE TABLE team (
    id integer GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    name text NOT NULL,
    made_by text NOT NULL,
    made_at timestamptz NOT NULL
);
CREATE UNIQUE INDEX team_name ON team (lower(name));
CREATE TABLE team_member (
    team_id integer NOT NULL REFERENCES team ON DELETE CASCADE,
    member_id integer NOT NULL REFERENCES member ON DELETE CASCADE,
    PRIMARY KEY (team_id, member_id)
);
CREATE INDEX team_member_by_member ON team_member (member_id);
CREATE TABLE team_service (
    team_id integer NOT NULL REFERENCES team ON DELETE CASCADE,
    service_id integer NOT NULL REFERENCES service ON DELETE CASCADE,
    PRIMARY KEY (team_id, service_id)
);
CREATE INDEX team_service_by_service ON team_service (service_id);
CREATE TABLE limited_service (
    service_id integer PRIMARY KEY REFERENCES service ON DELETE CASCADE,
    made_by text NOT NULL,
    made_at timestamptz NOT NULL
);

-- Who was invited and has not come yet: the link holds a secret, of which the digest is kept.
CREATE TABLE invitation (
    id integer GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    digest uuid NOT NULL UNIQUE,
    email text NOT NULL,
    role text NOT NULL CHECK (role IN ('viewer', 'engineer', 'admin')),
    team_ids integer[] NOT NULL,
    made_by text NOT NULL,
    made_at timestamptz NOT NULL,
    expires_at timestamptz NOT NULL
);
CREATE INDEX invitation_made_at ON invitation (made_at);

-- The services that a member may not read. Admins read all.
CREATE FUNCTION closed_to(member_id integer) RETURNS integer[] STABLE LANGUAGE sql AS $$
    SELECT coalesce(array_agg(l.service_id ORDER BY l.service_id), '{}') FROM limited_service l
    WHERE NOT EXISTS (SELECT FROM member m WHERE m.id = closed_to.member_id AND m.role = 'admin')
        AND NOT EXISTS (SELECT FROM team_service s JOIN team_member t USING (team_id)
            WHERE s.service_id = l.service_id AND t.member_id = closed_to.member_id)
$$;
