-- Programs that members let act in their name (OAuth 2.1): clients, what members allowed, and the secrets of it.
CREATE TABLE oauth_client (
    id integer GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    -- What it presents itself with.
    client_id text NOT NULL UNIQUE,
    -- What it calls itself.
    name text NOT NULL,
    redirects text[] NOT NULL,
    made_at timestamptz NOT NULL
);
CREATE TABLE oauth_grant (
    id integer GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    client integer NOT NULL REFERENCES oauth_client (id) ON DELETE CASCADE,
    member_id integer NOT NULL REFERENCES member (id) ON DELETE CASCADE,
    given_at timestamptz NOT NULL,
    last_used_at timestamptz,
    -- When its newest refresh token ends.
    expires_at timestamptz NOT NULL
);
CREATE INDEX oauth_grant_client ON oauth_grant (client);
CREATE INDEX oauth_grant_member ON oauth_grant (member_id);
CREATE INDEX oauth_grant_expires ON oauth_grant (expires_at);
CREATE TABLE oauth_secret (
    digest uuid PRIMARY KEY,
    grant_id integer NOT NULL REFERENCES oauth_grant (id) ON DELETE CASCADE,
    kind text NOT NULL CHECK (kind IN ('code', 'access', 'refresh')),
    expires_at timestamptz NOT NULL,
    -- When it was used up: a code or a refresh token is good once.
    spent_at timestamptz,
    -- Of a code: its proof key (S256) and where it was sent.
    challenge text,
    redirect text
);
CREATE INDEX oauth_secret_grant ON oauth_secret (grant_id);
CREATE INDEX oauth_secret_expires ON oauth_secret (expires_at);
