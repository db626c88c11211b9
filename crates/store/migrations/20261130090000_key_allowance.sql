-- What a key with a limit may still send, over all instances, and when that was worked out.
ALTER TABLE sender_key
    ADD COLUMN left_bytes bigint,
    ADD COLUMN left_at timestamptz;
