-- What a silence is of is taken apart by the statement that looks whether it goes on: plain numbers, 0 for none.
UPDATE notice_episode SET what = regexp_replace(replace(what, 'None', '0'), 'Some\((\d+)\)', '\1', 'g') WHERE kind = 'silent';
