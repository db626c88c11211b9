-- An even sample of requests with their attributes and their resource's: what errors' occurrences are compared with. weight: how many requests
-- a row stands for. Ids are like those of occurrences: 48 bits of milliseconds, then a hash.
CREATE TABLE request_sample (
    id uuid PRIMARY KEY,
    service_id integer NOT NULL,
    environment_id integer NOT NULL,
    version_id integer NOT NULL,
    endpoint_id integer NOT NULL,
    weight real NOT NULL,
    attributes jsonb NOT NULL
);
CREATE INDEX request_sample_by_service ON request_sample (service_id, id);
