-- Times in which what a service reports cannot be taken as it is: counts that are missing, in lumps, sampled, doubled; errors that
-- are not reported. Written anew by the detector of flags when it knows of more, for the last 24 hours.
CREATE TABLE disturbed (
    service_id integer NOT NULL REFERENCES service ON DELETE CASCADE,
    environment_id integer NOT NULL REFERENCES environment ON DELETE CASCADE,
    measured text NOT NULL,
    -- How many times as many requests are counted as there are; 1 where that is not what is disturbed.
    times real NOT NULL,
    began_at timestamptz NOT NULL,
    -- None while it goes on.
    ended_at timestamptz
);
