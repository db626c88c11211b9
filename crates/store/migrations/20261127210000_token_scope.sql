-- A token may be a pipeline's: it records and checks deploys and does nothing else. The release before this one takes it for its
-- member's: make such tokens once all instances are of this one.
ALTER TABLE token ADD COLUMN scope text NOT NULL DEFAULT 'member' CHECK (scope IN ('member', 'deploys'));
