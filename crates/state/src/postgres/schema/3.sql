-- Version 3, alike to schema 5 of the SQLite state: runs that changed something, and what each hostname
-- was like before and, where the run was not stopped,
-- after.

CREATE TABLE runs (
    id      BIGINT PRIMARY KEY,
    begun   BIGINT NOT NULL,
    ended   BIGINT,
    command TEXT NOT NULL
);

CREATE TABLE run_changes (
    run      BIGINT NOT NULL REFERENCES runs (id) ON DELETE CASCADE,
    hostname TEXT NOT NULL,
    before   TEXT NOT NULL,
    after    TEXT,
    PRIMARY KEY (run, hostname)
);
