-- Version 8: what an undoing keeps back from later runs, and
-- which manifest the state is of.

CREATE TABLE kept_back (
    hostname TEXT PRIMARY KEY,
    -- The run that was undone.
    run      INTEGER NOT NULL,
    since    INTEGER NOT NULL,
    -- A digest of what the manifest wanted of the hostname then; NULL where it did not name it.
    wanted   INTEGER,
    form     TEXT NOT NULL
) STRICT, WITHOUT ROWID;

-- One row: the manifest, and the file of values where one is named.
CREATE TABLE origin (
    id          INTEGER PRIMARY KEY CHECK (id = 1),
    manifest    TEXT NOT NULL,
    values_file TEXT
) STRICT;
