-- How an error was handled before a change, so that the change can be undone; the last change, so that two people who act
-- at once notice.
ALTER TABLE handling_change ADD COLUMN before jsonb;
