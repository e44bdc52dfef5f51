-- Version 4: a revocation that was begun, with the key that signs for it and the authority that is
-- asked, in the place of its reason alone.

ALTER TABLE certificates ADD COLUMN revocation TEXT;
UPDATE certificates
    SET revocation = '{"reason":' || revoking || ',"by_own_key":false,"authority":""}'
    WHERE revoking IS NOT NULL;
DROP INDEX revoking_certificate;
ALTER TABLE certificates DROP COLUMN revoking;
CREATE INDEX certificate_to_revoke ON certificates (id) WHERE revocation IS NOT NULL;

-- When an authority that failed to advise on renewal is asked again.
ALTER TABLE certificates ADD COLUMN ask_again INTEGER;
-- The profile and the root that were asked for; not known of those of before.
ALTER TABLE certificates ADD COLUMN ordered TEXT;

-- The copies of certificates in the stores of sites. What used a released one is gone.
CREATE TABLE stored_copies (
    platform    TEXT NOT NULL,
    site        TEXT NOT NULL,
    sha256      TEXT NOT NULL,
    certificate TEXT NOT NULL,
    released    INTEGER NOT NULL,
    tried       INTEGER,
    PRIMARY KEY (platform, site, sha256)
) STRICT, WITHOUT ROWID;
CREATE INDEX released_copy ON stored_copies (platform, site, sha256) WHERE released = 1;
CREATE INDEX copy_by_sha256 ON stored_copies (sha256);
CREATE INDEX replaced_certificate ON certificates (sha256) WHERE present = 0;
