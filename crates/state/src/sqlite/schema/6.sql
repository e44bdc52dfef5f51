-- Version 6: health checks with what they concluded, their results in slots, what happened to them (times of
-- that in milliseconds), and endpoints that somebody has taken out of answers.

CREATE TABLE health_checks (
    name   TEXT PRIMARY KEY,
    record TEXT NOT NULL
) STRICT, WITHOUT ROWID;

CREATE TABLE health_slots (
    name      TEXT NOT NULL,
    begun     INTEGER NOT NULL,
    seconds   INTEGER NOT NULL,
    results   INTEGER NOT NULL,
    failed    INTEGER NOT NULL,
    latencies TEXT NOT NULL,
    PRIMARY KEY (name, begun)
) STRICT, WITHOUT ROWID;
CREATE INDEX health_slots_by_age ON health_slots (seconds, begun);

CREATE TABLE health_incidents (
    id   INTEGER PRIMARY KEY,
    name TEXT NOT NULL,
    at   INTEGER NOT NULL,
    what TEXT NOT NULL
) STRICT;
CREATE INDEX health_incidents_by_name ON health_incidents (name, id);
CREATE INDEX health_incidents_by_time ON health_incidents (at);

CREATE TABLE endpoint_holds (
    endpoint TEXT PRIMARY KEY,
    since    INTEGER NOT NULL,
    until    INTEGER,
    because  TEXT NOT NULL
) STRICT, WITHOUT ROWID;
