-- Series of metrics that services send, with where a sum since a beginning stands after the last fold.
CREATE TABLE metric_series (
    id integer GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    hash uuid NOT NULL UNIQUE,
    service_id integer NOT NULL,
    environment_id integer NOT NULL,
    version_id integer NOT NULL,
    name text NOT NULL,
    unit text NOT NULL,
    kind smallint NOT NULL,
    instance text NOT NULL,
    attributes jsonb NOT NULL,
    used_day integer NOT NULL,
    sum_at timestamptz,
    sum_start timestamptz,
    sum_value double precision,
    sum_count bigint,
    sum_buckets bytea
);
CREATE INDEX metric_series_name ON metric_series (service_id, name);
CREATE INDEX metric_series_by_name ON metric_series (name);
-- Points as they came, until their minute is over and folded.
CREATE TABLE metric_point (
    series_id integer NOT NULL,
    service_id integer NOT NULL,
    at timestamptz NOT NULL,
    start_at timestamptz,
    value double precision NOT NULL,
    n bigint NOT NULL,
    buckets bytea
);
-- The minutes of an hour of one series in one row: NULL where nothing came. A point takes four bytes; of a distribution eight, and
-- some for how its measurements are spread.
CREATE TABLE metric_hour (
    hour timestamptz NOT NULL,
    series_id integer NOT NULL,
    service_id integer NOT NULL,
    minute_values real[] NOT NULL,
    minute_counts integer[],
    minute_spreads bytea[],
    PRIMARY KEY (series_id, hour)
);
CREATE INDEX metric_hour_hour ON metric_hour USING brin (hour);
