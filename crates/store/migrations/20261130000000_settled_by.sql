-- An error can be settled by a commit: the first deploy that holds it settles the error in its version. Until then
-- settled_in and settled_at are null. An empty settled_in says: from settled_at on, whatever the version.
ALTER TABLE handling ADD COLUMN settled_by text;
ALTER TABLE handling_change DROP CONSTRAINT handling_change_verb_check;
ALTER TABLE handling_change ADD CONSTRAINT handling_change_verb_check CHECK (verb IN ('take', 'hand back', 'settle',
    'settle by', 'quiet', 'reopen', 'return', 'speak up', 'note'));
