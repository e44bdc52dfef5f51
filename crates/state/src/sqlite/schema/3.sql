-- Version 3: what was written at which endpoint, claims, last attempts. The texts of
-- hostname_facts are brought over by the program.

DROP INDEX present_certificate;
DROP INDEX next_certificate;
CREATE UNIQUE INDEX present_certificate ON certificates (name) WHERE present = 1;
CREATE INDEX next_certificate ON certificates (next_at) WHERE present = 1;

-- Why a certificate is replaced early, as a value.
UPDATE certificates SET replace_why = CASE replace_why
    WHEN 'it was revoked' THEN '"revoked"'
    WHEN 'its key was compromised' THEN '"key-compromised"'
    ELSE '{"requested":"' || strftime('%Y-%m-%dT%H:%M:%SZ', 'now') || '"}'
END WHERE replace_why IS NOT NULL;

UPDATE journal SET moment = 'done' WHERE moment = 'ended';
CREATE INDEX journal_by_time ON journal (at);

-- Who works on what. The number grows with each claim of a key and stays when it is
-- released; `until` is 0 then.
CREATE TABLE claims (
    key   TEXT PRIMARY KEY,
    fence INTEGER NOT NULL,
    owner TEXT NOT NULL,
    until INTEGER NOT NULL
) STRICT, WITHOUT ROWID;

-- What is changed by one at a time.
CREATE TABLE turns (
    name  TEXT PRIMARY KEY,
    taken INTEGER NOT NULL
) STRICT, WITHOUT ROWID;

-- The last attempt at each piece of work.
CREATE TABLE attempts (
    work    TEXT PRIMARY KEY,
    action  TEXT NOT NULL,
    at      INTEGER NOT NULL,
    ended   TEXT NOT NULL,
    finding TEXT,
    next_at INTEGER
) STRICT, WITHOUT ROWID;

-- What was seen is looked at again.
DELETE FROM hostnames;
DELETE FROM zones;
DROP TABLE endpoints;
CREATE TABLE endpoints (
    endpoint TEXT PRIMARY KEY,
    fact     TEXT NOT NULL
) STRICT, WITHOUT ROWID;
