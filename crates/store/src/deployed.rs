//! Versions as they were deployed: announced, or seen in what services send.

/// An announced deploy within an hour of a version's first telemetry is the same one, and began
/// with the earlier of them. The first version of a service in an environment was there before: it
/// is none.
pub(crate) const DEPLOYS: &str = "WITH seen AS (\
         SELECT service_id, environment_id, version_id, first_event_at, last_event_at, \
             rank() OVER (PARTITION BY service_id, environment_id ORDER BY first_event_at) AS place FROM deployed) \
     SELECT all_of.service_id, service.display_name AS service, all_of.environment_id, environment.name AS \
     environment, version.label AS version, \
         at, ended_at, share, instance_group, announced, rollback, revision, link, by, last_event_at FROM (\
         SELECT d.service_id, d.environment_id, d.version_id, \
             CASE WHEN seen.first_event_at BETWEEN d.at - interval '1 hour' AND d.at THEN seen.first_event_at ELSE \
             d.at END AS at, d.ended_at, d.share, d.instance_group, true AS announced, \
             coalesce(seen.first_event_at < d.at - interval '1 hour', false) AND EXISTS (SELECT FROM seen other WHERE \
             other.service_id = d.service_id \
                 AND other.environment_id = d.environment_id AND other.first_event_at > seen.first_event_at AND \
                 other.first_event_at < d.at) \
                 OR EXISTS (SELECT FROM deploy earlier JOIN deploy between_them USING (service_id, environment_id) \
                     WHERE earlier.service_id = d.service_id AND earlier.environment_id = d.environment_id AND \
                     earlier.version_id = d.version_id \
                     AND between_them.version_id <> d.version_id AND between_them.ended_at IS NULL \
                     AND between_them.at > earlier.at AND between_them.at < d.at) AS rollback, d.revision, d.link, \
                     d.by, seen.last_event_at \
         FROM deploy d LEFT JOIN seen USING (service_id, environment_id, version_id) \
         UNION ALL SELECT service_id, environment_id, version_id, first_event_at, NULL, NULL, NULL, false, false, '', \
         '', '', last_event_at FROM seen \
         WHERE place > 1 AND NOT EXISTS (SELECT FROM deploy d WHERE d.service_id = seen.service_id AND \
         d.environment_id = seen.environment_id \
             AND d.version_id = seen.version_id AND d.at BETWEEN seen.first_event_at - interval '1 hour' AND \
             seen.first_event_at + interval '1 hour')) all_of \
     JOIN service ON service.id = all_of.service_id JOIN environment ON environment.id = all_of.environment_id \
     JOIN version ON version.id = all_of.version_id AND version.label <> 'unknown' ";
