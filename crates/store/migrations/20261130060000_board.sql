-- What a list of errors shows, kept for the windows that people look at: a job writes it anew for errors of which something
-- changed, and for those whose window has moved on.

-- Where an error stands in the list of the last so many minutes; environment 0: in all environments. Narrow, and written only
-- when it changes, so that a list is read from few pages.
CREATE TABLE error_now (
    minutes integer NOT NULL,
    environment_id integer NOT NULL,
    error_id integer NOT NULL,
    service_id integer NOT NULL,
    score smallint NOT NULL,
    uncaught boolean NOT NULL,
    came_with_version boolean NOT NULL,
    first_seen timestamptz NOT NULL,
    PRIMARY KEY (minutes, environment_id, error_id)
) WITH (fillfactor = 80);
-- Its numbers there, and by when they are to be counted anew.
CREATE TABLE error_numbers (
    minutes integer NOT NULL,
    environment_id integer NOT NULL,
    error_id integer NOT NULL,
    service_id integer NOT NULL,
    summary jsonb NOT NULL,
    due_at timestamptz NOT NULL,
    PRIMARY KEY (minutes, environment_id, error_id)
) WITH (fillfactor = 80);
CREATE INDEX error_numbers_due ON error_numbers (due_at) WHERE environment_id = 0;
CREATE INDEX error_numbers_by_error ON error_numbers (error_id);
CREATE INDEX error_now_by_error ON error_now (error_id);

-- Errors whose numbers are to be counted anew, since when; and when the job looked last.
CREATE TABLE error_stale (
    error_id integer PRIMARY KEY,
    since timestamptz NOT NULL DEFAULT clock_timestamp()
) WITH (fillfactor = 50);
CREATE TABLE board_round (
    ended_at timestamptz NOT NULL,
    -- How summaries are written: another release's are counted anew.
    form smallint NOT NULL
);

-- What else than occurrences changes what a list shows: flags, grouping, names, weights.
-- It writes the tables, though whoever changes a row sees views in their place.
CREATE FUNCTION note_stale() RETURNS trigger LANGUAGE plpgsql SET search_path = public AS $$
DECLARE
    changed record;
BEGIN
    IF TG_OP = 'DELETE' THEN changed := OLD; ELSE changed := NEW; END IF;
    IF TG_TABLE_NAME = 'weight' THEN
        INSERT INTO error_stale (error_id) SELECT g.id FROM error_group g JOIN service s ON s.id = g.service_id
        WHERE s.display_name = changed.service ORDER BY 1 ON CONFLICT DO NOTHING;
    ELSIF TG_TABLE_NAME = 'service' THEN
        INSERT INTO error_stale (error_id) SELECT id FROM error_group WHERE service_id = changed.id ORDER BY 1 ON CONFLICT DO NOTHING;
    ELSIF TG_TABLE_NAME = 'error_group' THEN
        INSERT INTO error_stale (error_id) VALUES (changed.id) ON CONFLICT DO NOTHING;
    ELSE
        INSERT INTO error_stale (error_id) VALUES (changed.error_id) ON CONFLICT DO NOTHING;
        IF TG_OP = 'UPDATE' AND OLD.error_id <> NEW.error_id THEN
            INSERT INTO error_stale (error_id) VALUES (OLD.error_id) ON CONFLICT DO NOTHING;
        END IF;
    END IF;
    RETURN NULL;
END $$;
CREATE TRIGGER stale AFTER INSERT OR UPDATE OR DELETE ON flag FOR EACH ROW EXECUTE FUNCTION note_stale();
CREATE TRIGGER stale AFTER UPDATE OF error_id ON cause FOR EACH ROW EXECUTE FUNCTION note_stale();
CREATE TRIGGER stale AFTER UPDATE OF title, type, own_frame ON error_group FOR EACH ROW EXECUTE FUNCTION note_stale();
CREATE TRIGGER stale AFTER UPDATE OF display_name ON service FOR EACH ROW EXECUTE FUNCTION note_stale();
CREATE TRIGGER stale AFTER INSERT OR UPDATE OR DELETE ON weight FOR EACH ROW EXECUTE FUNCTION note_stale();

INSERT INTO error_stale (error_id) SELECT id FROM error_group;

-- Counts by minute and hour are asked of one error, one service or one endpoint more often than of all: their keys begin with
-- these. By time they lie in the order they came in, which a BRIN index finds.
ALTER TABLE tally_minute DROP CONSTRAINT tally_minute_pkey;
ALTER TABLE tally_minute ADD PRIMARY KEY (cause_id, minute, environment_id, version_id);
CREATE INDEX tally_minute_by_time ON tally_minute USING brin (minute) WITH (pages_per_range = 8, autosummarize = on);
ALTER TABLE traffic_minute DROP CONSTRAINT traffic_minute_pkey;
ALTER TABLE traffic_minute ADD PRIMARY KEY (service_id, endpoint_id, minute, environment_id, version_id);
CREATE INDEX traffic_minute_by_time ON traffic_minute USING brin (minute) WITH (pages_per_range = 8, autosummarize = on);
ALTER TABLE tally_day DROP CONSTRAINT tally_day_pkey;
ALTER TABLE tally_day ADD PRIMARY KEY (cause_id, day, environment_id, version_id);
CREATE INDEX tally_day_by_time ON tally_day USING brin (day) WITH (pages_per_range = 16, autosummarize = on);
ALTER TABLE traffic_day DROP CONSTRAINT traffic_day_pkey;
ALTER TABLE traffic_day ADD PRIMARY KEY (service_id, endpoint_id, day, environment_id, version_id);
CREATE INDEX traffic_day_by_time ON traffic_day USING brin (day) WITH (pages_per_range = 16, autosummarize = on);
ALTER TABLE traffic_hour DROP CONSTRAINT traffic_hour_pkey;
ALTER TABLE traffic_hour ADD PRIMARY KEY (service_id, endpoint_id, hour, environment_id, version_id);
CREATE INDEX traffic_hour_by_time ON traffic_hour USING brin (hour) WITH (pages_per_range = 16, autosummarize = on);
