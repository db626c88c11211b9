-- Addresses of pages that members saved under a name, for all.
CREATE TABLE saved_view (
    name text PRIMARY KEY,
    address text NOT NULL,
    owner text NOT NULL,
    saved_at timestamptz NOT NULL
);
