-- From when on a request is slow where its endpoint has no history: what is usual of its service, else of all. Service 0 stands for all.
CREATE TABLE service_slow (
    service_id integer PRIMARY KEY,
    threshold_us bigint NOT NULL
);
