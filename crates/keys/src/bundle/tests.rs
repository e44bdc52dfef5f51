use jiff::Timestamp;
use pindrel_core::values::KeyKind;
use proptest::prelude::*;
use rcgen::{BasicConstraints, CertificateParams, DnType, IsCa, Issuer, KeyPair};

use super::*;
use crate::roots;

/// A root, an intermediate below it, and a leaf below that with its key.
struct World {
    root: String,
    intermediate: String,
    leaf: String,
    key: CertificateKey,
}

fn authority(name: &str) -> CertificateParams {
    let mut params = CertificateParams::new(Vec::new()).unwrap();
    params.distinguished_name.push(DnType::CommonName, name);
    params.is_ca = IsCa::Ca(BasicConstraints::Unconstrained);
    params
}

fn world() -> World {
    let root_key = KeyPair::generate().unwrap();
    let root = authority("Larkfield test root").self_signed(&root_key).unwrap().pem();
    let root_issuer = Issuer::new(authority("Larkfield test root"), root_key);
    let middle_key = KeyPair::generate().unwrap();
    let mut params = authority("Larkfield test intermediate");
    params.use_authority_key_identifier_extension = true;
    let intermediate = params.signed_by(&middle_key, &root_issuer).unwrap().pem();
    let middle = Issuer::new(params, middle_key);
    let key = CertificateKey::generate(KeyKind::EcdsaP256).unwrap();
    let mut params = CertificateParams::new(vec!["plates.larkfield.example".to_owned()]).unwrap();
    params.use_authority_key_identifier_extension = true;
    let pair = KeyPair::from_pem(key.pem().expose_secret()).unwrap();
    let leaf = params.signed_by(&pair, &middle).unwrap().pem();
    World { root, intermediate, leaf, key }
}

fn file(name: &str, bytes: impl Into<Vec<u8>>) -> LooseFile {
    LooseFile { name: name.into(), bytes: bytes.into() }
}

fn der(pem: &str) -> Vec<u8> {
    CertificateDer::from_pem_slice(pem.as_bytes()).unwrap().to_vec()
}

#[test]
fn loose_files_in_any_order_and_form_make_one_chain() {
    let world = world();
    let files = [
        file("root.crt", world.root.clone()),
        file("leaf.der", der(&world.leaf)),
        file("middle.pem", format!("{}{}", world.intermediate, world.root)),
        file("server.key", world.key.pem().expose_secret().to_owned()),
    ];
    let names = ["plates.larkfield.example".parse().unwrap()];
    let trusted = roots::from_pem(world.root.as_bytes()).unwrap();
    for turn in 0..files.len() {
        let mut files = files.to_vec();
        files.rotate_left(turn);
        let bundle = Bundle::assemble(&files, None, None, &OpenHere).unwrap();
        assert_eq!(bundle.chain.certificates().len(), 2, "leaf and intermediate, without the root");
        assert!(bundle.key.is_some());
        assert!(bundle.left_out.iter().any(|said| said.contains("root")), "{:?}", bundle.left_out);
        bundle.chain.verify(&world.key.public_key(), &names, &trusted, Timestamp::now()).unwrap();
    }
    // An authority that hands out its root as well gives the same chain.
    let with_root = Chain::from_pem(&format!("{}{}{}", world.leaf, world.intermediate, world.root)).unwrap();
    assert_eq!((with_root.certificates().len(), with_root.pem().contains(&world.root)), (2, false));
    assert!(with_root.root_name().contains("Larkfield test root"));
}

#[test]
fn each_refusal_says_which_file_and_why() {
    let world = world();
    let other = CertificateKey::generate(KeyKind::EcdsaP256).unwrap();
    let table: Vec<(Vec<LooseFile>, &str)> = vec![
        (vec![file("notes.txt", "hello")], "notes.txt holds neither"),
        (vec![file("root.pem", world.root.clone())], "an authority's"),
        (
            vec![file("a.pem", world.leaf.clone()), file("b.key", other.pem().expose_secret().to_owned())],
            "the private key in b.key does not match any of the certificates in a.pem",
        ),
        (
            vec![file("a.pem", world.leaf.clone()), file("torn.pem", world.intermediate.replace("MII", "XXX"))],
            "torn.pem",
        ),
    ];
    for (files, says) in table {
        let error = Bundle::assemble(&files, None, None, &OpenHere).unwrap_err().to_string();
        assert!(error.contains(says), "{says}: {error}");
    }
    // Without its intermediate the chain says which one is missing.
    let bundle =
        Bundle::assemble(&[file("leaf.pem", world.leaf.clone())], Some(("the state", &world.key)), None, &OpenHere)
            .unwrap();
    let trusted = roots::from_pem(world.root.as_bytes()).unwrap();
    let error = bundle.chain.verify(&world.key.public_key(), &[], &trusted, Timestamp::now()).unwrap_err();
    assert_eq!(error, ChainError::IntermediateMissing("CN=Larkfield test intermediate".into()));
}

#[test]
fn pkcs12_goes_out_and_comes_in_with_the_right_password_only() {
    let world = world();
    let bundle = Bundle::assemble(
        &[file("all.pem", format!("{}{}{}", world.leaf, world.intermediate, world.key.pem().expose_secret()))],
        None,
        None,
        &OpenHere,
    )
    .unwrap();
    let packed = pkcs12(&bundle.chain, &world.key, "plates", &"right".to_owned().into()).unwrap();
    let packed = [file("plates.p12", packed)];
    let again = Bundle::assemble(&packed, None, Some(&"right".to_owned().into()), &OpenHere).unwrap();
    assert_eq!(again.chain.pem(), bundle.chain.pem());
    assert_eq!(again.key.unwrap().public_key(), world.key.public_key());
    for (password, says) in [(None, "needs a password"), (Some("wrong"), "does not open")] {
        let password = password.map(|text| SecretString::from(text.to_owned()));
        let error = Bundle::assemble(&packed, None, password.as_ref(), &OpenHere).unwrap_err().to_string();
        assert!(error.contains("plates.p12") && error.contains(says), "{error}");
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(200))]

    /// No bytes make it panic, however near they are to a real file.
    #[test]
    fn torn_files_are_refused_without_a_panic(cut in 0usize..2000, flips in proptest::collection::vec((0usize..2000, any::<u8>()), 0..6)) {
        thread_local!(static FILES: [Vec<u8>; 3] = {
            let world = world();
            let chain = Chain::from_pem(&format!("{}{}", world.leaf, world.intermediate)).unwrap();
            [der(&world.leaf), chain.pem().into_bytes(), world.key.pkcs8().to_vec()]
        });
        FILES.with(|files| {
            for bytes in files {
                let mut torn = bytes[..bytes.len().min(cut)].to_vec();
                for (at, value) in &flips {
                    if let Some(byte) = torn.get_mut(*at) {
                        *byte = *value;
                    }
                }
                let _ = Bundle::assemble(&[file("torn", torn)], None, None, &OpenHere);
            }
        });
    }
}

/// A leaf below the intermediate of a world, changed by `change`.
fn leaf_like(change: impl FnOnce(&mut CertificateParams)) -> (Chain, CertificateKey, Vec<u8>) {
    let root_key = KeyPair::generate().unwrap();
    let root = authority("Larkfield test root").self_signed(&root_key).unwrap().pem();
    let issuer = Issuer::new(authority("Larkfield test root"), root_key);
    let key = CertificateKey::generate(KeyKind::EcdsaP256).unwrap();
    let mut params = CertificateParams::new(vec!["plates.larkfield.example".to_owned()]).unwrap();
    change(&mut params);
    let pair = KeyPair::from_pem(key.pem().expose_secret()).unwrap();
    let leaf = params.signed_by(&pair, &issuer).unwrap().pem();
    (Chain::from_pem(&leaf).unwrap(), key, root.into_bytes())
}

fn day(days: i64) -> rcgen::string::Ia5String {
    format!("day{days}.larkfield.example").try_into().unwrap()
}

#[test]
fn a_chain_is_refused_for_the_first_thing_that_is_wrong() {
    let moment = |days: i64| {
        let seconds = Timestamp::now().as_second() + days * 86_400;
        rcgen::date_time_ymd(1970, 1, 1) + std::time::Duration::from_secs(seconds as u64)
    };
    let names = ["plates.larkfield.example".parse().unwrap()];
    let other = ["api.larkfield.example".parse().unwrap()];
    let check = |(chain, key, root): &(Chain, CertificateKey, Vec<u8>),
                 names: &[pindrel_core::names::name::Hostname]| {
        let roots = roots::from_pem(root).unwrap();
        chain.verify(&key.public_key(), names, &roots, Timestamp::now())
    };
    let good = leaf_like(|_| {});
    assert_eq!(check(&good, &names), Ok(()));
    assert_eq!(check(&good, &other), Err(ChainError::NameMissing(other[0].clone())));
    let foreign = CertificateKey::generate(KeyKind::EcdsaP256).unwrap();
    let roots = roots::from_pem(&good.2).unwrap();
    assert_eq!(good.0.verify(&foreign.public_key(), &names, &roots, Timestamp::now()), Err(ChainError::OtherKey));

    let expired = leaf_like(|params| (params.not_before, params.not_after) = (moment(-30), moment(-1)));
    let early = leaf_like(|params| (params.not_before, params.not_after) = (moment(1), moment(30)));
    for wrong in [&expired, &early] {
        assert!(matches!(check(wrong, &names), Err(ChainError::NotNow(..))));
    }
    let client_only = leaf_like(|params| params.extended_key_usages = vec![rcgen::ExtendedKeyUsagePurpose::ClientAuth]);
    assert!(matches!(check(&client_only, &names), Err(ChainError::Untrusted(_))));
    let untrusted = (good.0.clone(), leaf_like(|_| {}).1, leaf_like(|_| {}).2);
    let roots = roots::from_pem(&untrusted.2).unwrap();
    let error = good.0.verify(&good.1.public_key(), &names, &roots, Timestamp::now()).unwrap_err();
    assert!(matches!(error, ChainError::Untrusted(_) | ChainError::IntermediateMissing(_)), "{error}");
    // A wildcard covers what lies one label below it, and not its base.
    let wild = leaf_like(|params| {
        params.subject_alt_names = vec![rcgen::SanType::DnsName("*.larkfield.example".try_into().unwrap())];
    });
    assert_eq!(check(&wild, &names), Ok(()));
    assert!(check(&wild, &["larkfield.example".parse().unwrap()]).is_err());
}

#[test]
fn what_a_certificate_says_is_read_in_words() {
    let (chain, key, _) = leaf_like(|params| {
        params.distinguished_name.push(DnType::OrganizationName, "Larkfield Sky Survey");
        params.subject_alt_names.push(rcgen::SanType::DnsName(day(2)));
        params.subject_alt_names.push(rcgen::SanType::IpAddress("127.0.0.9".parse().unwrap()));
        params.subject_alt_names.push(rcgen::SanType::IpAddress("::1".parse().unwrap()));
        params.key_usages = vec![rcgen::KeyUsagePurpose::DigitalSignature];
        params.extended_key_usages = vec![rcgen::ExtendedKeyUsagePurpose::ServerAuth];
        params.serial_number = Some(vec![0x0a, 0xbc].into());
        params.use_authority_key_identifier_extension = true;
    });
    let said = chain.leaf();
    assert!(said.subject.contains("Larkfield Sky Survey") && said.issuer.contains("CN=Larkfield test root"));
    assert_eq!((said.serial.as_str(), said.key.as_str()), ("0a:bc", "ECDSA P-256"));
    assert_eq!(said.signature, "ECDSA with SHA-256");
    assert_eq!(said.names, ["plates.larkfield.example", "day2.larkfield.example", "127.0.0.9", "::1"]);
    assert_eq!(chain.names().len(), 2, "addresses are no hostnames");
    assert_eq!(said.key_sha256, pindrel_core::values::Fingerprint::of(&key.public_key()));
    let says = |name: &str| {
        let found = said.extensions.iter().find(|extension| extension.name == name);
        found.unwrap_or_else(|| panic!("no {name}: {:?}", said.extensions)).says.clone()
    };
    assert_eq!(says("extended key usage"), "server authentication");
    assert_eq!(says("key usage"), "digital signature");
    assert!(says("authority key identifier").contains(':'));
    let id = chain.certificate_id().unwrap();
    assert!(id.ends_with(".Crw"), "the serial's bytes in base64url: {id}");
}

#[test]
fn keys_of_every_kind_sign_requests_that_name_what_was_asked() {
    let names = ["*.stations.larkfield.example".parse().unwrap(), "stations.larkfield.example".parse().unwrap()];
    for kind in KeyKind::FOR_CERTIFICATES {
        let key = CertificateKey::generate(kind).unwrap();
        let request = key.signing_request(&names).unwrap();
        let read = rcgen::CertificateSigningRequestParams::from_der(&request.into()).unwrap();
        assert_eq!(read.params.subject_alt_names.len(), 2, "{kind}");
        assert_eq!(key.request_signer().unwrap().kind(), kind);
        let itself = key.self_signed(&names, Timestamp::now(), 3).unwrap();
        let chain = Chain::from_pem(&itself).unwrap();
        let trusted = roots::from_pem(itself.as_bytes()).unwrap();
        assert_eq!(chain.verify(&key.public_key(), &names, &trusted, Timestamp::now()), Ok(()), "{kind}");
    }
    assert!(CertificateKey::generate(KeyKind::Ed25519).is_err(), "no authority issues for such a key");
}
