-- The number that an expression finds in the first line of a message, as plain decimals; of a duration in milliseconds.
-- The expression's first group is the number as it was written, its second the unit of a duration, else empty
-- (outcrop_core::grouping::number_at). NULL where there is none.
CREATE FUNCTION number_of_line(message text, pattern text) RETURNS text
LANGUAGE sql IMMUTABLE PARALLEL SAFE AS $$
    WITH found AS (
        SELECT translate(groups[1], E' +_''\u00a0\u202f', '') AS number, lower(groups[2]) AS unit
        FROM regexp_match(split_part(message, E'\n', 1), pattern) AS groups
    ), plain AS (
        -- A comma is a decimal one unless it sets thousands apart; so is a point.
        SELECT unit, CASE
            WHEN number ~ '^-?[0-9]{1,3}(,[0-9]{3})+([.][0-9]+)?$' THEN replace(number, ',', '')
            WHEN number ~ '^-?[0-9]{1,3}([.][0-9]{3})+,[0-9]+$' OR number ~ '^-?[0-9]{1,3}([.][0-9]{3}){2,}$'
                THEN replace(replace(number, '.', ''), ',', '.')
            ELSE replace(number, ',', '.')
        END AS number
        FROM found
    )
    SELECT trim_scale(round(number::numeric * CASE
        WHEN unit = 'ns' THEN 0.000001
        WHEN unit = 'us' THEN 0.001
        WHEN unit IN ('s', 'sec', 'secs', 'seconds') THEN 1000
        WHEN unit IN ('m', 'min', 'mins', 'minutes') THEN 60000
        WHEN unit IN ('h', 'hours') THEN 3600000
        ELSE 1
    END, 9))::text
    FROM plain
    WHERE number ~ '^-?[0-9]{1,15}([.][0-9]{1,15})?([eE]-?[0-9]{1,2})?$'
$$;
