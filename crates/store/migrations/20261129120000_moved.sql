-- What of a cause is compared with those of other versions, where its code may have moved: core's Shape, a few kilobytes at most.
CREATE TABLE cause_shape (
    cause_id bigint PRIMARY KEY REFERENCES cause ON DELETE CASCADE,
    shape jsonb NOT NULL
);
