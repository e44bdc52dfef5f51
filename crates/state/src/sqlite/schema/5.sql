-- Version 5: runs that changed something, and what each hostname was like before and, where the run was not stopped,
-- after.

CREATE TABLE runs (
    id      INTEGER PRIMARY KEY,
    begun   INTEGER NOT NULL,
    ended   INTEGER,
    command TEXT NOT NULL
) STRICT;

CREATE TABLE run_changes (
    run      INTEGER NOT NULL REFERENCES runs (id) ON DELETE CASCADE,
    hostname TEXT NOT NULL,
    before   TEXT NOT NULL,
    after    TEXT,
    PRIMARY KEY (run, hostname)
) STRICT, WITHOUT ROWID;
