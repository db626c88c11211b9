-- Users are counted by a hash under this installation's key from here on; it was unkeyed before. Rows that are there keep their hashes until they
-- expire, 30 days at most: they cannot be made anew, since who the users were is not stored, and the sets in reach_hour and reach_day are sketches.
-- Until then a window over the upgrade counts a user who met failures on both sides of it twice.
COMMENT ON COLUMN occurrence.user_hash IS 'The user, hashed under installation.pseudonym_key; rows older than this comment are hashed without a key.';
