-- Why an error was flagged, as it was worked out when the flag rose: a notice carries it.
ALTER TABLE flag ADD COLUMN why text[];
