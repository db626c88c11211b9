-- Sign-in by password: sessions by the digest of their cookie, and failed attempts, so that guessing is slowed on all
-- instances alike. The key is a hash of the address tried, whether or not it is a member's.
CREATE TABLE session (
    digest uuid PRIMARY KEY,
    member_id integer NOT NULL REFERENCES member,
    created_at timestamptz NOT NULL DEFAULT now(),
    expires_at timestamptz NOT NULL
);

CREATE TABLE sign_in_failure (
    key uuid PRIMARY KEY,
    n integer NOT NULL,
    last_at timestamptz NOT NULL
);
