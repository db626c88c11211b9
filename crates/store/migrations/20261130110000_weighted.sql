-- A percentile of values of which each stands for so many: the least value that as large a part of all lies at or below.
-- Both lists in the order of the values.
CREATE FUNCTION weighted_percentile(list float8[], weights float8[], part float8) RETURNS float8
LANGUAGE plpgsql IMMUTABLE PARALLEL SAFE SET search_path = public AS $$
DECLARE
    whole float8 := 0;
    so_far float8 := 0;
BEGIN
    FOR at IN 1 .. coalesce(array_length(weights, 1), 0) LOOP
        whole := whole + weights[at];
    END LOOP;
    FOR at IN 1 .. coalesce(array_length(weights, 1), 0) LOOP
        so_far := so_far + weights[at];
        IF so_far >= part * whole THEN
            RETURN list[at];
        END IF;
    END LOOP;
    RETURN NULL;
END $$;
