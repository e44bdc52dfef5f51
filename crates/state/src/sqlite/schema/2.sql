-- Version 2: accounts in full, the life of certificates, what was spent, what is delivered.

ALTER TABLE accounts ADD COLUMN status TEXT NOT NULL DEFAULT 'valid';
ALTER TABLE accounts ADD COLUMN contact TEXT NOT NULL DEFAULT '[]';
-- The terms of service that were agreed to.
ALTER TABLE accounts ADD COLUMN terms TEXT;
-- The key that a change under way leads to; both are kept until it is confirmed.
ALTER TABLE accounts ADD COLUMN next_key_id TEXT;
ALTER TABLE accounts ADD COLUMN next_key BLOB;

ALTER TABLE certificates ADD COLUMN origin TEXT NOT NULL DEFAULT 'authority';
ALTER TABLE certificates ADD COLUMN key_kind TEXT DEFAULT 'ecdsa-p256';
ALTER TABLE certificates ADD COLUMN renewal_id TEXT;
ALTER TABLE certificates ADD COLUMN renewal_window TEXT;
-- Why it is to be replaced at once.
ALTER TABLE certificates ADD COLUMN replace_why TEXT;
ALTER TABLE certificates ADD COLUMN revoked INTEGER;
-- The reason of a revocation that was begun and is not confirmed yet.
ALTER TABLE certificates ADD COLUMN revoking INTEGER;
ALTER TABLE certificates ADD COLUMN kept INTEGER NOT NULL DEFAULT 0;
-- When it is due, and when there is anything to do for it at all: then, or earlier when
-- the authority may be asked again.
ALTER TABLE certificates ADD COLUMN renew_at INTEGER NOT NULL DEFAULT 0;
ALTER TABLE certificates ADD COLUMN next_at INTEGER NOT NULL DEFAULT 0;
UPDATE certificates SET renew_at = not_before + (not_after - not_before) / 3 * 2;
UPDATE certificates SET next_at = renew_at, kept = not_before;
CREATE INDEX next_certificate ON certificates (next_at) WHERE present;
CREATE INDEX revoking_certificate ON certificates (id) WHERE revoking IS NOT NULL;
CREATE INDEX certificate_by_name ON certificates (name);
CREATE INDEX certificate_by_sha256 ON certificates (sha256);

ALTER TABLE orders ADD COLUMN replaces TEXT;
ALTER TABLE orders ADD COLUMN says TEXT;
ALTER TABLE orders ADD COLUMN ended INTEGER;
CREATE INDEX order_by_certificate ON orders (certificate);

-- Each spending once for each thing that it counts for.
CREATE TABLE ledger (
    authority TEXT NOT NULL,
    of        TEXT NOT NULL,
    per       TEXT NOT NULL,
    subject   TEXT NOT NULL,
    at        INTEGER NOT NULL,
    order_id  INTEGER NOT NULL
) STRICT;
CREATE INDEX ledger_by_subject ON ledger (authority, of, per, subject, at);
CREATE INDEX ledger_by_order ON ledger (order_id);
CREATE INDEX ledger_by_time ON ledger (at);

-- Until when an authority wants to hear nothing of a certificate.
CREATE TABLE holds (
    authority   TEXT NOT NULL,
    certificate TEXT NOT NULL,
    until       INTEGER NOT NULL,
    says        TEXT NOT NULL,
    PRIMARY KEY (authority, certificate)
) STRICT, WITHOUT ROWID;

-- The set-ups that a practice authority has proven.
CREATE TABLE rehearsals (
    set_up TEXT PRIMARY KEY,
    at     INTEGER NOT NULL
) STRICT, WITHOUT ROWID;

-- How each command went that follows a certificate, the last time.
CREATE TABLE commands (
    certificate TEXT NOT NULL,
    command     TEXT NOT NULL,
    sha256      TEXT NOT NULL,
    at          INTEGER NOT NULL,
    ended_well  INTEGER NOT NULL,
    says        TEXT,
    PRIMARY KEY (certificate, command)
) STRICT, WITHOUT ROWID;

-- Keys that wait for a certificate to be bought.
CREATE TABLE signing_requests (
    certificate TEXT PRIMARY KEY,
    names       TEXT NOT NULL,
    at          INTEGER NOT NULL,
    key_id      TEXT NOT NULL,
    key         BLOB NOT NULL
) STRICT, WITHOUT ROWID;
