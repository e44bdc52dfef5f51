-- Version 1. Times are seconds since 1970, but for the journal's, which are milliseconds.

CREATE TABLE sealed_values (
    name   TEXT PRIMARY KEY,
    key_id TEXT NOT NULL,
    bytes  BLOB NOT NULL
) STRICT, WITHOUT ROWID;

CREATE TABLE accounts (
    authority TEXT PRIMARY KEY,
    key_id    TEXT NOT NULL,
    key       BLOB NOT NULL,
    url       TEXT,
    orders    TEXT
) STRICT, WITHOUT ROWID;

CREATE TABLE certificates (
    id         INTEGER PRIMARY KEY,
    name       TEXT NOT NULL,
    present    INTEGER NOT NULL,
    sha256     TEXT NOT NULL,
    names      TEXT NOT NULL,
    authority  TEXT NOT NULL,
    not_before INTEGER NOT NULL,
    not_after  INTEGER NOT NULL,
    chain      TEXT NOT NULL,
    key_id     TEXT NOT NULL,
    key        BLOB NOT NULL
) STRICT;
CREATE UNIQUE INDEX present_certificate ON certificates (name) WHERE present;

CREATE TABLE orders (
    id          INTEGER PRIMARY KEY,
    certificate TEXT NOT NULL,
    authority   TEXT NOT NULL,
    names       TEXT NOT NULL,
    url         TEXT,
    phase       TEXT NOT NULL,
    key_id      TEXT NOT NULL,
    key         BLOB NOT NULL,
    begun       INTEGER NOT NULL
) STRICT;
CREATE INDEX open_order ON orders (certificate) WHERE phase IN ('asked', 'open');
CREATE INDEX order_by_url ON orders (url);

CREATE TABLE challenge_records (
    order_id INTEGER NOT NULL REFERENCES orders (id),
    zone     TEXT NOT NULL,
    name     TEXT NOT NULL,
    text     TEXT NOT NULL,
    PRIMARY KEY (zone, name, text)
) STRICT, WITHOUT ROWID;
CREATE INDEX challenge_record_by_order ON challenge_records (order_id);

CREATE TABLE journal (
    id      INTEGER PRIMARY KEY,
    at      INTEGER NOT NULL,
    moment  TEXT NOT NULL,
    action  TEXT NOT NULL,
    subject TEXT NOT NULL,
    detail  TEXT NOT NULL
) STRICT;

-- What a run reads of every hostname, kept apart from the facts so that reading it is
-- cheap; both are always written together.
CREATE TABLE hostnames (
    hostname TEXT PRIMARY KEY,
    wanted   INTEGER NOT NULL,
    held     INTEGER NOT NULL,
    seen     INTEGER NOT NULL,
    due      INTEGER NOT NULL
) STRICT, WITHOUT ROWID;

CREATE TABLE hostname_facts (
    hostname TEXT PRIMARY KEY,
    facts    TEXT NOT NULL,
    ours     TEXT NOT NULL
) STRICT, WITHOUT ROWID;

CREATE TABLE zones (
    zone TEXT PRIMARY KEY,
    fact TEXT NOT NULL
) STRICT, WITHOUT ROWID;

CREATE TABLE endpoints (
    url  TEXT NOT NULL,
    id   TEXT NOT NULL,
    fact TEXT NOT NULL,
    PRIMARY KEY (url, id)
) STRICT, WITHOUT ROWID;
