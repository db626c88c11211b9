-- Every table whose rows go by a time is searched by it.
CREATE INDEX clock_ahead_at ON clock_ahead (at);
CREATE INDEX deploy_at ON deploy (at);
CREATE INDEX deploy_change_sent ON deploy_change (sent_at);
CREATE INDEX flag_said ON flag (said_at);
CREATE INDEX known_address_last ON known_address (last_at);
CREATE INDEX session_last ON session (last_used_at);
