-- What people say of services; the row without a service holds for all that have none of their own.
-- source_url: template of a link to a line, with {path}, {line}, {revision}; source_root: the folder the service's code runs
-- in, which is not part of the path in its repository. instance_group, customer: attributes that tell instances and customers apart.
CREATE TABLE service_setting (
    service_id integer REFERENCES service,
    source_url text,
    source_root text,
    instance_group text,
    customer text,
    UNIQUE NULLS NOT DISTINCT (service_id)
);

-- Predicates saved under a name.
CREATE TABLE slice (
    name text PRIMARY KEY,
    predicate text NOT NULL,
    by text NOT NULL,
    at timestamptz NOT NULL DEFAULT now()
);

-- The time an occurrence's id begins with, to the millisecond.
CREATE FUNCTION id_time(id uuid) RETURNS timestamptz LANGUAGE sql IMMUTABLE PARALLEL SAFE
    RETURN to_timestamp(('x' || substr(replace(id::text, '-', ''), 1, 12))::bit(48)::bigint / 1000.0);
