-- Version 2, alike to schema 4 of the SQLite state: a revocation that was begun, with the key that signs for it and the authority that is
-- asked, in the place of its reason alone.

ALTER TABLE certificates ADD COLUMN revocation TEXT;
UPDATE certificates
    SET revocation = '{"reason":' || revoking || ',"by_own_key":false,"authority":""}'
    WHERE revoking IS NOT NULL;
DROP INDEX revoking_certificate;
ALTER TABLE certificates DROP COLUMN revoking;
CREATE INDEX certificate_to_revoke ON certificates (id) WHERE revocation IS NOT NULL;
