-- A service's name may stand in several namespaces. display_name tells them apart wherever a service is shown or asked for: the name
-- alone while it is the only one, or where it has no namespace; else namespace/name.
ALTER TABLE service ADD COLUMN display_name text NOT NULL DEFAULT '';
UPDATE service SET display_name = CASE
    WHEN namespace <> '' AND EXISTS (SELECT FROM service other WHERE other.name = service.name AND other.id <> service.id)
    THEN namespace || '/' || name ELSE name END;
CREATE INDEX service_by_name ON service (name);
CREATE INDEX service_by_display_name ON service (display_name);

-- The lock makes two writers that bring one name from two namespaces at the same moment see each other's rows.
CREATE FUNCTION name_services() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    PERFORM pg_advisory_xact_lock(hashtext('outcrop display names'));
    UPDATE service SET display_name = right_one.display_name
    FROM (SELECT s.id, CASE WHEN s.namespace <> '' AND count(*) OVER (PARTITION BY s.name) > 1 THEN s.namespace || '/' || s.name ELSE s.name END AS display_name
        FROM service s WHERE s.name IN (SELECT name FROM made)) right_one
    WHERE service.id = right_one.id AND service.display_name <> right_one.display_name;
    RETURN NULL;
END $$;
CREATE TRIGGER name_services AFTER INSERT ON service REFERENCING NEW TABLE AS made FOR EACH STATEMENT EXECUTE FUNCTION name_services();

-- The services that a name asked for means: the one shown under it, else all of that name.
CREATE FUNCTION services_named(asked text) RETURNS SETOF integer LANGUAGE sql STABLE AS $$
    SELECT id FROM service WHERE display_name = asked OR strpos(asked, '/') > 1 AND namespace || '/' || name = asked
    UNION ALL SELECT id FROM service WHERE name = asked AND NOT EXISTS (SELECT FROM service WHERE display_name = asked)
$$;
