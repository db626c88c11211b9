-- Names are capped and expire by their last day of use: whoever puts ids into names must not fill these tables for ever. The day is
-- counted since 1970; rows that are there count as used today. Services and environments are capped per sender key, the key that first
-- sent them.
ALTER TABLE service
    ADD COLUMN used_day integer NOT NULL DEFAULT (extract(epoch FROM now()) / 86400)::integer,
    ADD COLUMN key_id integer NOT NULL DEFAULT 0;
CREATE INDEX service_by_key ON service (key_id);
ALTER TABLE environment
    ADD COLUMN used_day integer NOT NULL DEFAULT (extract(epoch FROM now()) / 86400)::integer,
    ADD COLUMN key_id integer NOT NULL DEFAULT 0;
CREATE INDEX environment_by_key ON environment (key_id);
ALTER TABLE version ADD COLUMN used_day integer NOT NULL DEFAULT (extract(epoch FROM now()) / 86400)::integer;
ALTER TABLE endpoint ADD COLUMN used_day integer NOT NULL DEFAULT (extract(epoch FROM now()) / 86400)::integer;
ALTER TABLE called ADD COLUMN used_day integer NOT NULL DEFAULT (extract(epoch FROM now()) / 86400)::integer;
CREATE INDEX error_group_by_service ON error_group (service_id);
CREATE INDEX instance_by_service ON instance (service_id);

-- Where a limit was reached: what was counted under "other", or without details. Said on the service's completeness line.
CREATE TABLE limit_reached (
    hour timestamptz NOT NULL,
    service_id integer NOT NULL,
    what text NOT NULL,
    n bigint NOT NULL,
    PRIMARY KEY (hour, service_id, what)
);
CREATE INDEX limit_reached_by_service ON limit_reached (service_id, hour);

-- What upkeep looks for, by an index.
CREATE INDEX also_reported_by_time ON also_reported USING brin (received_at);
CREATE INDEX resource_by_day ON resource (used_day);
CREATE INDEX stack_by_day ON stack (used_day);
CREATE INDEX log_template_by_day ON log_template (used_day);
CREATE INDEX instance_hour_by_instance ON instance_hour (instance_id);
