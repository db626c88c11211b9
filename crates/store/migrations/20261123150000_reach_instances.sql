-- Instances an error occurs on, as hashes of their resources; 64 are told apart per row, which is "everywhere".
ALTER TABLE reach_hour ADD COLUMN instances integer[] NOT NULL DEFAULT '{}';
ALTER TABLE reach_day ADD COLUMN instances integer[] NOT NULL DEFAULT '{}';
