INSERT INTO environment (name, name_hash) SELECT name, md5(name)::uuid FROM UNNEST(ARRAY['production', 'staging']) AS name
ON CONFLICT DO NOTHING;
INSERT INTO service (namespace, name, name_hash, display_name)
SELECT '', 'harbour-' || lpad(n::text, 4, '0'), md5('harbour ' || n)::uuid, 'harbour-' || lpad(n::text, 4, '0')
FROM generate_series(0, $services - 1) n;
INSERT INTO version (service_id, label, label_hash)
SELECT id, '1.' || day || '.0', md5('version ' || day)::uuid FROM service, generate_series(0, $days - 1) day WHERE name LIKE 'harbour-%';
INSERT INTO endpoint (service_id, name, name_hash)
SELECT id, 'GET /v1/berths/' || e || '/{row}', md5('endpoint ' || e)::uuid FROM service, generate_series(0, $endpoints - 1) e WHERE name LIKE 'harbour-%';
INSERT INTO deployed (service_id, environment_id, version_id, first_received_at, first_event_at, last_event_at)
SELECT version.service_id, environment.id, version.id, began, began, began + interval '1 day'
FROM version JOIN environment ON environment.name IN ('production', 'staging')
CROSS JOIN LATERAL (SELECT $now - ($days - split_part(label, '.', 2)::integer) * interval '1 day' AS began) AS began
WHERE label LIKE '1.%.0';
