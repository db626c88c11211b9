-- When a flag was taken back, since data that came late showed that it was none.
ALTER TABLE flag ADD COLUMN withdrawn_at timestamptz;
