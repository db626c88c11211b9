-- What is answered for deploys, kept by a job: lists and notices read it instead of asking anew.

CREATE TABLE deploy_answer (
    service_id integer NOT NULL,
    environment_id integer NOT NULL,
    version text NOT NULL,
    at timestamptz NOT NULL,
    -- The display names of the services whose flags stand in it.
    services text[] NOT NULL,
    answer jsonb NOT NULL,
    -- How answers are written: another release's are made anew.
    form smallint NOT NULL,
    answered_at timestamptz NOT NULL,
    -- By when it is made anew though no flag changed; none once it is final.
    due_at timestamptz,
    PRIMARY KEY (service_id, environment_id, version, at)
);
CREATE INDEX deploy_answer_due ON deploy_answer (due_at) WHERE due_at IS NOT NULL;
CREATE INDEX deploy_answer_at ON deploy_answer (at);
CREATE INDEX deploy_answer_form ON deploy_answer (form);

-- Where something changed for deploys, of which deploys on, and when it changed last.
CREATE TABLE deploy_stale (
    service_id integer NOT NULL,
    environment_id integer NOT NULL,
    from_at timestamptz NOT NULL,
    since timestamptz NOT NULL DEFAULT clock_timestamp(),
    PRIMARY KEY (service_id, environment_id)
);

-- It writes the tables, though whoever changes a row sees views in their place. A flag is charged to deploys of the day before.
CREATE FUNCTION note_deploy_stale() RETURNS trigger LANGUAGE plpgsql SET search_path = public AS $$
DECLARE
    changed record;
    reached timestamptz;
BEGIN
    IF TG_OP = 'DELETE' THEN changed := OLD; ELSE changed := NEW; END IF;
    IF TG_TABLE_NAME = 'service' THEN
        INSERT INTO deploy_stale AS known (service_id, environment_id, from_at)
        SELECT DISTINCT service_id, environment_id, '-infinity'::timestamptz FROM deployed WHERE service_id = changed.id ORDER BY 1, 2
        ON CONFLICT (service_id, environment_id) DO UPDATE SET from_at = '-infinity', since = clock_timestamp();
    ELSIF TG_TABLE_NAME = 'error_group' THEN
        INSERT INTO deploy_stale AS known (service_id, environment_id, from_at)
        SELECT service_id, environment_id, min(since) - interval '25 hours' FROM flag WHERE error_id = changed.id GROUP BY 1, 2 ORDER BY 1, 2
        ON CONFLICT (service_id, environment_id) DO UPDATE SET from_at = least(known.from_at, excluded.from_at), since = clock_timestamp();
    ELSE
        IF TG_TABLE_NAME = 'flag' THEN reached := changed.since - interval '25 hours';
        ELSIF TG_TABLE_NAME = 'deploy' THEN reached := changed.at - interval '1 hour';
        ELSE reached := changed.first_event_at;
        END IF;
        INSERT INTO deploy_stale AS known (service_id, environment_id, from_at) VALUES (changed.service_id, changed.environment_id, reached)
        ON CONFLICT (service_id, environment_id) DO UPDATE SET from_at = least(known.from_at, excluded.from_at), since = clock_timestamp();
    END IF;
    RETURN NULL;
END $$;
CREATE TRIGGER deploy_stale AFTER INSERT OR UPDATE OR DELETE ON flag FOR EACH ROW EXECUTE FUNCTION note_deploy_stale();
CREATE TRIGGER deploy_stale AFTER INSERT OR UPDATE OR DELETE ON deploy FOR EACH ROW EXECUTE FUNCTION note_deploy_stale();
CREATE TRIGGER deploy_stale AFTER INSERT ON deployed FOR EACH ROW EXECUTE FUNCTION note_deploy_stale();
CREATE TRIGGER deploy_earlier AFTER UPDATE ON deployed FOR EACH ROW
    WHEN (OLD.first_event_at IS DISTINCT FROM NEW.first_event_at) EXECUTE FUNCTION note_deploy_stale();
CREATE TRIGGER deploy_stale AFTER UPDATE OF title ON error_group FOR EACH ROW EXECUTE FUNCTION note_deploy_stale();
CREATE TRIGGER deploy_stale AFTER UPDATE OF display_name ON service FOR EACH ROW EXECUTE FUNCTION note_deploy_stale();

INSERT INTO deploy_stale (service_id, environment_id, from_at)
SELECT service_id, environment_id, '-infinity' FROM (SELECT service_id, environment_id FROM deployed UNION SELECT service_id, environment_id FROM deploy) place;
