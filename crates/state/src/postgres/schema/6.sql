-- Version 6, alike to schema 8 of the SQLite state: what an undoing keeps back from later runs, and
-- which manifest the state is of.

CREATE TABLE kept_back (
    hostname TEXT PRIMARY KEY,
    run      BIGINT NOT NULL,
    since    BIGINT NOT NULL,
    wanted   BIGINT,
    form     TEXT NOT NULL
);

-- One row: the manifest, and the file of values where one is named.
CREATE TABLE origin (
    id          INTEGER PRIMARY KEY CHECK (id = 1),
    manifest    TEXT NOT NULL,
    values_file TEXT
);
