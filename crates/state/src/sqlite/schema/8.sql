-- Version 8: what an undoing keeps back from later runs.

CREATE TABLE kept_back (
    hostname TEXT PRIMARY KEY,
    -- The run that was undone.
    run      INTEGER NOT NULL,
    since    INTEGER NOT NULL,
    -- A digest of what the manifest wanted of the hostname then; NULL where it did not name it.
    wanted   INTEGER,
    form     TEXT NOT NULL
) STRICT, WITHOUT ROWID;
