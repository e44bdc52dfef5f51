-- Version 6, alike to schema 8 of the SQLite state: what an undoing keeps back from later runs.

CREATE TABLE kept_back (
    hostname TEXT PRIMARY KEY,
    run      BIGINT NOT NULL,
    since    BIGINT NOT NULL,
    wanted   BIGINT,
    form     TEXT NOT NULL
);
