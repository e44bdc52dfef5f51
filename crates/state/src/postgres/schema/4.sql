-- Version 4, alike to schema 6 of the SQLite state: health checks with what they concluded, their results in
-- slots, what happened to them (times of that in milliseconds), and endpoints that somebody has taken out of
-- answers.

CREATE TABLE health_checks (
    name   TEXT COLLATE "C" PRIMARY KEY,
    record TEXT NOT NULL
);

CREATE TABLE health_slots (
    name      TEXT NOT NULL,
    begun     BIGINT NOT NULL,
    seconds   BIGINT NOT NULL,
    results   BIGINT NOT NULL,
    failed    BIGINT NOT NULL,
    latencies TEXT NOT NULL,
    PRIMARY KEY (name, begun)
);
CREATE INDEX health_slots_by_age ON health_slots (seconds, begun);

CREATE TABLE health_incidents (
    id   BIGINT GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    name TEXT NOT NULL,
    at   BIGINT NOT NULL,
    what TEXT NOT NULL
);
CREATE INDEX health_incidents_by_name ON health_incidents (name, id);
CREATE INDEX health_incidents_by_time ON health_incidents (at);

CREATE TABLE endpoint_holds (
    endpoint TEXT COLLATE "C" PRIMARY KEY,
    since    BIGINT NOT NULL,
    until    BIGINT,
    because  TEXT NOT NULL
);
