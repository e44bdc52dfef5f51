-- Version 7: each thing that Pindrel wrote in a row of its own with a version, each fact in a row of its own, workers
-- with leases on which their claims depend, and what is due. What was written is brought over by the program.

CREATE TABLE things (
    hostname TEXT NOT NULL,
    thing    TEXT NOT NULL,
    value    TEXT NOT NULL,
    version  INTEGER NOT NULL,
    -- Of the claim under which it was written last.
    fence    INTEGER NOT NULL,
    PRIMARY KEY (hostname, thing)
) STRICT, WITHOUT ROWID;

CREATE TABLE facts (
    hostname TEXT NOT NULL,
    about    TEXT NOT NULL,
    -- In milliseconds: what was seen earlier never takes the place of what was seen later.
    seen     INTEGER NOT NULL,
    fact     TEXT NOT NULL,
    PRIMARY KEY (hostname, about)
) STRICT, WITHOUT ROWID;

-- The processes at work on this state. A number is never given twice.
CREATE TABLE workers (
    id    INTEGER PRIMARY KEY AUTOINCREMENT,
    name  TEXT NOT NULL,
    -- What shows that the process lives.
    token TEXT NOT NULL,
    until INTEGER NOT NULL
) STRICT;

-- Who works on what. A fence is never given twice.
DROP TABLE claims;
CREATE TABLE claims (
    key    TEXT PRIMARY KEY,
    fence  INTEGER NOT NULL,
    worker INTEGER NOT NULL
) STRICT, WITHOUT ROWID;
CREATE INDEX claims_by_worker ON claims (worker);

-- When what is to be looked at again, and how often in a row it was not as it should be.
CREATE TABLE agenda (
    subject  TEXT PRIMARY KEY,
    next_at  INTEGER NOT NULL,
    failures INTEGER NOT NULL
) STRICT, WITHOUT ROWID;
CREATE INDEX agenda_by_time ON agenda (next_at, subject);

-- In milliseconds, as with the facts of hostnames.
ALTER TABLE zones ADD COLUMN seen INTEGER NOT NULL DEFAULT 0;
ALTER TABLE endpoints ADD COLUMN seen INTEGER NOT NULL DEFAULT 0;

ALTER TABLE certificates ADD COLUMN version INTEGER NOT NULL DEFAULT 0;

-- Numbers of runs are not given twice.
CREATE TABLE runs_7 (
    id      INTEGER PRIMARY KEY AUTOINCREMENT,
    begun   INTEGER NOT NULL,
    ended   INTEGER,
    command TEXT NOT NULL
) STRICT;
INSERT INTO runs_7 SELECT id, begun, ended, command FROM runs;
CREATE TABLE run_changes_7 (
    run      INTEGER NOT NULL REFERENCES runs_7 (id) ON DELETE CASCADE,
    hostname TEXT NOT NULL,
    before   TEXT NOT NULL,
    after    TEXT,
    PRIMARY KEY (run, hostname)
) STRICT, WITHOUT ROWID;
INSERT INTO run_changes_7 SELECT run, hostname, before, after FROM run_changes;
DROP TABLE run_changes;
DROP TABLE runs;
ALTER TABLE runs_7 RENAME TO runs;
ALTER TABLE run_changes_7 RENAME TO run_changes;
