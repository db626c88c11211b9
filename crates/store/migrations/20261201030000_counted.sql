-- Questions that are counted for good: each makes series of metrics, an hour at a time.
CREATE TABLE counted (
    id integer GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    name text NOT NULL UNIQUE,
    question text NOT NULL,
    step_ms integer NOT NULL,
    description text NOT NULL,
    owner text NOT NULL,
    made_at timestamptz NOT NULL,
    -- How many hours are to be counted still, and what the last one failed with.
    hours_left integer NOT NULL DEFAULT 0,
    failure text
);
-- The hours that are counted, with what had been stored of them then: an hour of which more or less is stored is counted again.
CREATE TABLE counted_hour (
    counted_id integer NOT NULL REFERENCES counted (id) ON DELETE CASCADE,
    hour timestamptz NOT NULL,
    stored text NOT NULL,
    PRIMARY KEY (counted_id, hour)
);
ALTER TABLE metric_series ADD COLUMN counted_id integer REFERENCES counted (id) ON DELETE CASCADE;
CREATE INDEX metric_series_counted ON metric_series (counted_id) WHERE counted_id IS NOT NULL;
