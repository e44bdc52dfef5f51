use super::*;

#[test]
fn a_newer_schema_is_refused_and_left_alone() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("state.sqlite");
    drop(SqliteState::open(&path).unwrap());
    let connection = Connection::open(&path).unwrap();
    connection.pragma_update(None, "user_version", 99).unwrap();
    let error = SqliteState::open(&path).err().unwrap();
    assert!(matches!(error, StateError::Newer { found: 99, .. }), "{error}");
    let version: i64 = connection.query_row("PRAGMA user_version", [], |row| row.get(0)).unwrap();
    assert_eq!(version, 99);
}

#[test]
fn a_torn_file_is_an_error_that_names_it_and_is_not_overwritten() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("state.sqlite");
    std::fs::write(&path, b"this is no database, and long enough to be taken for one".repeat(100)).unwrap();
    let before = std::fs::read(&path).unwrap();
    let error = SqliteState::open(&path).err().unwrap();
    assert!(error.to_string().contains("state.sqlite"), "{error}");
    assert_eq!(std::fs::read(&path).unwrap(), before);
}

#[test]
fn a_new_certificate_takes_the_place_of_the_old_one_and_ends_its_order() {
    let folder = tempfile::tempdir().unwrap();
    let state = SqliteState::open(&folder.path().join("sub/state.sqlite")).unwrap();
    let key = SealedBytes { key_id: "k".into(), bytes: vec![1, 2, 3] };
    let order = OrderRow {
        id: 0,
        certificate: "api".into(),
        authority: "https://authority.example/directory".into(),
        names: vec!["api.larkfield.example".parse().unwrap()],
        url: None,
        phase: OrderPhase::Asked,
        key: key.clone(),
        begun: Timestamp::from_second(1_000).unwrap(),
    };
    let id = state.keep_order(&order).unwrap();
    let open = OrderRow { id, url: Some("https://authority.example/order/1".into()), phase: OrderPhase::Open, ..order };
    assert_eq!(state.keep_order(&open).unwrap(), id);
    assert_eq!(state.open_order("api").unwrap(), Some(open.clone()));
    assert!(state.knows_order(&open.authority, open.url.as_deref().unwrap()).unwrap());

    let record = ChallengeRecord { name: "_acme-challenge.api.larkfield.example".parse().unwrap(), text: "t".into() };
    let left = ChallengeRow { zone: "larkfield.example".parse().unwrap(), record };
    state.note_challenge_records(id, std::slice::from_ref(&left)).unwrap();
    assert_eq!(state.standing_challenge_records(None).unwrap(), [], "the order is still open");

    for byte in [b"first", b"again"] {
        let held = HeldCertificate {
            sha256: pindrel_core::values::Fingerprint::of(byte),
            names: open.names.clone(),
            authority: open.authority.clone(),
            not_before: Timestamp::from_second(1_000).unwrap(),
            not_after: Timestamp::from_second(2_000).unwrap(),
        };
        let row = CertificateRow { name: "api".into(), held, chain: "pem".into(), key: key.clone() };
        state.keep_certificate(&row, id).unwrap();
        assert_eq!(state.certificate("api").unwrap(), Some(row));
    }
    assert_eq!(state.open_order("api").unwrap(), None);
    assert_eq!(state.standing_challenge_records(None).unwrap(), std::slice::from_ref(&left));
    state.forget_challenge_record(&left).unwrap();
    assert_eq!(state.standing_challenge_records(None).unwrap(), []);
}
