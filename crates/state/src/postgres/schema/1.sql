-- Version 1, alike to schema 3 of the SQLite state. Times are seconds since 1970, but for
-- the journal's, which are milliseconds. Flags are 0 and 1.

CREATE TABLE lock_holder (
    id     BIGINT PRIMARY KEY,
    holder TEXT NOT NULL
);

CREATE TABLE sealed_values (
    name   TEXT PRIMARY KEY,
    key_id TEXT NOT NULL,
    bytes  BYTEA NOT NULL
);

CREATE TABLE accounts (
    authority   TEXT PRIMARY KEY,
    key_id      TEXT NOT NULL,
    key         BYTEA NOT NULL,
    url         TEXT,
    orders      TEXT,
    status      TEXT NOT NULL,
    contact     TEXT NOT NULL,
    terms       TEXT,
    next_key_id TEXT,
    next_key    BYTEA
);

CREATE TABLE certificates (
    id             BIGINT GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    name           TEXT COLLATE "C" NOT NULL,
    present        BIGINT NOT NULL,
    sha256         TEXT NOT NULL,
    names          TEXT NOT NULL,
    origin         TEXT NOT NULL,
    authority      TEXT NOT NULL,
    key_kind       TEXT,
    not_before     BIGINT NOT NULL,
    not_after      BIGINT NOT NULL,
    renewal_id     TEXT,
    renewal_window TEXT,
    replace_why    TEXT,
    revoked        BIGINT,
    revoking       BIGINT,
    kept           BIGINT NOT NULL,
    renew_at       BIGINT NOT NULL,
    next_at        BIGINT NOT NULL,
    chain          TEXT NOT NULL,
    key_id         TEXT NOT NULL,
    key            BYTEA NOT NULL
);
CREATE UNIQUE INDEX present_certificate ON certificates (name) WHERE present = 1;
CREATE INDEX next_certificate ON certificates (next_at) WHERE present = 1;
CREATE INDEX revoking_certificate ON certificates (id) WHERE revoking IS NOT NULL;
CREATE INDEX certificate_by_name ON certificates (name);
CREATE INDEX certificate_by_sha256 ON certificates (sha256);

CREATE TABLE orders (
    id          BIGINT GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    certificate TEXT COLLATE "C" NOT NULL,
    authority   TEXT NOT NULL,
    names       TEXT NOT NULL,
    url         TEXT,
    phase       TEXT NOT NULL,
    key_id      TEXT NOT NULL,
    key         BYTEA NOT NULL,
    begun       BIGINT NOT NULL,
    ended       BIGINT,
    replaces    TEXT,
    says        TEXT
);
CREATE INDEX open_order ON orders (certificate, id) WHERE phase IN ('asked', 'open');
CREATE INDEX order_by_url ON orders (url);
CREATE INDEX order_by_certificate ON orders (certificate);

CREATE TABLE challenge_records (
    order_id BIGINT NOT NULL REFERENCES orders (id),
    zone     TEXT NOT NULL,
    name     TEXT NOT NULL,
    text     TEXT NOT NULL,
    PRIMARY KEY (zone, name, text)
);
CREATE INDEX challenge_record_by_order ON challenge_records (order_id);

CREATE TABLE journal (
    id      BIGINT GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    at      BIGINT NOT NULL,
    moment  TEXT NOT NULL,
    action  TEXT NOT NULL,
    subject TEXT NOT NULL,
    detail  TEXT NOT NULL
);
CREATE INDEX journal_by_time ON journal (at);

CREATE TABLE hostnames (
    hostname TEXT COLLATE "C" PRIMARY KEY,
    wanted   BIGINT NOT NULL,
    held     BIGINT NOT NULL,
    seen     BIGINT NOT NULL,
    due      BIGINT NOT NULL
);

CREATE TABLE hostname_facts (
    hostname TEXT PRIMARY KEY,
    facts    TEXT NOT NULL,
    ours     TEXT NOT NULL
);

CREATE TABLE zones (
    zone TEXT PRIMARY KEY,
    fact TEXT NOT NULL
);

CREATE TABLE endpoints (
    endpoint TEXT PRIMARY KEY,
    fact     TEXT NOT NULL
);

CREATE TABLE ledger (
    authority TEXT NOT NULL,
    of        TEXT NOT NULL,
    per       TEXT NOT NULL,
    subject   TEXT NOT NULL,
    at        BIGINT NOT NULL,
    order_id  BIGINT NOT NULL
);
CREATE INDEX ledger_by_subject ON ledger (authority, of, per, subject, at);
CREATE INDEX ledger_by_order ON ledger (order_id);
CREATE INDEX ledger_by_time ON ledger (at);

CREATE TABLE holds (
    authority   TEXT NOT NULL,
    certificate TEXT NOT NULL,
    until       BIGINT NOT NULL,
    says        TEXT NOT NULL,
    PRIMARY KEY (authority, certificate)
);

CREATE TABLE rehearsals (
    set_up TEXT PRIMARY KEY,
    at     BIGINT NOT NULL
);

CREATE TABLE commands (
    certificate TEXT NOT NULL,
    command     TEXT NOT NULL,
    sha256      TEXT NOT NULL,
    at          BIGINT NOT NULL,
    ended_well  BIGINT NOT NULL,
    says        TEXT,
    PRIMARY KEY (certificate, command)
);

CREATE TABLE signing_requests (
    certificate TEXT PRIMARY KEY,
    names       TEXT NOT NULL,
    at          BIGINT NOT NULL,
    key_id      TEXT NOT NULL,
    key         BYTEA NOT NULL
);

CREATE TABLE claims (
    key   TEXT PRIMARY KEY,
    fence BIGINT NOT NULL,
    owner TEXT NOT NULL,
    until BIGINT NOT NULL
);

CREATE TABLE turns (
    name  TEXT PRIMARY KEY,
    taken BIGINT NOT NULL
);

CREATE TABLE attempts (
    work    TEXT PRIMARY KEY,
    action  TEXT NOT NULL,
    at      BIGINT NOT NULL,
    ended   TEXT NOT NULL,
    finding TEXT,
    next_at BIGINT
);
