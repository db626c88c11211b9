-- How a member wants pages to be: times, theme. What is not there is as built in.
ALTER TABLE member ADD COLUMN preferences jsonb NOT NULL DEFAULT '{}';
