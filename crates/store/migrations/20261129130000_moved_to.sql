-- Where an error's code went, by the error.
CREATE INDEX grouping_change_moved ON grouping_change (((change ->> 'error')::integer), id) WHERE change ->> 'kind' = 'moved';
