SET statement_timeout = 0;
SET lock_timeout = 0;
SET idle_in_transaction_session_timeout = 0;
SET client_encoding = 'UTF8';
SET standard_conforming_strings = on;
SELECT pg_catalog.set_config('search_path', '', false);
SET check_function_bodies = false;
SET xmloption = content;
SET client_min_messages = warning;
SET row_security = off;
CREATE SCHEMA pindrel;
SET default_tablespace = '';
SET default_table_access_method = heap;
CREATE TABLE pindrel.accounts (
    authority text NOT NULL,
    key_id text NOT NULL,
    key bytea NOT NULL,
    url text,
    orders text,
    status text NOT NULL,
    contact text NOT NULL,
    terms text,
    next_key_id text,
    next_key bytea
);
CREATE TABLE pindrel.attempts (
    work text NOT NULL,
    action text NOT NULL,
    at bigint NOT NULL,
    ended text NOT NULL,
    finding text,
    next_at bigint
);
CREATE TABLE pindrel.certificates (
    id bigint NOT NULL,
    name text NOT NULL COLLATE pg_catalog."C",
    present bigint NOT NULL,
    sha256 text NOT NULL,
    names text NOT NULL,
    origin text NOT NULL,
    authority text NOT NULL,
    key_kind text,
    not_before bigint NOT NULL,
    not_after bigint NOT NULL,
    renewal_id text,
    renewal_window text,
    replace_why text,
    revoked bigint,
    kept bigint NOT NULL,
    renew_at bigint NOT NULL,
    next_at bigint NOT NULL,
    chain text NOT NULL,
    key_id text NOT NULL,
    key bytea NOT NULL,
    revocation text,
    ask_again bigint,
    ordered text
);
ALTER TABLE pindrel.certificates ALTER COLUMN id ADD GENERATED ALWAYS AS IDENTITY (
    SEQUENCE NAME pindrel.certificates_id_seq
    START WITH 1
    INCREMENT BY 1
    NO MINVALUE
    NO MAXVALUE
    CACHE 1
);
CREATE TABLE pindrel.challenge_records (
    order_id bigint NOT NULL,
    zone text NOT NULL,
    name text NOT NULL,
    text text NOT NULL
);
CREATE TABLE pindrel.claims (
    key text NOT NULL,
    fence bigint NOT NULL,
    owner text NOT NULL,
    until bigint NOT NULL
);
CREATE TABLE pindrel.commands (
    certificate text NOT NULL,
    command text NOT NULL,
    sha256 text NOT NULL,
    at bigint NOT NULL,
    ended_well bigint NOT NULL,
    says text
);
CREATE TABLE pindrel.endpoint_holds (
    endpoint text NOT NULL COLLATE pg_catalog."C",
    since bigint NOT NULL,
    until bigint,
    because text NOT NULL
);
CREATE TABLE pindrel.endpoints (
    endpoint text NOT NULL,
    fact text NOT NULL
);
CREATE TABLE pindrel.health_checks (
    name text NOT NULL COLLATE pg_catalog."C",
    record text NOT NULL
);
CREATE TABLE pindrel.health_incidents (
    id bigint NOT NULL,
    name text NOT NULL,
    at bigint NOT NULL,
    what text NOT NULL
);
ALTER TABLE pindrel.health_incidents ALTER COLUMN id ADD GENERATED ALWAYS AS IDENTITY (
    SEQUENCE NAME pindrel.health_incidents_id_seq
    START WITH 1
    INCREMENT BY 1
    NO MINVALUE
    NO MAXVALUE
    CACHE 1
);
CREATE TABLE pindrel.health_slots (
    name text NOT NULL,
    begun bigint NOT NULL,
    seconds bigint NOT NULL,
    results bigint NOT NULL,
    failed bigint NOT NULL,
    latencies text NOT NULL
);
CREATE TABLE pindrel.holds (
    authority text NOT NULL,
    certificate text NOT NULL,
    until bigint NOT NULL,
    says text NOT NULL
);
CREATE TABLE pindrel.hostname_facts (
    hostname text NOT NULL,
    facts text NOT NULL,
    ours text NOT NULL
);
CREATE TABLE pindrel.hostnames (
    hostname text NOT NULL COLLATE pg_catalog."C",
    wanted bigint NOT NULL,
    held bigint NOT NULL,
    seen bigint NOT NULL,
    due bigint NOT NULL
);
CREATE TABLE pindrel.journal (
    id bigint NOT NULL,
    at bigint NOT NULL,
    moment text NOT NULL,
    action text NOT NULL,
    subject text NOT NULL,
    detail text NOT NULL
);
ALTER TABLE pindrel.journal ALTER COLUMN id ADD GENERATED ALWAYS AS IDENTITY (
    SEQUENCE NAME pindrel.journal_id_seq
    START WITH 1
    INCREMENT BY 1
    NO MINVALUE
    NO MAXVALUE
    CACHE 1
);
CREATE TABLE pindrel.ledger (
    authority text NOT NULL,
    of text NOT NULL,
    per text NOT NULL,
    subject text NOT NULL,
    at bigint NOT NULL,
    order_id bigint NOT NULL
);
CREATE TABLE pindrel.lock_holder (
    id bigint NOT NULL,
    holder text NOT NULL
);
CREATE TABLE pindrel.orders (
    id bigint NOT NULL,
    certificate text NOT NULL COLLATE pg_catalog."C",
    authority text NOT NULL,
    names text NOT NULL,
    url text,
    phase text NOT NULL,
    key_id text NOT NULL,
    key bytea NOT NULL,
    begun bigint NOT NULL,
    ended bigint,
    replaces text,
    says text
);
ALTER TABLE pindrel.orders ALTER COLUMN id ADD GENERATED ALWAYS AS IDENTITY (
    SEQUENCE NAME pindrel.orders_id_seq
    START WITH 1
    INCREMENT BY 1
    NO MINVALUE
    NO MAXVALUE
    CACHE 1
);
CREATE TABLE pindrel.rehearsals (
    set_up text NOT NULL,
    at bigint NOT NULL
);
CREATE TABLE pindrel.run_changes (
    run bigint NOT NULL,
    hostname text NOT NULL,
    before text NOT NULL,
    after text
);
CREATE TABLE pindrel.runs (
    id bigint NOT NULL,
    begun bigint NOT NULL,
    ended bigint,
    command text NOT NULL
);
CREATE TABLE pindrel.schema_version (
    version bigint NOT NULL
);
CREATE TABLE pindrel.sealed_values (
    name text NOT NULL,
    key_id text NOT NULL,
    bytes bytea NOT NULL
);
CREATE TABLE pindrel.signing_requests (
    certificate text NOT NULL,
    names text NOT NULL,
    at bigint NOT NULL,
    key_id text NOT NULL,
    key bytea NOT NULL
);
CREATE TABLE pindrel.stored_copies (
    platform text NOT NULL,
    site text NOT NULL,
    sha256 text NOT NULL,
    certificate text NOT NULL,
    released bigint NOT NULL,
    tried bigint
);
CREATE TABLE pindrel.turns (
    name text NOT NULL,
    taken bigint NOT NULL
);
CREATE TABLE pindrel.zones (
    zone text NOT NULL,
    fact text NOT NULL
);
INSERT INTO pindrel.accounts VALUES ('https://127.47.0.6:4430/directory', 'cd3995f676aea21e', '\xafcab69d3495b0d3a301d1ff9a31f63c71b29cf1c09a437f35faf668eadef5babb0f21f86689dd466ede11e8f96154a5acfc68c9749fb806e8ca13819d8aa10f19bea484296bf2f99379057115dc30d7ba5b797464c12d118b30725ce06c3a44ec27ed6dd974aa40be86ccc414d508ce5da97d074963565296ffaa556707827d7847e420d105a8f308ef6e73446bd70c090ed70712fb15af1a75895c108387ce354a2c13c56a', 'https://127.47.0.6:4430/account/1', 'https://127.47.0.6:4430/orders/1', 'valid', '["mailto:tls@larkfield.example"]', 'https://127.47.0.6:4430/terms/1', NULL, NULL);
INSERT INTO pindrel.accounts VALUES ('https://127.47.0.8:4430/directory', 'cd3995f676aea21e', '\xf4100c10c3a4dc82442630bd419b2d87fa967f96666ca9ab2ae7d85c8858c29f598216ae1e09a69daf3d7c983d436e25cfd760f4fe829055d6b845fa340b9255040e84d64b69c127a95b02d8964bfb28957a834ae370c964093877d31351d982cb29e5ef44ff5b58e85bb9271763ff91d80061d46ba10df3e7eea43e0d22f5f90188ee9e59c04b2195037af9bcf901d19567cbacf03f367618f5ed4914e2a95183763304d3e9', 'https://127.47.0.8:4430/account/1', 'https://127.47.0.8:4430/orders/1', 'valid', '[]', 'https://127.47.0.8:4430/terms/1', NULL, NULL);
INSERT INTO pindrel.attempts VALUES ('register https://127.47.0.6:4430/directory', 'register', 1796052061, 'done', NULL, NULL);
INSERT INTO pindrel.attempts VALUES ('register https://127.47.0.8:4430/directory', 'register', 1796052061, 'done', NULL, NULL);
INSERT INTO pindrel.attempts VALUES ('rehearse stations', 'rehearse', 1796052063, 'done', NULL, NULL);
INSERT INTO pindrel.attempts VALUES ('issue tonight.larkfield.example', 'issue', 1796052064, 'done', NULL, NULL);
INSERT INTO pindrel.attempts VALUES ('store tonight.larkfield.example https://127.47.0.7:9443/ queue-south', 'store', 1796052064, 'done', NULL, NULL);
INSERT INTO pindrel.attempts VALUES ('store tonight.larkfield.example https://127.47.0.7:9443/ queue-north', 'store', 1796052064, 'done', NULL, NULL);
INSERT INTO pindrel.attempts VALUES ('issue stations', 'issue', 1796052064, 'done', NULL, NULL);
INSERT INTO pindrel.attempts VALUES ('issue api.larkfield.example', 'issue', 1796052064, 'done', NULL, NULL);
INSERT INTO pindrel.attempts VALUES ('deliver stations', 'deliver', 1796052064, 'done', NULL, NULL);
INSERT INTO pindrel.attempts VALUES ('store api.larkfield.example https://127.47.0.7:9443/ catalogue', 'store', 1796052064, 'done', NULL, NULL);
INSERT INTO pindrel.attempts VALUES ('issue plates.larkfield.example', 'issue', 1796052065, 'done', NULL, NULL);
INSERT INTO pindrel.attempts VALUES ('issue larkfield.example', 'issue', 1796052065, 'done', NULL, NULL);
INSERT INTO pindrel.attempts VALUES ('store plates.larkfield.example https://127.47.0.7:9443/ plates', 'store', 1796052065, 'done', NULL, NULL);
INSERT INTO pindrel.attempts VALUES ('store larkfield.example https://127.47.0.7:9443/ home', 'store', 1796052065, 'done', NULL, NULL);
INSERT INTO pindrel.attempts VALUES ('bind tonight.larkfield.example https://127.47.0.7:9443/ queue-north', 'bind', 1796052065, 'done', NULL, NULL);
INSERT INTO pindrel.attempts VALUES ('connect tonight.larkfield.example https://127.47.0.7:9443/ queue-north', 'connect', 1796052065, 'done', NULL, NULL);
INSERT INTO pindrel.attempts VALUES ('bind tonight.larkfield.example https://127.47.0.7:9443/ queue-south', 'bind', 1796052065, 'done', NULL, NULL);
INSERT INTO pindrel.attempts VALUES ('answer tonight.larkfield.example', 'answer', 1796052065, 'done', NULL, NULL);
INSERT INTO pindrel.attempts VALUES ('connect tonight.larkfield.example https://127.47.0.7:9443/ queue-south', 'connect', 1796052065, 'done', NULL, NULL);
INSERT INTO pindrel.attempts VALUES ('bind api.larkfield.example https://127.47.0.7:9443/ catalogue', 'bind', 1796052065, 'done', NULL, NULL);
INSERT INTO pindrel.attempts VALUES ('connect api.larkfield.example https://127.47.0.7:9443/ catalogue', 'connect', 1796052065, 'done', NULL, NULL);
INSERT INTO pindrel.attempts VALUES ('answer api.larkfield.example', 'answer', 1796052065, 'done', NULL, NULL);
INSERT INTO pindrel.attempts VALUES ('bind plates.larkfield.example https://127.47.0.7:9443/ plates', 'bind', 1796052067, 'done', NULL, NULL);
INSERT INTO pindrel.attempts VALUES ('connect plates.larkfield.example https://127.47.0.7:9443/ plates', 'connect', 1796052067, 'done', NULL, NULL);
INSERT INTO pindrel.attempts VALUES ('answer plates.larkfield.example', 'answer', 1796052068, 'done', NULL, NULL);
INSERT INTO pindrel.attempts VALUES ('bind www.larkfield.example https://127.47.0.7:9443/ home', 'bind', 1796052068, 'done', NULL, NULL);
INSERT INTO pindrel.attempts VALUES ('bind larkfield.example https://127.47.0.7:9443/ home', 'bind', 1796052068, 'done', NULL, NULL);
INSERT INTO pindrel.attempts VALUES ('connect www.larkfield.example https://127.47.0.7:9443/ home', 'connect', 1796052068, 'done', NULL, NULL);
INSERT INTO pindrel.attempts VALUES ('connect larkfield.example https://127.47.0.7:9443/ home', 'connect', 1796052068, 'done', NULL, NULL);
INSERT INTO pindrel.attempts VALUES ('answer larkfield.example', 'answer', 1796052068, 'done', NULL, NULL);
INSERT INTO pindrel.attempts VALUES ('answer www.larkfield.example', 'answer', 1796052068, 'done', NULL, NULL);
INSERT INTO pindrel.certificates OVERRIDING SYSTEM VALUE VALUES (1, 'tonight.larkfield.example', 1, 'cb267bde69fe3fbd273059336ad5aa0695121779dc9ca37f5da10967657a15ee', '["tonight.larkfield.example"]', 'authority', 'https://127.47.0.6:4430/directory', 'ecdsa-p256', 1796052004, 1803828004, 'Vi1vXTFRgc_hpZqZqF5knRwvk84.X7jSIZuVgpal-xMT', NULL, NULL, NULL, 1796052064, 1800721780, 1796052064, '-----BEGIN CERTIFICATE-----
MIIBkTCCATegAwIBAgIMX7jSIZuVgpal+xMTMAoGCCqGSM49BAMCMCYxJDAiBgNV
BAMMG1NhbmRib3ggaW50ZXJtZWRpYXRlIDUyZTQzNTAeFw0yNjExMzAxNTIwMDRa
Fw0yNzAyMjgxNTIwMDRaMAAwWTATBgcqhkjOPQIBBggqhkjOPQMBBwNCAASUbV1L
lnoI28rWknPvYRzFJ1gkg1PnjmWL+10raR5Ya4ySbgFFXD6rzF3lMwk8Qceufxin
dcwNe87hrsFrTuUKo3EwbzAfBgNVHSMEGDAWgBRWLW9dMVGBz+GlmpmoXmSdHC+T
zjAnBgNVHREBAf8EHTAbghl0b25pZ2h0LmxhcmtmaWVsZC5leGFtcGxlMA4GA1Ud
DwEB/wQEAwIHgDATBgNVHSUEDDAKBggrBgEFBQcDATAKBggqhkjOPQQDAgNIADBF
AiEA6yNIx6RHYyubEXkt4PNeoWKfXxcApBRbVVRiJOGKlsMCIH9UQEdOQZLBjI0v
frNPdLSuBZMocEu43cPNanTqG3Fb
MIIBkzCCATmgAwIBAgIUGQWB0IeH5uynczTI3cPGF6SMKYEwCgYIKoZIzj0EAwIw
JjEkMCIGA1UEAwwbU2FuZGJveCBpc3N1aW5nIHJvb3QgMDZkOTE3MB4XDTI2MTEz
MDE1MTkxNFoXDTM2MTEyNzE1MTkxNFowJjEkMCIGA1UEAwwbU2FuZGJveCBpbnRl
cm1lZGlhdGUgNTJlNDM1MFkwEwYHKoZIzj0CAQYIKoZIzj0DAQcDQgAEaG+eaoD7
Z1kTGXX3vPjpwlGj2cPNA2JjExEH2/7FWajgOjolP8d0Hlpuz8tsbXcW4ET0YFT5
GRrQPXIQyvZvKaNFMEMwDgYDVR0PAQH/BAQDAgEGMB0GA1UdDgQWBBRWLW9dMVGB
z+GlmpmoXmSdHC+TzjASBgNVHRMBAf8ECDAGAQH/AgEAMAoGCCqGSM49BAMCA0gA
MEUCIQC/0e4HAQEjQWoAdxV1MVFqJFyZtd8xPCWzpYGPwztfWAIgLTBbcpceH7K+
SsYDDuScYUORuk/ixZD/qex97qmnLBc=
', 'cd3995f676aea21e', '\x32da5185848fc97b8587537d11d3d8e1766de9b4ad47a3281e1630cd6788fbcd90b2b37127a809847f2ec275fc6652aff497da272ac6cfca6fe924baf257bb76f083293f17c660781e49790f39c843205e458ea4e322192d48c5cdbbb3b24b54567d0edc44a74b32351a397ee358d1f7847bc0c5c8cd29996ed2a55bfc5db1bd4b8300e3a7c63a1eaa290ebf7e4fbe1ceda83c834173e6382c5b1839018475ea51f3cba93bfa', NULL, NULL, '{"profile":null,"chain_root":null}');
INSERT INTO pindrel.certificates OVERRIDING SYSTEM VALUE VALUES (2, 'stations', 1, 'ede40ab9f643c6bc4e76bcf6b35d33d36b7d2b06d73028f299cdc2a80a075e6a', '["stations.larkfield.example","*.stations.larkfield.example"]', 'authority', 'https://127.47.0.6:4430/directory', 'ecdsa-p256', 1796052004, 1800112804, 'Vi1vXTFRgc_hpZqZqF5knRwvk84.Y538PCs_mlrIstVF', NULL, NULL, NULL, 1796052064, 1798444743, 1796052064, '-----BEGIN CERTIFICATE-----
MIIBsjCCAVigAwIBAgIMY538PCs/mlrIstVFMAoGCCqGSM49BAMCMCYxJDAiBgNV
BAMMG1NhbmRib3ggaW50ZXJtZWRpYXRlIDUyZTQzNTAeFw0yNjExMzAxNTIwMDRa
Fw0yNzAxMTYxNTIwMDRaMAAwWTATBgcqhkjOPQIBBggqhkjOPQMBBwNCAASMClau
HAmI1nhtGoHcTiT7yMCxwc+JXyAWdrewFRyze0AYUS5zY4KXncIkhvyOkCM+dafx
MRbY5bD4MSwF0CUJo4GRMIGOMB8GA1UdIwQYMBaAFFYtb10xUYHP4aWamaheZJ0c
L5POMEYGA1UdEQEB/wQ8MDqCGnN0YXRpb25zLmxhcmtmaWVsZC5leGFtcGxlghwq
LnN0YXRpb25zLmxhcmtmaWVsZC5leGFtcGxlMA4GA1UdDwEB/wQEAwIHgDATBgNV
HSUEDDAKBggrBgEFBQcDATAKBggqhkjOPQQDAgNIADBFAiEAldzpbtux4xs16sVY
WFWpm83rQSdr5VruLknI3v5ggBkCIE9+mlil/UD5DYXS000V/VAx+aYaOVzDr5qz
8kZttSee
MIIBkzCCATmgAwIBAgIUGQWB0IeH5uynczTI3cPGF6SMKYEwCgYIKoZIzj0EAwIw
JjEkMCIGA1UEAwwbU2FuZGJveCBpc3N1aW5nIHJvb3QgMDZkOTE3MB4XDTI2MTEz
MDE1MTkxNFoXDTM2MTEyNzE1MTkxNFowJjEkMCIGA1UEAwwbU2FuZGJveCBpbnRl
cm1lZGlhdGUgNTJlNDM1MFkwEwYHKoZIzj0CAQYIKoZIzj0DAQcDQgAEaG+eaoD7
Z1kTGXX3vPjpwlGj2cPNA2JjExEH2/7FWajgOjolP8d0Hlpuz8tsbXcW4ET0YFT5
GRrQPXIQyvZvKaNFMEMwDgYDVR0PAQH/BAQDAgEGMB0GA1UdDgQWBBRWLW9dMVGB
z+GlmpmoXmSdHC+TzjASBgNVHRMBAf8ECDAGAQH/AgEAMAoGCCqGSM49BAMCA0gA
MEUCIQC/0e4HAQEjQWoAdxV1MVFqJFyZtd8xPCWzpYGPwztfWAIgLTBbcpceH7K+
SsYDDuScYUORuk/ixZD/qex97qmnLBc=
', 'cd3995f676aea21e', '\x7bae3a925e1d67f9a66351e6735494b25fe11974678080d168d508a2c30dde2f761768ac9640f9a5270692dd07b31d048153a27fbb7d3eb6b3e84a6c13b91391fa71ec5357c6e607008db62ff74ada6d867ac73297f766b53cad001cf25bcd778271d83023a9d3e6a3dd9e3a61de0bc26f4a850f6db6f275a0665fbd420c89b8dd4183f7d5a71b9f1d292f1b7aa1df8cfbefedc82a254d7a081696e7a77e2980d7b4637649e4', NULL, NULL, '{"profile":"month","chain_root":null}');
INSERT INTO pindrel.certificates OVERRIDING SYSTEM VALUE VALUES (3, 'plates.larkfield.example', 1, 'ea8848bd3f59fa3a487aacc77fbf7f47c86d91877ad69a0e1baacda373274f7d', '["plates.larkfield.example"]', 'authority', 'https://127.47.0.6:4430/directory', 'ecdsa-p256', 1796052004, 1803828004, 'Vi1vXTFRgc_hpZqZqF5knRwvk84.bCoCNyZYl3t7IVZn', NULL, NULL, NULL, 1796052064, 1800642344, 1796052064, '-----BEGIN CERTIFICATE-----
MIIBkDCCATagAwIBAgIMbCoCNyZYl3t7IVZnMAoGCCqGSM49BAMCMCYxJDAiBgNV
BAMMG1NhbmRib3ggaW50ZXJtZWRpYXRlIDUyZTQzNTAeFw0yNjExMzAxNTIwMDRa
Fw0yNzAyMjgxNTIwMDRaMAAwWTATBgcqhkjOPQIBBggqhkjOPQMBBwNCAARv5abJ
alSpOeXPitoWwYP8sgyeDBW7kUK9eCiXzcOEOJRBpUz4xuCEPAz5SVd03cN14wu3
G3wEraW/KyMhClkHo3AwbjAfBgNVHSMEGDAWgBRWLW9dMVGBz+GlmpmoXmSdHC+T
zjAmBgNVHREBAf8EHDAaghhwbGF0ZXMubGFya2ZpZWxkLmV4YW1wbGUwDgYDVR0P
AQH/BAQDAgeAMBMGA1UdJQQMMAoGCCsGAQUFBwMBMAoGCCqGSM49BAMCA0gAMEUC
IDVjOGBR3P7uljM32LqDd/khYOVdysBe/RRCh7ltVMsQAiEAuJAfUtfSefY0fgl5
OblKMqV0MWjb/M2nSxo19VSSHQI=
MIIBkzCCATmgAwIBAgIUGQWB0IeH5uynczTI3cPGF6SMKYEwCgYIKoZIzj0EAwIw
JjEkMCIGA1UEAwwbU2FuZGJveCBpc3N1aW5nIHJvb3QgMDZkOTE3MB4XDTI2MTEz
MDE1MTkxNFoXDTM2MTEyNzE1MTkxNFowJjEkMCIGA1UEAwwbU2FuZGJveCBpbnRl
cm1lZGlhdGUgNTJlNDM1MFkwEwYHKoZIzj0CAQYIKoZIzj0DAQcDQgAEaG+eaoD7
Z1kTGXX3vPjpwlGj2cPNA2JjExEH2/7FWajgOjolP8d0Hlpuz8tsbXcW4ET0YFT5
GRrQPXIQyvZvKaNFMEMwDgYDVR0PAQH/BAQDAgEGMB0GA1UdDgQWBBRWLW9dMVGB
z+GlmpmoXmSdHC+TzjASBgNVHRMBAf8ECDAGAQH/AgEAMAoGCCqGSM49BAMCA0gA
MEUCIQC/0e4HAQEjQWoAdxV1MVFqJFyZtd8xPCWzpYGPwztfWAIgLTBbcpceH7K+
SsYDDuScYUORuk/ixZD/qex97qmnLBc=
', 'cd3995f676aea21e', '\x62d8bfafcf923fb75a271ebb41774b64603e24b782a11cfe445e9ac8c94301df00cfd84addbe083e8b8a9f29840511bf578cd18311ebb390b75c30a2a7a79e760cb0bc4655a680964d7eabbb5d796bd24fa3c38516a5b374325572dfd06225dfc83599a6054e1cd1d7104bf5317027187dc4a9a7ead6b4a6eecad2fa9265b6469df78b4f94a5f25d57bf52ea2fb289f064aa3a8412aed80adc361a6b7ed97a3b935429b1e225', NULL, NULL, '{"profile":null,"chain_root":null}');
INSERT INTO pindrel.certificates OVERRIDING SYSTEM VALUE VALUES (4, 'api.larkfield.example', 1, 'cf54df92a54f682156d45c9bed245e59e4b2b782d648a5c2532afe0a2847ee24', '["api.larkfield.example"]', 'authority', 'https://127.47.0.6:4430/directory', 'ecdsa-p256', 1796052004, 1803828004, 'Vi1vXTFRgc_hpZqZqF5knRwvk84.SXbAseTWhO5x8rUF', NULL, NULL, NULL, 1796052064, 1800711197, 1796052064, '-----BEGIN CERTIFICATE-----
MIIBjTCCATOgAwIBAgIMSXbAseTWhO5x8rUFMAoGCCqGSM49BAMCMCYxJDAiBgNV
BAMMG1NhbmRib3ggaW50ZXJtZWRpYXRlIDUyZTQzNTAeFw0yNjExMzAxNTIwMDRa
Fw0yNzAyMjgxNTIwMDRaMAAwWTATBgcqhkjOPQIBBggqhkjOPQMBBwNCAARREPpj
o5+oUrjz/L2eGMtbdptSJEVm9cOFD8g/y/bqNHkiJJ2zveHtkR/YjByE7224pHJ/
rTtp2xPFMVP4bpsGo20wazAfBgNVHSMEGDAWgBRWLW9dMVGBz+GlmpmoXmSdHC+T
zjAjBgNVHREBAf8EGTAXghVhcGkubGFya2ZpZWxkLmV4YW1wbGUwDgYDVR0PAQH/
BAQDAgeAMBMGA1UdJQQMMAoGCCsGAQUFBwMBMAoGCCqGSM49BAMCA0gAMEUCIDTV
rLN1Pt3T1mYzvoRddPNnbe0EgTrvDtnPNSse32q2AiEAz3kLVGw5/bY6XiFBVMvi
87LFUNR4jegVI5Ip8+LYcqE=
MIIBkzCCATmgAwIBAgIUGQWB0IeH5uynczTI3cPGF6SMKYEwCgYIKoZIzj0EAwIw
JjEkMCIGA1UEAwwbU2FuZGJveCBpc3N1aW5nIHJvb3QgMDZkOTE3MB4XDTI2MTEz
MDE1MTkxNFoXDTM2MTEyNzE1MTkxNFowJjEkMCIGA1UEAwwbU2FuZGJveCBpbnRl
cm1lZGlhdGUgNTJlNDM1MFkwEwYHKoZIzj0CAQYIKoZIzj0DAQcDQgAEaG+eaoD7
Z1kTGXX3vPjpwlGj2cPNA2JjExEH2/7FWajgOjolP8d0Hlpuz8tsbXcW4ET0YFT5
GRrQPXIQyvZvKaNFMEMwDgYDVR0PAQH/BAQDAgEGMB0GA1UdDgQWBBRWLW9dMVGB
z+GlmpmoXmSdHC+TzjASBgNVHRMBAf8ECDAGAQH/AgEAMAoGCCqGSM49BAMCA0gA
MEUCIQC/0e4HAQEjQWoAdxV1MVFqJFyZtd8xPCWzpYGPwztfWAIgLTBbcpceH7K+
SsYDDuScYUORuk/ixZD/qex97qmnLBc=
', 'cd3995f676aea21e', '\x6a6ec05f1b724a45234435fb5ada3af02b5f640ee3b7ed5277838006425eda3fef4445cbef6d2eb46981b7e52fcd170629dd3c5204a564eb04c1a5f3567fdb285da80e4e297cf38e0dace8f4a77a36151c0fef38bed67073f6a015a634ba6ee625204607737c101375c602ebba02b483315adb6e7b2079144ae47fcad4d4cd5c690fee34e517469d6802dc26ce110b6d8e37b50f16fbdcf8cbcbea0722a8ea5a2e64983af3a5', NULL, NULL, '{"profile":null,"chain_root":null}');
INSERT INTO pindrel.certificates OVERRIDING SYSTEM VALUE VALUES (5, 'larkfield.example', 1, '476f5fcefb361f009eaf060623adf3584b6b4580e3a5e14bda5b239ec16b8e0e', '["larkfield.example","www.larkfield.example"]', 'authority', 'https://127.47.0.6:4430/directory', 'ecdsa-p256', 1796052004, 1803828004, 'Vi1vXTFRgc_hpZqZqF5knRwvk84.YsPMZxMYTWXODVhd', NULL, NULL, NULL, 1796052064, 1801055185, 1796052064, '-----BEGIN CERTIFICATE-----
MIIBoTCCAUegAwIBAgIMYsPMZxMYTWXODVhdMAoGCCqGSM49BAMCMCYxJDAiBgNV
BAMMG1NhbmRib3ggaW50ZXJtZWRpYXRlIDUyZTQzNTAeFw0yNjExMzAxNTIwMDRa
Fw0yNzAyMjgxNTIwMDRaMAAwWTATBgcqhkjOPQIBBggqhkjOPQMBBwNCAAT4cCJX
5h4eSesSfFhwR5gMvsAgLnT8ntuXJNqKq+BgaVUwGT20gM2G36+mQ2qwthjLT8eO
MzSFuToMn0/H3GZxo4GAMH4wHwYDVR0jBBgwFoAUVi1vXTFRgc/hpZqZqF5knRwv
k84wNgYDVR0RAQH/BCwwKoIRbGFya2ZpZWxkLmV4YW1wbGWCFXd3dy5sYXJrZmll
bGQuZXhhbXBsZTAOBgNVHQ8BAf8EBAMCB4AwEwYDVR0lBAwwCgYIKwYBBQUHAwEw
CgYIKoZIzj0EAwIDSAAwRQIhAPiRGbcOo1n0D5lIYTcIlYMkCqEfhuTZ1RHW7Gsh
B6RHAiBsggO5pR1LAadGRNZqfXt3gqTDlWZdOvtZdD0Y/2vk5A==
MIIBkzCCATmgAwIBAgIUGQWB0IeH5uynczTI3cPGF6SMKYEwCgYIKoZIzj0EAwIw
JjEkMCIGA1UEAwwbU2FuZGJveCBpc3N1aW5nIHJvb3QgMDZkOTE3MB4XDTI2MTEz
MDE1MTkxNFoXDTM2MTEyNzE1MTkxNFowJjEkMCIGA1UEAwwbU2FuZGJveCBpbnRl
cm1lZGlhdGUgNTJlNDM1MFkwEwYHKoZIzj0CAQYIKoZIzj0DAQcDQgAEaG+eaoD7
Z1kTGXX3vPjpwlGj2cPNA2JjExEH2/7FWajgOjolP8d0Hlpuz8tsbXcW4ET0YFT5
GRrQPXIQyvZvKaNFMEMwDgYDVR0PAQH/BAQDAgEGMB0GA1UdDgQWBBRWLW9dMVGB
z+GlmpmoXmSdHC+TzjASBgNVHRMBAf8ECDAGAQH/AgEAMAoGCCqGSM49BAMCA0gA
MEUCIQC/0e4HAQEjQWoAdxV1MVFqJFyZtd8xPCWzpYGPwztfWAIgLTBbcpceH7K+
SsYDDuScYUORuk/ixZD/qex97qmnLBc=
', 'cd3995f676aea21e', '\x4887a075c1fe55541f35f8303861da47db4caf7f637f48cac703adfcdb2563e0a71df5aecb1146b8f236830763cb6fb8e84de60adb531ab6cc4da3b000161b3a9bc6767c490b92d590f5d876a4fc92193bf3b2e36e1ed41d2097c30b64366e63968c189426fa1f5bd1394a3a137aafca86e0fb6b71fe931a46444f9da6dfc5a702c65fa6919769722706f0da588b8c928fa2a290d3a96adeca1516055bb90b976ee501b70631', NULL, NULL, '{"profile":null,"chain_root":null}');
INSERT INTO pindrel.claims VALUES ('register https://127.47.0.6:4430/directory', 1, 'process 10613 since 2026-11-30T15:21:00Z', 0);
INSERT INTO pindrel.claims VALUES ('register https://127.47.0.8:4430/directory', 1, 'process 10613 since 2026-11-30T15:21:00Z', 0);
INSERT INTO pindrel.claims VALUES ('connect www.larkfield.example https://127.47.0.7:9443/ home', 1, 'process 10613 since 2026-11-30T15:21:00Z', 0);
INSERT INTO pindrel.claims VALUES ('certificate plates.larkfield.example', 9, 'process 10613 since 2026-11-30T15:21:00Z', 0);
INSERT INTO pindrel.claims VALUES ('connect larkfield.example https://127.47.0.7:9443/ home', 1, 'process 10613 since 2026-11-30T15:21:00Z', 0);
INSERT INTO pindrel.claims VALUES ('certificate larkfield.example', 9, 'process 10613 since 2026-11-30T15:21:00Z', 0);
INSERT INTO pindrel.claims VALUES ('store plates.larkfield.example https://127.47.0.7:9443/ plates', 1, 'process 10613 since 2026-11-30T15:21:00Z', 0);
INSERT INTO pindrel.claims VALUES ('bind tonight.larkfield.example https://127.47.0.7:9443/ queue-north', 6, 'process 10613 since 2026-11-30T15:21:00Z', 0);
INSERT INTO pindrel.claims VALUES ('store larkfield.example https://127.47.0.7:9443/ home', 1, 'process 10613 since 2026-11-30T15:21:00Z', 0);
INSERT INTO pindrel.claims VALUES ('connect tonight.larkfield.example https://127.47.0.7:9443/ queue-north', 1, 'process 10613 since 2026-11-30T15:21:00Z', 0);
INSERT INTO pindrel.claims VALUES ('certificate tonight.larkfield.example', 9, 'process 10613 since 2026-11-30T15:21:00Z', 0);
INSERT INTO pindrel.claims VALUES ('answer www.larkfield.example', 1, 'process 10613 since 2026-11-30T15:21:00Z', 0);
INSERT INTO pindrel.claims VALUES ('certificate rehearsal of stations', 9, 'process 10613 since 2026-11-30T15:21:00Z', 0);
INSERT INTO pindrel.claims VALUES ('bind tonight.larkfield.example https://127.47.0.7:9443/ queue-south', 6, 'process 10613 since 2026-11-30T15:21:00Z', 0);
INSERT INTO pindrel.claims VALUES ('store tonight.larkfield.example https://127.47.0.7:9443/ queue-north', 1, 'process 10613 since 2026-11-30T15:21:00Z', 0);
INSERT INTO pindrel.claims VALUES ('answer tonight.larkfield.example', 1, 'process 10613 since 2026-11-30T15:21:00Z', 0);
INSERT INTO pindrel.claims VALUES ('store tonight.larkfield.example https://127.47.0.7:9443/ queue-south', 1, 'process 10613 since 2026-11-30T15:21:00Z', 0);
INSERT INTO pindrel.claims VALUES ('certificate stations', 9, 'process 10613 since 2026-11-30T15:21:00Z', 0);
INSERT INTO pindrel.claims VALUES ('connect tonight.larkfield.example https://127.47.0.7:9443/ queue-south', 1, 'process 10613 since 2026-11-30T15:21:00Z', 0);
INSERT INTO pindrel.claims VALUES ('answer larkfield.example', 1, 'process 10613 since 2026-11-30T15:21:00Z', 0);
INSERT INTO pindrel.claims VALUES ('bind api.larkfield.example https://127.47.0.7:9443/ catalogue', 6, 'process 10613 since 2026-11-30T15:21:00Z', 0);
INSERT INTO pindrel.claims VALUES ('connect api.larkfield.example https://127.47.0.7:9443/ catalogue', 1, 'process 10613 since 2026-11-30T15:21:00Z', 0);
INSERT INTO pindrel.claims VALUES ('deliver stations', 1, 'process 10613 since 2026-11-30T15:21:00Z', 0);
INSERT INTO pindrel.claims VALUES ('certificate api.larkfield.example', 9, 'process 10613 since 2026-11-30T15:21:00Z', 0);
INSERT INTO pindrel.claims VALUES ('store api.larkfield.example https://127.47.0.7:9443/ catalogue', 1, 'process 10613 since 2026-11-30T15:21:00Z', 0);
INSERT INTO pindrel.claims VALUES ('answer api.larkfield.example', 1, 'process 10613 since 2026-11-30T15:21:00Z', 0);
INSERT INTO pindrel.claims VALUES ('bind plates.larkfield.example https://127.47.0.7:9443/ plates', 9, 'process 10613 since 2026-11-30T15:21:00Z', 0);
INSERT INTO pindrel.claims VALUES ('connect plates.larkfield.example https://127.47.0.7:9443/ plates', 1, 'process 10613 since 2026-11-30T15:21:00Z', 0);
INSERT INTO pindrel.claims VALUES ('answer plates.larkfield.example', 1, 'process 10613 since 2026-11-30T15:21:00Z', 0);
INSERT INTO pindrel.claims VALUES ('bind www.larkfield.example https://127.47.0.7:9443/ home', 9, 'process 10613 since 2026-11-30T15:21:00Z', 0);
INSERT INTO pindrel.claims VALUES ('bind larkfield.example https://127.47.0.7:9443/ home', 9, 'process 10613 since 2026-11-30T15:21:00Z', 0);
INSERT INTO pindrel.commands VALUES ('stations', 'true', 'ede40ab9f643c6bc4e76bcf6b35d33d36b7d2b06d73028f299cdc2a80a075e6a', 1796052064, 1, NULL);
INSERT INTO pindrel.endpoints VALUES ('https://127.47.0.7:9443/ catalogue', '{"seen":"2026-11-30T15:21:01.072818711Z","value":{"is":"listed","id":"catalogue","kind":"gateway","site":"north","default_name":"gw-52ba6c29.north.edge.test","addresses":["127.47.0.21"],"port":8443,"certificate_site":"north","custom_hostnames":{"allowed":true},"quotas":{"hostnames":{"used":1,"most":5000},"certificates":{"used":2,"most":10000}},"offers":{"routes":true,"redirects":true,"minimum_tls":["1.2","1.3"],"client_certificates":true,"origin":false,"issued_certificates":false},"deploys_in_seconds":1}}');
INSERT INTO pindrel.endpoints VALUES ('https://127.47.0.7:9443/ plates', '{"seen":"2026-11-30T15:21:01.074338868Z","value":{"is":"listed","id":"plates","kind":"distribution","site":"south","default_name":"dist-a8344fe7.south.edge.test","addresses":["127.47.0.22"],"port":8443,"certificate_site":"south","custom_hostnames":{"allowed":true},"quotas":{"hostnames":{"used":1,"most":5000},"certificates":{"used":3,"most":10000}},"offers":{"routes":true,"redirects":true,"minimum_tls":["1.2","1.3"],"client_certificates":true,"origin":true,"issued_certificates":false},"deploys_in_seconds":3}}');
INSERT INTO pindrel.endpoints VALUES ('https://127.47.0.7:9443/ home', '{"seen":"2026-11-30T15:21:01.075079496Z","value":{"is":"listed","id":"home","kind":"distribution","site":"south","default_name":"dist-f26cad78.south.edge.test","addresses":["127.47.0.23"],"port":8443,"certificate_site":"south","custom_hostnames":{"allowed":true},"quotas":{"hostnames":{"used":2,"most":5000},"certificates":{"used":3,"most":10000}},"offers":{"routes":true,"redirects":true,"minimum_tls":["1.2","1.3"],"client_certificates":true,"origin":true,"issued_certificates":false},"deploys_in_seconds":3}}');
INSERT INTO pindrel.endpoints VALUES ('https://127.47.0.7:9443/ queue-north', '{"seen":"2026-11-30T15:21:01.075747427Z","value":{"is":"listed","id":"queue-north","kind":"balancer","site":"north","default_name":"lb-784bce41.north.edge.test","addresses":["127.47.0.24"],"port":8443,"certificate_site":"north","custom_hostnames":{"allowed":true},"quotas":{"hostnames":{"used":1,"most":5000},"certificates":{"used":2,"most":10000}},"offers":{"routes":true,"redirects":true,"minimum_tls":["1.2","1.3"],"client_certificates":true,"origin":false,"issued_certificates":false},"deploys_in_seconds":1}}');
INSERT INTO pindrel.endpoints VALUES ('https://127.47.0.7:9443/ queue-south', '{"seen":"2026-11-30T15:21:01.076331293Z","value":{"is":"listed","id":"queue-south","kind":"balancer","site":"south","default_name":"lb-60753f14.south.edge.test","addresses":["127.47.0.25"],"port":8443,"certificate_site":"south","custom_hostnames":{"allowed":true},"quotas":{"hostnames":{"used":1,"most":5000},"certificates":{"used":3,"most":10000}},"offers":{"routes":true,"redirects":true,"minimum_tls":["1.2","1.3"],"client_certificates":true,"origin":false,"issued_certificates":false},"deploys_in_seconds":1}}');
INSERT INTO pindrel.health_checks VALUES ('tonight.larkfield.example/queue-north', '{"verdict":"up","since":"2026-11-30T15:21:01.481614331Z","tracks":{"127.47.0.24:8443":{"verdict":"up","passed":2,"failed":0,"seen":"2026-11-30T15:21:01.481614331Z"}}}');
INSERT INTO pindrel.health_checks VALUES ('tonight.larkfield.example/queue-south', '{"verdict":"up","since":"2026-11-30T15:21:01.481614331Z","tracks":{"127.47.0.25:8443":{"verdict":"up","passed":2,"failed":0,"seen":"2026-11-30T15:21:01.481614331Z"}}}');
INSERT INTO pindrel.health_incidents OVERRIDING SYSTEM VALUE VALUES (1, 'tonight.larkfield.example/queue-north', 1796052061228, '{"is":"verdict","to":"unknown"}');
INSERT INTO pindrel.health_incidents OVERRIDING SYSTEM VALUE VALUES (2, 'tonight.larkfield.example/queue-south', 1796052061228, '{"is":"verdict","to":"unknown"}');
INSERT INTO pindrel.health_incidents OVERRIDING SYSTEM VALUE VALUES (3, 'tonight.larkfield.example/queue-north', 1796052061481, '{"is":"verdict","to":"up"}');
INSERT INTO pindrel.health_incidents OVERRIDING SYSTEM VALUE VALUES (4, 'tonight.larkfield.example/queue-south', 1796052061481, '{"is":"verdict","to":"up"}');
INSERT INTO pindrel.health_slots VALUES ('tonight.larkfield.example/queue-north', 1796052060, 60, 2, 0, '{"183":1,"190":1}');
INSERT INTO pindrel.health_slots VALUES ('tonight.larkfield.example/queue-south', 1796052060, 60, 2, 0, '{"178":1,"190":1}');
INSERT INTO pindrel.hostname_facts VALUES ('api.larkfield.example', '{"bindings":{"https://127.47.0.7:9443/ catalogue":{"seen":"2026-11-30T15:21:05.739790656Z","value":{"is":"present","binding":{"certificate":"cf54df92a54f682156d45c9bed245e59e4b2b782d648a5c2532afe0a2847ee24","routes":[{"prefix":"/v1","service":"catalogue","release":"2024"},{"prefix":"/v2","service":"catalogue","release":"live"}],"minimum_tls":"1.2"},"deployment":{"state":"deployed"},"served":{"is":"certificate","sha256":"cf54df92a54f682156d45c9bed245e59e4b2b782d648a5c2532afe0a2847ee24"}}}},"alias":{"seen":"2026-11-30T15:21:01.111128349Z","value":{"servers":[{"server":"127.47.0.3:5390","gives":{"Ok":[{"record_type":"CNAME","ttl":600,"data":[{"cname":"gw-52ba6c29.north.edge.test"}]}]}},{"server":"127.47.0.4:5390","gives":{"Ok":[{"record_type":"CNAME","ttl":600,"data":[{"cname":"gw-52ba6c29.north.edge.test"}]}]}}]}},"answer":{"seen":"2026-11-30T15:21:05.756776032Z","value":{"through":[{"resolver":"127.47.0.5:5390","outcome":{"is":"answered","address":"127.47.0.21:8443","sha256":"cf54df92a54f682156d45c9bed245e59e4b2b782d648a5c2532afe0a2847ee24","status":200,"body":{"text":"Larkfield","found":true}}}]}}}', '{"bindings":{"https://127.47.0.7:9443/ catalogue":{"made":{"certificate":"cf54df92a54f682156d45c9bed245e59e4b2b782d648a5c2532afe0a2847ee24","routes":[{"prefix":"/v1","service":"catalogue","release":"2024"},{"prefix":"/v2","service":"catalogue","release":"live"}],"minimum_tls":"1.2"}}}}');
INSERT INTO pindrel.hostname_facts VALUES ('plates.larkfield.example', '{"bindings":{"https://127.47.0.7:9443/ plates":{"seen":"2026-11-30T15:21:07.982159028Z","value":{"is":"present","binding":{"certificate":"ea8848bd3f59fa3a487aacc77fbf7f47c86d91877ad69a0e1baacda373274f7d","routes":[],"minimum_tls":"1.2"},"deployment":{"state":"deployed"},"served":{"is":"certificate","sha256":"ea8848bd3f59fa3a487aacc77fbf7f47c86d91877ad69a0e1baacda373274f7d"}}}},"alias":{"seen":"2026-11-30T15:21:01.096792869Z","value":{"servers":[{"server":"127.47.0.3:5390","gives":{"Ok":[{"record_type":"CNAME","ttl":600,"data":[{"cname":"dist-a8344fe7.south.edge.test"}]}]}},{"server":"127.47.0.4:5390","gives":{"Ok":[{"record_type":"CNAME","ttl":600,"data":[{"cname":"dist-a8344fe7.south.edge.test"}]}]}}]}},"answer":{"seen":"2026-11-30T15:21:07.997721288Z","value":{"through":[{"resolver":"127.47.0.5:5390","outcome":{"is":"answered","address":"127.47.0.22:8443","sha256":"ea8848bd3f59fa3a487aacc77fbf7f47c86d91877ad69a0e1baacda373274f7d","status":200}}]}}}', '{"bindings":{"https://127.47.0.7:9443/ plates":{"made":{"certificate":"ea8848bd3f59fa3a487aacc77fbf7f47c86d91877ad69a0e1baacda373274f7d","routes":[],"minimum_tls":"1.2"}}}}');
INSERT INTO pindrel.hostname_facts VALUES ('www.larkfield.example', '{"bindings":{"https://127.47.0.7:9443/ home":{"seen":"2026-11-30T15:21:08.042370895Z","value":{"is":"present","binding":{"certificate":"476f5fcefb361f009eaf060623adf3584b6b4580e3a5e14bda5b239ec16b8e0e","routes":[],"redirect_to":"larkfield.example","minimum_tls":"1.2"},"deployment":{"state":"deployed"},"served":{"is":"certificate","sha256":"476f5fcefb361f009eaf060623adf3584b6b4580e3a5e14bda5b239ec16b8e0e"}}}},"alias":{"seen":"2026-11-30T15:21:01.118788266Z","value":{"servers":[{"server":"127.47.0.3:5390","gives":{"Ok":[{"record_type":"CNAME","ttl":600,"data":[{"cname":"dist-f26cad78.south.edge.test"}]}]}},{"server":"127.47.0.4:5390","gives":{"Ok":[{"record_type":"CNAME","ttl":600,"data":[{"cname":"dist-f26cad78.south.edge.test"}]}]}}]}},"answer":{"seen":"2026-11-30T15:21:08.068217928Z","value":{"through":[{"resolver":"127.47.0.5:5390","outcome":{"is":"answered","address":"127.47.0.23:8443","sha256":"476f5fcefb361f009eaf060623adf3584b6b4580e3a5e14bda5b239ec16b8e0e","status":308,"location":"https://larkfield.example:8443/"}}]}}}', '{"bindings":{"https://127.47.0.7:9443/ home":{"made":{"certificate":"476f5fcefb361f009eaf060623adf3584b6b4580e3a5e14bda5b239ec16b8e0e","routes":[],"redirect_to":"larkfield.example","minimum_tls":"1.2"}}}}');
INSERT INTO pindrel.hostname_facts VALUES ('larkfield.example', '{"bindings":{"https://127.47.0.7:9443/ home":{"seen":"2026-11-30T15:21:08.039140933Z","value":{"is":"present","binding":{"certificate":"476f5fcefb361f009eaf060623adf3584b6b4580e3a5e14bda5b239ec16b8e0e","routes":[],"minimum_tls":"1.2"},"deployment":{"state":"deployed"},"served":{"is":"certificate","sha256":"476f5fcefb361f009eaf060623adf3584b6b4580e3a5e14bda5b239ec16b8e0e"}}}},"alias":{"seen":"2026-11-30T15:21:01.121472579Z","value":{"servers":[{"server":"127.47.0.3:5390","gives":{"Ok":[{"record_type":"A","ttl":600,"data":[{"a":"127.47.0.23"}]}]}},{"server":"127.47.0.4:5390","gives":{"Ok":[{"record_type":"A","ttl":600,"data":[{"a":"127.47.0.23"}]}]}}]}},"answer":{"seen":"2026-11-30T15:21:08.075862019Z","value":{"through":[{"resolver":"127.47.0.5:5390","outcome":{"is":"answered","address":"127.47.0.23:8443","sha256":"476f5fcefb361f009eaf060623adf3584b6b4580e3a5e14bda5b239ec16b8e0e","status":200}}]}}}', '{"bindings":{"https://127.47.0.7:9443/ home":{"made":{"certificate":"476f5fcefb361f009eaf060623adf3584b6b4580e3a5e14bda5b239ec16b8e0e","routes":[],"minimum_tls":"1.2"}}}}');
INSERT INTO pindrel.hostname_facts VALUES ('tonight.larkfield.example', '{"bindings":{"https://127.47.0.7:9443/ queue-north":{"seen":"2026-11-30T15:21:05.661434038Z","value":{"is":"present","binding":{"certificate":"cb267bde69fe3fbd273059336ad5aa0695121779dc9ca37f5da10967657a15ee","routes":[],"minimum_tls":"1.2"},"deployment":{"state":"deployed"},"served":{"is":"certificate","sha256":"cb267bde69fe3fbd273059336ad5aa0695121779dc9ca37f5da10967657a15ee"}}},"https://127.47.0.7:9443/ queue-south":{"seen":"2026-11-30T15:21:05.70054959Z","value":{"is":"present","binding":{"certificate":"cb267bde69fe3fbd273059336ad5aa0695121779dc9ca37f5da10967657a15ee","routes":[],"minimum_tls":"1.2"},"deployment":{"state":"deployed"},"served":{"is":"certificate","sha256":"cb267bde69fe3fbd273059336ad5aa0695121779dc9ca37f5da10967657a15ee","samples":[{"address":"127.47.0.25:8443","sample":{"path":"/","status":[200,399],"body":null,"method":"GET","origin":null},"outcome":{"is":"answered","status":200}}]}}}},"alias":{"seen":"2026-11-30T15:21:01.126321407Z","value":{"servers":[{"server":"127.47.0.3:5390","gives":{"Ok":[{"record_type":"CNAME","ttl":2,"data":[{"cname":"lb-784bce41.north.edge.test"}]}]}},{"server":"127.47.0.4:5390","gives":{"Ok":[{"record_type":"CNAME","ttl":2,"data":[{"cname":"lb-784bce41.north.edge.test"}]}]}}]}},"answer":{"seen":"2026-11-30T15:21:05.688112554Z","value":{"through":[{"resolver":"127.47.0.5:5390","outcome":{"is":"answered","address":"127.47.0.24:8443","sha256":"cb267bde69fe3fbd273059336ad5aa0695121779dc9ca37f5da10967657a15ee","status":200}}]}}}', '{"bindings":{"https://127.47.0.7:9443/ queue-north":{"made":{"certificate":"cb267bde69fe3fbd273059336ad5aa0695121779dc9ca37f5da10967657a15ee","routes":[],"minimum_tls":"1.2"}},"https://127.47.0.7:9443/ queue-south":{"made":{"certificate":"cb267bde69fe3fbd273059336ad5aa0695121779dc9ca37f5da10967657a15ee","routes":[],"minimum_tls":"1.2"}}}}');
INSERT INTO pindrel.hostnames VALUES ('tonight.larkfield.example', -2673908203668902281, 1, 1796052061, 1800721780);
INSERT INTO pindrel.hostnames VALUES ('api.larkfield.example', -2327888506871861812, 1, 1796052061, 1800711197);
INSERT INTO pindrel.hostnames VALUES ('plates.larkfield.example', -4760423763191613788, 1, 1796052061, 1800642344);
INSERT INTO pindrel.hostnames VALUES ('www.larkfield.example', -3443522478738031836, 1, 1796052061, 1801055185);
INSERT INTO pindrel.hostnames VALUES ('larkfield.example', -4302737097298677564, 1, 1796052061, 1801055185);
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (1, 1796052061539, 'begun', 'register', 'api.larkfield.example', 'account at practice');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (2, 1796052061541, 'begun', 'register', 'api.larkfield.example', 'account at main');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (3, 1796052061655, 'done', 'register', 'api.larkfield.example', 'account at main');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (4, 1796052061683, 'done', 'register', 'api.larkfield.example', 'account at practice');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (5, 1796052061686, 'begun', 'rehearse', 'api.larkfield.example', 'the same at practice');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (6, 1796052061718, 'begun', 'order-ask', 'rehearsal of stations', 'stations.larkfield.example, *.stations.larkfield.example');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (7, 1796052061733, 'done', 'order-ask', 'rehearsal of stations', 'https://127.47.0.8:4430/order/1');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (8, 1796052061755, 'begun', 'challenge-put', 'rehearsal of stations', 'stations.larkfield.example, *.stations.larkfield.example');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (9, 1796052061763, 'done', 'challenge-put', 'rehearsal of stations', 'stations.larkfield.example, *.stations.larkfield.example');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (10, 1796052062868, 'begun', 'challenge-respond', 'rehearsal of stations', 'https://127.47.0.8:4430/order/1');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (11, 1796052062878, 'done', 'challenge-respond', 'rehearsal of stations', 'https://127.47.0.8:4430/order/1');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (12, 1796052062996, 'begun', 'order-finalize', 'rehearsal of stations', 'https://127.47.0.8:4430/order/1');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (13, 1796052063003, 'done', 'order-finalize', 'rehearsal of stations', 'https://127.47.0.8:4430/order/1');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (14, 1796052063137, 'begun', 'challenge-clear', 'rehearsal of stations', 'larkfield.example');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (15, 1796052063142, 'done', 'challenge-clear', 'rehearsal of stations', 'larkfield.example');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (16, 1796052063146, 'done', 'rehearse', 'api.larkfield.example', 'the same at practice');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (17, 1796052063148, 'begun', 'issue', 'api.larkfield.example', 'certificate for api.larkfield.example from main');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (18, 1796052063149, 'begun', 'issue', 'plates.larkfield.example', 'certificate for plates.larkfield.example from main');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (19, 1796052063149, 'begun', 'issue', 'larkfield.example', 'certificate for larkfield.example, www.larkfield.example from main');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (20, 1796052063149, 'begun', 'issue', 'tonight.larkfield.example', 'certificate for tonight.larkfield.example from main');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (21, 1796052063150, 'begun', 'issue', 'stations.larkfield.example', 'certificate for stations.larkfield.example, *.stations.larkfield.example from main');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (22, 1796052063212, 'begun', 'order-ask', 'stations', 'stations.larkfield.example, *.stations.larkfield.example');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (23, 1796052063220, 'begun', 'order-ask', 'tonight.larkfield.example', 'tonight.larkfield.example');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (24, 1796052063236, 'done', 'order-ask', 'stations', 'https://127.47.0.6:4430/order/5');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (25, 1796052063264, 'begun', 'order-ask', 'api.larkfield.example', 'api.larkfield.example');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (26, 1796052063264, 'done', 'order-ask', 'tonight.larkfield.example', 'https://127.47.0.6:4430/order/6');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (27, 1796052063295, 'begun', 'order-ask', 'plates.larkfield.example', 'plates.larkfield.example');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (28, 1796052063326, 'begun', 'order-ask', 'larkfield.example', 'larkfield.example, www.larkfield.example');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (29, 1796052063332, 'begun', 'challenge-put', 'tonight.larkfield.example', 'tonight.larkfield.example');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (30, 1796052063358, 'done', 'challenge-put', 'tonight.larkfield.example', 'tonight.larkfield.example');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (31, 1796052063360, 'done', 'order-ask', 'plates.larkfield.example', 'https://127.47.0.6:4430/order/7');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (32, 1796052063360, 'begun', 'challenge-put', 'stations', 'stations.larkfield.example, *.stations.larkfield.example');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (33, 1796052063381, 'done', 'order-ask', 'api.larkfield.example', 'https://127.47.0.6:4430/order/8');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (34, 1796052063385, 'done', 'challenge-put', 'stations', 'stations.larkfield.example, *.stations.larkfield.example');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (35, 1796052063388, 'begun', 'challenge-put', 'plates.larkfield.example', 'plates.larkfield.example');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (36, 1796052063389, 'done', 'order-ask', 'larkfield.example', 'https://127.47.0.6:4430/order/9');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (37, 1796052063396, 'done', 'challenge-put', 'plates.larkfield.example', 'plates.larkfield.example');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (38, 1796052063412, 'begun', 'challenge-put', 'larkfield.example', 'larkfield.example, www.larkfield.example');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (39, 1796052063413, 'begun', 'challenge-put', 'api.larkfield.example', 'api.larkfield.example');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (40, 1796052063422, 'done', 'challenge-put', 'api.larkfield.example', 'api.larkfield.example');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (41, 1796052063428, 'done', 'challenge-put', 'larkfield.example', 'larkfield.example, www.larkfield.example');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (42, 1796052064544, 'begun', 'challenge-respond', 'tonight.larkfield.example', 'https://127.47.0.6:4430/order/6');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (43, 1796052064549, 'begun', 'challenge-respond', 'stations', 'https://127.47.0.6:4430/order/5');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (44, 1796052064554, 'done', 'challenge-respond', 'tonight.larkfield.example', 'https://127.47.0.6:4430/order/6');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (45, 1796052064565, 'begun', 'challenge-respond', 'plates.larkfield.example', 'https://127.47.0.6:4430/order/7');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (46, 1796052064574, 'done', 'challenge-respond', 'stations', 'https://127.47.0.6:4430/order/5');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (47, 1796052064576, 'begun', 'challenge-respond', 'larkfield.example', 'https://127.47.0.6:4430/order/9');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (48, 1796052064586, 'begun', 'challenge-respond', 'api.larkfield.example', 'https://127.47.0.6:4430/order/8');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (49, 1796052064592, 'done', 'challenge-respond', 'plates.larkfield.example', 'https://127.47.0.6:4430/order/7');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (50, 1796052064593, 'done', 'challenge-respond', 'larkfield.example', 'https://127.47.0.6:4430/order/9');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (51, 1796052064597, 'done', 'challenge-respond', 'api.larkfield.example', 'https://127.47.0.6:4430/order/8');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (52, 1796052064660, 'begun', 'order-finalize', 'tonight.larkfield.example', 'https://127.47.0.6:4430/order/6');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (53, 1796052064665, 'done', 'order-finalize', 'tonight.larkfield.example', 'https://127.47.0.6:4430/order/6');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (54, 1796052064682, 'begun', 'order-finalize', 'stations', 'https://127.47.0.6:4430/order/5');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (55, 1796052064689, 'done', 'order-finalize', 'stations', 'https://127.47.0.6:4430/order/5');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (56, 1796052064699, 'begun', 'order-finalize', 'plates.larkfield.example', 'https://127.47.0.6:4430/order/7');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (57, 1796052064705, 'begun', 'order-finalize', 'larkfield.example', 'https://127.47.0.6:4430/order/9');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (58, 1796052064717, 'done', 'order-finalize', 'plates.larkfield.example', 'https://127.47.0.6:4430/order/7');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (59, 1796052064719, 'begun', 'order-finalize', 'api.larkfield.example', 'https://127.47.0.6:4430/order/8');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (60, 1796052064726, 'done', 'order-finalize', 'larkfield.example', 'https://127.47.0.6:4430/order/9');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (61, 1796052064728, 'done', 'order-finalize', 'api.larkfield.example', 'https://127.47.0.6:4430/order/8');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (62, 1796052064788, 'begun', 'challenge-clear', 'tonight.larkfield.example', 'larkfield.example');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (63, 1796052064793, 'done', 'challenge-clear', 'tonight.larkfield.example', 'larkfield.example');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (64, 1796052064794, 'done', 'issue', 'tonight.larkfield.example', 'certificate for tonight.larkfield.example from main');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (65, 1796052064808, 'begun', 'store', 'tonight.larkfield.example', 'certificate store of north');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (66, 1796052064810, 'begun', 'store', 'tonight.larkfield.example', 'certificate store of south');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (67, 1796052064842, 'begun', 'challenge-clear', 'stations', 'larkfield.example');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (68, 1796052064847, 'done', 'store', 'tonight.larkfield.example', 'certificate store of south');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (69, 1796052064849, 'begun', 'bind', 'tonight.larkfield.example', 'balancer queue-south');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (73, 1796052064880, 'done', 'issue', 'stations.larkfield.example', 'certificate for stations.larkfield.example, *.stations.larkfield.example from main');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (76, 1796052064915, 'done', 'deliver-file', 'stations', 'stations.pem');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (78, 1796052064917, 'done', 'deliver-file', 'stations', 'stations.key');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (79, 1796052064919, 'begun', 'command', 'stations', 'true');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (80, 1796052064923, 'done', 'command', 'stations', 'true');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (84, 1796052064944, 'begun', 'store', 'api.larkfield.example', 'certificate store of north');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (86, 1796052064966, 'done', 'store', 'api.larkfield.example', 'certificate store of north');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (102, 1796052065656, 'begun', 'connect', 'tonight.larkfield.example', 'balancer queue-north');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (106, 1796052065691, 'begun', 'connect', 'tonight.larkfield.example', 'balancer queue-south');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (111, 1796052065743, 'done', 'connect', 'api.larkfield.example', 'gateway catalogue');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (118, 1796052068001, 'done', 'answer', 'plates.larkfield.example', 'https://plates.larkfield.example/');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (124, 1796052068050, 'begun', 'answer', 'www.larkfield.example', 'https://www.larkfield.example/');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (70, 1796052064835, 'done', 'store', 'tonight.larkfield.example', 'certificate store of north');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (88, 1796052064982, 'begun', 'challenge-clear', 'plates.larkfield.example', 'larkfield.example');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (89, 1796052064999, 'done', 'challenge-clear', 'plates.larkfield.example', 'larkfield.example');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (92, 1796052065011, 'begun', 'store', 'plates.larkfield.example', 'certificate store of south');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (95, 1796052065029, 'begun', 'store', 'larkfield.example', 'certificate store of south');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (119, 1796052068029, 'done', 'bind', 'www.larkfield.example', 'distribution home');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (128, 1796052068081, 'done', 'answer', 'www.larkfield.example', 'https://www.larkfield.example/');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (71, 1796052064867, 'done', 'challenge-clear', 'stations', 'larkfield.example');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (87, 1796052064968, 'begun', 'bind', 'api.larkfield.example', 'gateway catalogue');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (90, 1796052065003, 'done', 'issue', 'plates.larkfield.example', 'certificate for plates.larkfield.example from main');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (110, 1796052065734, 'begun', 'connect', 'api.larkfield.example', 'gateway catalogue');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (114, 1796052067975, 'done', 'bind', 'plates.larkfield.example', 'distribution plates');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (117, 1796052067987, 'begun', 'answer', 'plates.larkfield.example', 'https://plates.larkfield.example/');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (120, 1796052068030, 'done', 'bind', 'larkfield.example', 'distribution home');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (72, 1796052064874, 'begun', 'bind', 'tonight.larkfield.example', 'balancer queue-north');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (74, 1796052064886, 'begun', 'deliver', 'stations.larkfield.example', 'stations.pem, stations.key');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (82, 1796052064939, 'done', 'challenge-clear', 'api.larkfield.example', 'larkfield.example');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (83, 1796052064940, 'done', 'issue', 'api.larkfield.example', 'certificate for api.larkfield.example from main');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (93, 1796052065013, 'done', 'challenge-clear', 'larkfield.example', 'larkfield.example');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (99, 1796052065055, 'begun', 'bind', 'larkfield.example', 'distribution home');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (104, 1796052065671, 'begun', 'answer', 'tonight.larkfield.example', 'https://tonight.larkfield.example/');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (108, 1796052065705, 'done', 'connect', 'tonight.larkfield.example', 'balancer queue-south');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (109, 1796052065733, 'done', 'bind', 'api.larkfield.example', 'gateway catalogue');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (112, 1796052065744, 'begun', 'answer', 'api.larkfield.example', 'https://api.larkfield.example/v2/');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (116, 1796052067985, 'done', 'connect', 'plates.larkfield.example', 'distribution plates');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (121, 1796052068032, 'begun', 'connect', 'www.larkfield.example', 'distribution home');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (123, 1796052068048, 'done', 'connect', 'www.larkfield.example', 'distribution home');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (126, 1796052068056, 'begun', 'answer', 'larkfield.example', 'https://larkfield.example/');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (127, 1796052068079, 'done', 'answer', 'larkfield.example', 'https://larkfield.example/');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (75, 1796052064910, 'begun', 'deliver-file', 'stations', 'stations.pem');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (77, 1796052064916, 'begun', 'deliver-file', 'stations', 'stations.key');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (81, 1796052064936, 'begun', 'challenge-clear', 'api.larkfield.example', 'larkfield.example');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (85, 1796052064942, 'done', 'deliver', 'stations.larkfield.example', 'stations.pem, stations.key');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (91, 1796052065002, 'begun', 'challenge-clear', 'larkfield.example', 'larkfield.example');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (94, 1796052065014, 'done', 'issue', 'larkfield.example', 'certificate for larkfield.example, www.larkfield.example from main');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (96, 1796052065036, 'done', 'store', 'plates.larkfield.example', 'certificate store of south');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (97, 1796052065044, 'begun', 'bind', 'plates.larkfield.example', 'distribution plates');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (98, 1796052065054, 'done', 'store', 'larkfield.example', 'certificate store of south');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (100, 1796052065056, 'begun', 'bind', 'www.larkfield.example', 'distribution home');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (101, 1796052065654, 'done', 'bind', 'tonight.larkfield.example', 'balancer queue-north');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (103, 1796052065667, 'done', 'connect', 'tonight.larkfield.example', 'balancer queue-north');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (105, 1796052065689, 'done', 'bind', 'tonight.larkfield.example', 'balancer queue-south');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (107, 1796052065694, 'done', 'answer', 'tonight.larkfield.example', 'https://tonight.larkfield.example/');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (113, 1796052065760, 'done', 'answer', 'api.larkfield.example', 'https://api.larkfield.example/v2/');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (115, 1796052067977, 'begun', 'connect', 'plates.larkfield.example', 'distribution plates');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (122, 1796052068033, 'begun', 'connect', 'larkfield.example', 'distribution home');
INSERT INTO pindrel.journal OVERRIDING SYSTEM VALUE VALUES (125, 1796052068054, 'done', 'connect', 'larkfield.example', 'distribution home');
INSERT INTO pindrel.ledger VALUES ('https://127.47.0.8:4430/directory', 'order', 'hostname', 'stations.larkfield.example', 1796052061, 1);
INSERT INTO pindrel.ledger VALUES ('https://127.47.0.8:4430/directory', 'order', 'registered-domain', 'larkfield.example', 1796052061, 1);
INSERT INTO pindrel.ledger VALUES ('https://127.47.0.8:4430/directory', 'order', 'names', '*.stations.larkfield.example stations.larkfield.example', 1796052061, 1);
INSERT INTO pindrel.ledger VALUES ('https://127.47.0.8:4430/directory', 'order', 'account', '', 1796052061, 1);
INSERT INTO pindrel.ledger VALUES ('https://127.47.0.8:4430/directory', 'certificate', 'hostname', 'stations.larkfield.example', 1796052061, 1);
INSERT INTO pindrel.ledger VALUES ('https://127.47.0.8:4430/directory', 'certificate', 'registered-domain', 'larkfield.example', 1796052061, 1);
INSERT INTO pindrel.ledger VALUES ('https://127.47.0.8:4430/directory', 'certificate', 'names', '*.stations.larkfield.example stations.larkfield.example', 1796052061, 1);
INSERT INTO pindrel.ledger VALUES ('https://127.47.0.8:4430/directory', 'certificate', 'account', '', 1796052061, 1);
INSERT INTO pindrel.ledger VALUES ('https://127.47.0.6:4430/directory', 'order', 'hostname', 'stations.larkfield.example', 1796052063, 3);
INSERT INTO pindrel.ledger VALUES ('https://127.47.0.6:4430/directory', 'order', 'registered-domain', 'larkfield.example', 1796052063, 3);
INSERT INTO pindrel.ledger VALUES ('https://127.47.0.6:4430/directory', 'order', 'names', '*.stations.larkfield.example stations.larkfield.example', 1796052063, 3);
INSERT INTO pindrel.ledger VALUES ('https://127.47.0.6:4430/directory', 'order', 'account', '', 1796052063, 3);
INSERT INTO pindrel.ledger VALUES ('https://127.47.0.6:4430/directory', 'certificate', 'hostname', 'stations.larkfield.example', 1796052063, 3);
INSERT INTO pindrel.ledger VALUES ('https://127.47.0.6:4430/directory', 'certificate', 'registered-domain', 'larkfield.example', 1796052063, 3);
INSERT INTO pindrel.ledger VALUES ('https://127.47.0.6:4430/directory', 'certificate', 'names', '*.stations.larkfield.example stations.larkfield.example', 1796052063, 3);
INSERT INTO pindrel.ledger VALUES ('https://127.47.0.6:4430/directory', 'certificate', 'account', '', 1796052063, 3);
INSERT INTO pindrel.ledger VALUES ('https://127.47.0.6:4430/directory', 'order', 'hostname', 'tonight.larkfield.example', 1796052063, 4);
INSERT INTO pindrel.ledger VALUES ('https://127.47.0.6:4430/directory', 'order', 'registered-domain', 'larkfield.example', 1796052063, 4);
INSERT INTO pindrel.ledger VALUES ('https://127.47.0.6:4430/directory', 'order', 'names', 'tonight.larkfield.example', 1796052063, 4);
INSERT INTO pindrel.ledger VALUES ('https://127.47.0.6:4430/directory', 'order', 'account', '', 1796052063, 4);
INSERT INTO pindrel.ledger VALUES ('https://127.47.0.6:4430/directory', 'certificate', 'hostname', 'tonight.larkfield.example', 1796052063, 4);
INSERT INTO pindrel.ledger VALUES ('https://127.47.0.6:4430/directory', 'certificate', 'registered-domain', 'larkfield.example', 1796052063, 4);
INSERT INTO pindrel.ledger VALUES ('https://127.47.0.6:4430/directory', 'certificate', 'names', 'tonight.larkfield.example', 1796052063, 4);
INSERT INTO pindrel.ledger VALUES ('https://127.47.0.6:4430/directory', 'certificate', 'account', '', 1796052063, 4);
INSERT INTO pindrel.ledger VALUES ('https://127.47.0.6:4430/directory', 'order', 'hostname', 'api.larkfield.example', 1796052063, 5);
INSERT INTO pindrel.ledger VALUES ('https://127.47.0.6:4430/directory', 'order', 'registered-domain', 'larkfield.example', 1796052063, 5);
INSERT INTO pindrel.ledger VALUES ('https://127.47.0.6:4430/directory', 'order', 'names', 'api.larkfield.example', 1796052063, 5);
INSERT INTO pindrel.ledger VALUES ('https://127.47.0.6:4430/directory', 'order', 'account', '', 1796052063, 5);
INSERT INTO pindrel.ledger VALUES ('https://127.47.0.6:4430/directory', 'certificate', 'hostname', 'api.larkfield.example', 1796052063, 5);
INSERT INTO pindrel.ledger VALUES ('https://127.47.0.6:4430/directory', 'certificate', 'registered-domain', 'larkfield.example', 1796052063, 5);
INSERT INTO pindrel.ledger VALUES ('https://127.47.0.6:4430/directory', 'certificate', 'names', 'api.larkfield.example', 1796052063, 5);
INSERT INTO pindrel.ledger VALUES ('https://127.47.0.6:4430/directory', 'certificate', 'account', '', 1796052063, 5);
INSERT INTO pindrel.ledger VALUES ('https://127.47.0.6:4430/directory', 'order', 'hostname', 'plates.larkfield.example', 1796052063, 6);
INSERT INTO pindrel.ledger VALUES ('https://127.47.0.6:4430/directory', 'order', 'registered-domain', 'larkfield.example', 1796052063, 6);
INSERT INTO pindrel.ledger VALUES ('https://127.47.0.6:4430/directory', 'order', 'names', 'plates.larkfield.example', 1796052063, 6);
INSERT INTO pindrel.ledger VALUES ('https://127.47.0.6:4430/directory', 'order', 'account', '', 1796052063, 6);
INSERT INTO pindrel.ledger VALUES ('https://127.47.0.6:4430/directory', 'certificate', 'hostname', 'plates.larkfield.example', 1796052063, 6);
INSERT INTO pindrel.ledger VALUES ('https://127.47.0.6:4430/directory', 'certificate', 'registered-domain', 'larkfield.example', 1796052063, 6);
INSERT INTO pindrel.ledger VALUES ('https://127.47.0.6:4430/directory', 'certificate', 'names', 'plates.larkfield.example', 1796052063, 6);
INSERT INTO pindrel.ledger VALUES ('https://127.47.0.6:4430/directory', 'certificate', 'account', '', 1796052063, 6);
INSERT INTO pindrel.ledger VALUES ('https://127.47.0.6:4430/directory', 'order', 'hostname', 'larkfield.example', 1796052063, 2);
INSERT INTO pindrel.ledger VALUES ('https://127.47.0.6:4430/directory', 'order', 'hostname', 'www.larkfield.example', 1796052063, 2);
INSERT INTO pindrel.ledger VALUES ('https://127.47.0.6:4430/directory', 'order', 'registered-domain', 'larkfield.example', 1796052063, 2);
INSERT INTO pindrel.ledger VALUES ('https://127.47.0.6:4430/directory', 'order', 'names', 'larkfield.example www.larkfield.example', 1796052063, 2);
INSERT INTO pindrel.ledger VALUES ('https://127.47.0.6:4430/directory', 'order', 'account', '', 1796052063, 2);
INSERT INTO pindrel.ledger VALUES ('https://127.47.0.6:4430/directory', 'certificate', 'hostname', 'larkfield.example', 1796052063, 2);
INSERT INTO pindrel.ledger VALUES ('https://127.47.0.6:4430/directory', 'certificate', 'hostname', 'www.larkfield.example', 1796052063, 2);
INSERT INTO pindrel.ledger VALUES ('https://127.47.0.6:4430/directory', 'certificate', 'registered-domain', 'larkfield.example', 1796052063, 2);
INSERT INTO pindrel.ledger VALUES ('https://127.47.0.6:4430/directory', 'certificate', 'names', 'larkfield.example www.larkfield.example', 1796052063, 2);
INSERT INTO pindrel.ledger VALUES ('https://127.47.0.6:4430/directory', 'certificate', 'account', '', 1796052063, 2);
INSERT INTO pindrel.lock_holder VALUES (1, 'settle (process 10613) since 2026-11-30T15:21:00Z');
INSERT INTO pindrel.orders OVERRIDING SYSTEM VALUE VALUES (1, 'rehearsal of stations', 'https://127.47.0.8:4430/directory', '["stations.larkfield.example","*.stations.larkfield.example"]', 'https://127.47.0.8:4430/order/1', 'done', 'cd3995f676aea21e', '\x0bf5addf56b020cabd47e4a0e5084ef3e555f2d19b9afbec96360975db7529ae0f1df55568ea0d33ff3abac7c9e73cb80345b7eb3b908e120f17b5d375168da58118bfaccd2d780e8e104f9e8d6912e3a3d701855e24b08e213b393afba88e639f29b9ef3a1886128250365aa5e6f811938cc66a306ae10035b7dc473b300efaa7a8bb7fcfdafe2ce97114b40e8a6d649506e01b54b6cd9f40507730c8aebf87c5cf21bb4acc', 1796052061, 1796052063, NULL, NULL);
INSERT INTO pindrel.orders OVERRIDING SYSTEM VALUE VALUES (4, 'tonight.larkfield.example', 'https://127.47.0.6:4430/directory', '["tonight.larkfield.example"]', 'https://127.47.0.6:4430/order/6', 'done', 'cd3995f676aea21e', '\x32da5185848fc97b8587537d11d3d8e1766de9b4ad47a3281e1630cd6788fbcd90b2b37127a809847f2ec275fc6652aff497da272ac6cfca6fe924baf257bb76f083293f17c660781e49790f39c843205e458ea4e322192d48c5cdbbb3b24b54567d0edc44a74b32351a397ee358d1f7847bc0c5c8cd29996ed2a55bfc5db1bd4b8300e3a7c63a1eaa290ebf7e4fbe1ceda83c834173e6382c5b1839018475ea51f3cba93bfa', 1796052063, 1796052064, NULL, NULL);
INSERT INTO pindrel.orders OVERRIDING SYSTEM VALUE VALUES (3, 'stations', 'https://127.47.0.6:4430/directory', '["stations.larkfield.example","*.stations.larkfield.example"]', 'https://127.47.0.6:4430/order/5', 'done', 'cd3995f676aea21e', '\x7bae3a925e1d67f9a66351e6735494b25fe11974678080d168d508a2c30dde2f761768ac9640f9a5270692dd07b31d048153a27fbb7d3eb6b3e84a6c13b91391fa71ec5357c6e607008db62ff74ada6d867ac73297f766b53cad001cf25bcd778271d83023a9d3e6a3dd9e3a61de0bc26f4a850f6db6f275a0665fbd420c89b8dd4183f7d5a71b9f1d292f1b7aa1df8cfbefedc82a254d7a081696e7a77e2980d7b4637649e4', 1796052063, 1796052064, NULL, NULL);
INSERT INTO pindrel.orders OVERRIDING SYSTEM VALUE VALUES (5, 'api.larkfield.example', 'https://127.47.0.6:4430/directory', '["api.larkfield.example"]', 'https://127.47.0.6:4430/order/8', 'done', 'cd3995f676aea21e', '\x6a6ec05f1b724a45234435fb5ada3af02b5f640ee3b7ed5277838006425eda3fef4445cbef6d2eb46981b7e52fcd170629dd3c5204a564eb04c1a5f3567fdb285da80e4e297cf38e0dace8f4a77a36151c0fef38bed67073f6a015a634ba6ee625204607737c101375c602ebba02b483315adb6e7b2079144ae47fcad4d4cd5c690fee34e517469d6802dc26ce110b6d8e37b50f16fbdcf8cbcbea0722a8ea5a2e64983af3a5', 1796052063, 1796052064, NULL, NULL);
INSERT INTO pindrel.orders OVERRIDING SYSTEM VALUE VALUES (6, 'plates.larkfield.example', 'https://127.47.0.6:4430/directory', '["plates.larkfield.example"]', 'https://127.47.0.6:4430/order/7', 'done', 'cd3995f676aea21e', '\x62d8bfafcf923fb75a271ebb41774b64603e24b782a11cfe445e9ac8c94301df00cfd84addbe083e8b8a9f29840511bf578cd18311ebb390b75c30a2a7a79e760cb0bc4655a680964d7eabbb5d796bd24fa3c38516a5b374325572dfd06225dfc83599a6054e1cd1d7104bf5317027187dc4a9a7ead6b4a6eecad2fa9265b6469df78b4f94a5f25d57bf52ea2fb289f064aa3a8412aed80adc361a6b7ed97a3b935429b1e225', 1796052063, 1796052064, NULL, NULL);
INSERT INTO pindrel.orders OVERRIDING SYSTEM VALUE VALUES (2, 'larkfield.example', 'https://127.47.0.6:4430/directory', '["larkfield.example","www.larkfield.example"]', 'https://127.47.0.6:4430/order/9', 'done', 'cd3995f676aea21e', '\x4887a075c1fe55541f35f8303861da47db4caf7f637f48cac703adfcdb2563e0a71df5aecb1146b8f236830763cb6fb8e84de60adb531ab6cc4da3b000161b3a9bc6767c490b92d590f5d876a4fc92193bf3b2e36e1ed41d2097c30b64366e63968c189426fa1f5bd1394a3a137aafca86e0fb6b71fe931a46444f9da6dfc5a702c65fa6919769722706f0da588b8c928fa2a290d3a96adeca1516055bb90b976ee501b70631', 1796052063, 1796052064, NULL, NULL);
INSERT INTO pindrel.rehearsals VALUES ('https://127.47.0.6:4430/directory | larkfield.example | direct larkfield.example at 127.47.0.3:5390 | pindrel HmacSha256 file:tsig.secret', 1796052063);
INSERT INTO pindrel.run_changes VALUES (1, 'api.larkfield.example', '{}', '{"bindings":{"https://127.47.0.7:9443/ catalogue":{"certificate":"cf54df92a54f682156d45c9bed245e59e4b2b782d648a5c2532afe0a2847ee24","routes":[{"prefix":"/v1","service":"catalogue","release":"2024"},{"prefix":"/v2","service":"catalogue","release":"live"}],"minimum_tls":"1.2"}}}');
INSERT INTO pindrel.run_changes VALUES (1, 'larkfield.example', '{}', '{"bindings":{"https://127.47.0.7:9443/ home":{"certificate":"476f5fcefb361f009eaf060623adf3584b6b4580e3a5e14bda5b239ec16b8e0e","routes":[],"minimum_tls":"1.2"}}}');
INSERT INTO pindrel.run_changes VALUES (1, 'plates.larkfield.example', '{}', '{"bindings":{"https://127.47.0.7:9443/ plates":{"certificate":"ea8848bd3f59fa3a487aacc77fbf7f47c86d91877ad69a0e1baacda373274f7d","routes":[],"minimum_tls":"1.2"}}}');
INSERT INTO pindrel.run_changes VALUES (1, 'tonight.larkfield.example', '{}', '{"bindings":{"https://127.47.0.7:9443/ queue-north":{"certificate":"cb267bde69fe3fbd273059336ad5aa0695121779dc9ca37f5da10967657a15ee","routes":[],"minimum_tls":"1.2"},"https://127.47.0.7:9443/ queue-south":{"certificate":"cb267bde69fe3fbd273059336ad5aa0695121779dc9ca37f5da10967657a15ee","routes":[],"minimum_tls":"1.2"}}}');
INSERT INTO pindrel.run_changes VALUES (1, 'www.larkfield.example', '{}', '{"bindings":{"https://127.47.0.7:9443/ home":{"certificate":"476f5fcefb361f009eaf060623adf3584b6b4580e3a5e14bda5b239ec16b8e0e","routes":[],"redirect_to":"larkfield.example","minimum_tls":"1.2"}}}');
INSERT INTO pindrel.runs VALUES (1, 1796052064, 1796052068, 'settle');
INSERT INTO pindrel.schema_version VALUES (4);
INSERT INTO pindrel.sealed_values VALUES ('sealing-check', 'cd3995f676aea21e', '\x5e2fb4879b64ca4e0fe16c9d9b49ceaf7c93248e994a72ae2ba01cd839213bf09baa86');
INSERT INTO pindrel.stored_copies VALUES ('https://127.47.0.7:9443/', 'north', 'cb267bde69fe3fbd273059336ad5aa0695121779dc9ca37f5da10967657a15ee', 'tonight.larkfield.example', 0, NULL);
INSERT INTO pindrel.stored_copies VALUES ('https://127.47.0.7:9443/', 'south', 'cb267bde69fe3fbd273059336ad5aa0695121779dc9ca37f5da10967657a15ee', 'tonight.larkfield.example', 0, NULL);
INSERT INTO pindrel.stored_copies VALUES ('https://127.47.0.7:9443/', 'north', 'cf54df92a54f682156d45c9bed245e59e4b2b782d648a5c2532afe0a2847ee24', 'api.larkfield.example', 0, NULL);
INSERT INTO pindrel.stored_copies VALUES ('https://127.47.0.7:9443/', 'south', 'ea8848bd3f59fa3a487aacc77fbf7f47c86d91877ad69a0e1baacda373274f7d', 'plates.larkfield.example', 0, NULL);
INSERT INTO pindrel.stored_copies VALUES ('https://127.47.0.7:9443/', 'south', '476f5fcefb361f009eaf060623adf3584b6b4580e3a5e14bda5b239ec16b8e0e', 'larkfield.example', 0, NULL);
INSERT INTO pindrel.turns VALUES ('ledger', 6);
INSERT INTO pindrel.zones VALUES ('larkfield.example', '{"seen":"2026-11-30T15:21:01.069997901Z","value":{"delegation":{"is":"delegated","by":"127.47.0.2:5390","name_servers":["ns1.larkfield.example","ns2.larkfield.example"],"addresses":["127.47.0.3","127.47.0.4"]},"servers":[{"server":"127.47.0.3:5390","status":{"is":"serves","serial":18,"name_servers":["ns1.larkfield.example","ns2.larkfield.example"]}},{"server":"127.47.0.4:5390","status":{"is":"serves","serial":18,"name_servers":["ns1.larkfield.example","ns2.larkfield.example"]}}]}}');
SELECT pg_catalog.setval('pindrel.certificates_id_seq', 5, true);
SELECT pg_catalog.setval('pindrel.health_incidents_id_seq', 4, true);
SELECT pg_catalog.setval('pindrel.journal_id_seq', 128, true);
SELECT pg_catalog.setval('pindrel.orders_id_seq', 6, true);
ALTER TABLE ONLY pindrel.accounts
    ADD CONSTRAINT accounts_pkey PRIMARY KEY (authority);
ALTER TABLE ONLY pindrel.attempts
    ADD CONSTRAINT attempts_pkey PRIMARY KEY (work);
ALTER TABLE ONLY pindrel.certificates
    ADD CONSTRAINT certificates_pkey PRIMARY KEY (id);
ALTER TABLE ONLY pindrel.challenge_records
    ADD CONSTRAINT challenge_records_pkey PRIMARY KEY (zone, name, text);
ALTER TABLE ONLY pindrel.claims
    ADD CONSTRAINT claims_pkey PRIMARY KEY (key);
ALTER TABLE ONLY pindrel.commands
    ADD CONSTRAINT commands_pkey PRIMARY KEY (certificate, command);
ALTER TABLE ONLY pindrel.endpoint_holds
    ADD CONSTRAINT endpoint_holds_pkey PRIMARY KEY (endpoint);
ALTER TABLE ONLY pindrel.endpoints
    ADD CONSTRAINT endpoints_pkey PRIMARY KEY (endpoint);
ALTER TABLE ONLY pindrel.health_checks
    ADD CONSTRAINT health_checks_pkey PRIMARY KEY (name);
ALTER TABLE ONLY pindrel.health_incidents
    ADD CONSTRAINT health_incidents_pkey PRIMARY KEY (id);
ALTER TABLE ONLY pindrel.health_slots
    ADD CONSTRAINT health_slots_pkey PRIMARY KEY (name, begun);
ALTER TABLE ONLY pindrel.holds
    ADD CONSTRAINT holds_pkey PRIMARY KEY (authority, certificate);
ALTER TABLE ONLY pindrel.hostname_facts
    ADD CONSTRAINT hostname_facts_pkey PRIMARY KEY (hostname);
ALTER TABLE ONLY pindrel.hostnames
    ADD CONSTRAINT hostnames_pkey PRIMARY KEY (hostname);
ALTER TABLE ONLY pindrel.journal
    ADD CONSTRAINT journal_pkey PRIMARY KEY (id);
ALTER TABLE ONLY pindrel.lock_holder
    ADD CONSTRAINT lock_holder_pkey PRIMARY KEY (id);
ALTER TABLE ONLY pindrel.orders
    ADD CONSTRAINT orders_pkey PRIMARY KEY (id);
ALTER TABLE ONLY pindrel.rehearsals
    ADD CONSTRAINT rehearsals_pkey PRIMARY KEY (set_up);
ALTER TABLE ONLY pindrel.run_changes
    ADD CONSTRAINT run_changes_pkey PRIMARY KEY (run, hostname);
ALTER TABLE ONLY pindrel.runs
    ADD CONSTRAINT runs_pkey PRIMARY KEY (id);
ALTER TABLE ONLY pindrel.sealed_values
    ADD CONSTRAINT sealed_values_pkey PRIMARY KEY (name);
ALTER TABLE ONLY pindrel.signing_requests
    ADD CONSTRAINT signing_requests_pkey PRIMARY KEY (certificate);
ALTER TABLE ONLY pindrel.stored_copies
    ADD CONSTRAINT stored_copies_pkey PRIMARY KEY (platform, site, sha256);
ALTER TABLE ONLY pindrel.turns
    ADD CONSTRAINT turns_pkey PRIMARY KEY (name);
ALTER TABLE ONLY pindrel.zones
    ADD CONSTRAINT zones_pkey PRIMARY KEY (zone);
CREATE INDEX certificate_by_name ON pindrel.certificates USING btree (name);
CREATE INDEX certificate_by_sha256 ON pindrel.certificates USING btree (sha256);
CREATE INDEX certificate_to_revoke ON pindrel.certificates USING btree (id) WHERE (revocation IS NOT NULL);
CREATE INDEX challenge_record_by_order ON pindrel.challenge_records USING btree (order_id);
CREATE INDEX copy_by_sha256 ON pindrel.stored_copies USING btree (sha256);
CREATE INDEX health_incidents_by_name ON pindrel.health_incidents USING btree (name, id);
CREATE INDEX health_incidents_by_time ON pindrel.health_incidents USING btree (at);
CREATE INDEX health_slots_by_age ON pindrel.health_slots USING btree (seconds, begun);
CREATE INDEX journal_by_time ON pindrel.journal USING btree (at);
CREATE INDEX ledger_by_order ON pindrel.ledger USING btree (order_id);
CREATE INDEX ledger_by_subject ON pindrel.ledger USING btree (authority, of, per, subject, at);
CREATE INDEX ledger_by_time ON pindrel.ledger USING btree (at);
CREATE INDEX next_certificate ON pindrel.certificates USING btree (next_at) WHERE (present = 1);
CREATE INDEX open_order ON pindrel.orders USING btree (certificate, id) WHERE (phase = ANY (ARRAY['asked'::text, 'open'::text]));
CREATE INDEX order_by_certificate ON pindrel.orders USING btree (certificate);
CREATE INDEX order_by_url ON pindrel.orders USING btree (url);
CREATE UNIQUE INDEX present_certificate ON pindrel.certificates USING btree (name) WHERE (present = 1);
CREATE INDEX released_copy ON pindrel.stored_copies USING btree (platform, site, sha256) WHERE (released = 1);
CREATE INDEX replaced_certificate ON pindrel.certificates USING btree (sha256) WHERE (present = 0);
ALTER TABLE ONLY pindrel.challenge_records
    ADD CONSTRAINT challenge_records_order_id_fkey FOREIGN KEY (order_id) REFERENCES pindrel.orders(id);
ALTER TABLE ONLY pindrel.run_changes
    ADD CONSTRAINT run_changes_run_fkey FOREIGN KEY (run) REFERENCES pindrel.runs(id) ON DELETE CASCADE;
