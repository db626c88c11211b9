-- How much errors of a service, or of one of its endpoints, weigh when they are ranked. An empty endpoint is the service's.
CREATE TABLE weight (
    service text NOT NULL,
    endpoint text NOT NULL DEFAULT '',
    factor real NOT NULL CHECK (factor > 0),
    PRIMARY KEY (service, endpoint)
);
