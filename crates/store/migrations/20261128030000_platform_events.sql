-- What the platform said of instances: a container killed, a unit that ended. By id, which begins with the time.
CREATE TABLE platform_event (
    id uuid PRIMARY KEY,
    object text NOT NULL,
    node text NOT NULL,
    reason text NOT NULL,
    message text NOT NULL,
    is_warning boolean NOT NULL
);
