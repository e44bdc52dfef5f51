//! What a person does with certificates: request, import, export, renew, revoke, deliver.

use std::time::Duration;

use pindrel_core::desired::CertificateId;
use pindrel_core::judging::findings::{Again, Code};
use pindrel_core::judging::pin::PinState;
use pindrel_engine::{AttemptEnd, ExportForm, LooseFile, RevocationKey, RevocationRequest, RevokeReason};
use pindrel_testkit::memory::{Pace, Setting};

use crate::{API, ONE, revocation};

/// The certificate of the only hostname.
const FIRST: CertificateId = CertificateId(0);

fn file(name: &str, text: &str) -> LooseFile {
    LooseFile { name: name.into(), bytes: text.as_bytes().to_vec() }
}

async fn exported(setting: &Setting, form: ExportForm) -> String {
    let bytes = setting.engine().await.certificates.export(API, form, None).await.unwrap();
    String::from_utf8(bytes.to_vec()).unwrap()
}

#[tokio::test(start_paused = true)]
async fn a_certificate_of_another_issuer_goes_from_its_request_to_an_answer() {
    let elsewhere = format!(
        "{ONE}certificate = \"own\"\n[certificate.own]\nnames = [\"{API}\"]\nissued_by = \"elsewhere\"\n\
         issued_roots = \"root.pem\"\n"
    );
    let setting = Setting::new(Pace::default(), &elsewhere);
    let waits = setting.settle().await;
    assert_eq!((waits.held, waits.failed), (0, 0), "a person is needed, nothing failed: {waits:?}");
    let engine = setting.engine().await;
    engine.certificates.signing_request(FIRST).await.unwrap();
    // Asked for again it is of the same key: the issuer may answer either.
    let request = engine.certificates.signing_request(FIRST).await.unwrap();

    // What does not belong to the request is refused, and changes nothing.
    let chain = setting.sign(&request);
    let other = setting.sign(&setting.foreign_request(API));
    let refused = engine.certificates.import(FIRST, &[file("other.pem", &other)], None).await.unwrap_err();
    assert_eq!((refused.code(), refused.again()), (Code::ImportRefused, Again::Person), "{refused:?}");
    let refused = engine.certificates.import(FIRST, &[file("notes.txt", "nothing")], None).await.unwrap_err();
    assert!(refused.says().contains("notes.txt"), "{refused:?}");

    let summary = engine.certificates.import(FIRST, &[file("chain.pem", &chain)], None).await.unwrap();
    assert_eq!(summary.names.len(), 1);
    let held = setting.settle().await;
    assert_eq!((held.held, setting.authority_counts().0), (1, 0), "{:?}", setting.recorder.take());
    assert_eq!(setting.client_gets(API).await, Some(summary.sha256));
}

#[tokio::test(start_paused = true)]
async fn a_renewal_that_is_asked_for_is_made_once_and_shown_until_it_is() {
    let setting = Setting::new(Pace::default(), ONE);
    setting.settle().await;
    let first = setting.client_gets(API).await;
    setting.engine().await.certificates.request_renewal(&[FIRST]).await.unwrap();
    setting.break_or_mend(|faults| faults.authority.down = true);
    assert_eq!(setting.settle().await.failed, 1);
    let status = setting.status().await;
    let report = &status.hostnames[0].pins.certificate;
    assert_eq!((report.state, report.findings[0].code()), (PinState::Loose, Code::CertificateReplaced));
    let attempt = status.hostnames[0].last_attempt.as_ref().unwrap();
    assert_eq!((attempt.action.as_str(), attempt.ended), ("issue", AttemptEnd::Failed));
    assert_eq!(setting.client_gets(API).await, first, "the one that there is still answers");

    setting.break_or_mend(|faults| faults.authority.down = false);
    assert_eq!(setting.settle().await.held, 1);
    assert_ne!(setting.client_gets(API).await, first);
    assert_eq!(setting.settle().await.planned, 0, "it was asked for once");
}

#[tokio::test(start_paused = true)]
async fn a_revoked_certificate_is_replaced_and_a_compromised_key_is_not_used_again() {
    let setting = Setting::new(Pace::default(), ONE);
    setting.settle().await;
    let (first, key) = (setting.client_gets(API).await, exported(&setting, ExportForm::Key).await);
    // The authority is away: the wish to revoke outlives the command.
    setting.break_or_mend(|faults| faults.authority.down = true);
    let engine = setting.engine().await;
    let told = engine.certificates.revoke(&revocation(RevokeReason::KeyCompromise)).await.unwrap_err();
    assert_eq!(told.code(), Code::AuthorityUnreachable, "{told:?}");
    setting.break_or_mend(|faults| faults.authority.down = false);
    assert_eq!(setting.settle().await.held, 1, "{:?}", setting.recorder.take());
    assert_eq!(setting.revocations(), [false]);
    assert_ne!(setting.client_gets(API).await, first);
    assert_ne!(exported(&setting, ExportForm::Key).await, key);
    setting.settle().await;
    assert_eq!(setting.revocations(), [false], "it is revoked once");
}

/// What was begun with one key at one authority is not gone on with otherwise, and is not forgotten
/// where the authority is missing for a time.
#[tokio::test(start_paused = true)]
async fn a_revocation_goes_on_as_it_was_begun_and_reaches_former_certificates() {
    let setting = Setting::new(Pace::default(), ONE);
    setting.settle().await;
    let first = setting.client_gets(API).await.unwrap();
    let engine = setting.engine().await;
    engine.certificates.request_renewal(&[FIRST]).await.unwrap();
    setting.settle().await;
    let (second, digits) = (setting.client_gets(API).await, first.to_string());
    let own = RevocationRequest {
        former: Some(digits[..12].to_owned()),
        by: Some(RevocationKey::Certificate),
        ..revocation(RevokeReason::KeyCompromise)
    };
    let none = RevocationRequest { former: Some("0000".into()), ..own.clone() };
    assert_eq!(engine.certificates.revoke(&none).await.unwrap_err().code(), Code::CertificateMissing);
    setting.break_or_mend(|faults| faults.authority.down = true);
    let engine = setting.engine().await;
    assert_eq!(engine.certificates.revoke(&own).await.unwrap_err().code(), Code::AuthorityUnreachable);
    setting.break_or_mend(|faults| faults.authority.down = false);
    let row = setting.state.certificate_history(API).await.unwrap().swap_remove(1);
    let begun = row.revocation.clone().unwrap();
    let ask = async |revocation: pindrel_state::Revocation| {
        let change = |row: &mut pindrel_state::CertificateRow| row.revocation = Some(revocation.clone());
        setting.state.change_certificate(API, row.held.sha256, &change).await.unwrap();
    };
    ask(pindrel_state::Revocation { authority: "https://gone.example/".into(), ..begun.clone() }).await;
    setting.settle().await;
    assert!(setting.revocations().is_empty(), "nobody else is asked, and nothing is forgotten");
    ask(begun).await;
    setting.settle().await;
    assert_eq!(setting.revocations(), [true]);
    assert_eq!(setting.client_gets(API).await, second, "the present one stays");
    assert_eq!(setting.engine().await.certificates.details(API).await.unwrap().former[0].sha256, first);
    assert!(setting.engine().await.certificates.details(API).await.unwrap().former[0].revoked.is_some());
}

#[tokio::test(start_paused = true)]
async fn what_is_exported_is_what_is_served_and_each_form_holds_what_it_says() {
    let setting = Setting::new(Pace::default(), ONE);
    let missing = setting.engine().await.certificates.export(API, ExportForm::Chain, None).await.unwrap_err();
    assert_eq!(missing.code(), Code::CertificateMissing);
    setting.settle().await;
    for (form, certificates, keys) in [
        (ExportForm::Chain, 1, 0),
        (ExportForm::Leaf, 1, 0),
        (ExportForm::Intermediates, 0, 0),
        (ExportForm::Key, 0, 1),
        (ExportForm::Bundle, 1, 1),
    ] {
        let text = exported(&setting, form).await;
        let count = |of: &str| text.matches(&format!("-----BEGIN {of}-----")).count();
        assert_eq!((count("CERTIFICATE"), count("PRIVATE KEY")), (certificates, keys), "{form:?}");
    }
    let leaf = exported(&setting, ExportForm::Leaf).await;
    assert_eq!(Some(setting.fingerprint(&leaf)), setting.client_gets(API).await);
    let refused = setting.engine().await.certificates.export(API, ExportForm::Pkcs12, None).await.unwrap_err();
    assert!(refused.says().contains("password"), "{refused:?}");
    let reports = setting.engine().await.certificates.reports().await.unwrap();
    assert_eq!((reports.len(), reports[0].sha256), (1, setting.client_gets(API).await));
}

/// A command that cannot be started must not keep a client from the new certificate.
#[tokio::test(start_paused = true)]
async fn a_command_that_fails_blocks_no_endpoint_of_the_same_certificate() {
    let delivered = format!(
        "{ONE}certificate = \"own\"\n[certificate.own]\nnames = [\"{API}\"]\n\
         deliver = [{{ file = \"chain.pem\", holds = [\"leaf\"] }}]\nafter = [{{ run = [\"no-such-program\"] }}]\n"
    );
    let setting = Setting::new(Pace::default(), &delivered);
    let summary = setting.settle().await;
    assert_eq!((summary.held, summary.failed), (0, 1), "{summary:?}");
    let served = setting.client_gets(API).await;
    assert!(served.is_some(), "{:?}", setting.recorder.take());
    let written = std::fs::read_to_string(setting.folder().join("chain.pem")).unwrap();
    assert_eq!(Some(setting.fingerprint(&written)), served);
    let status = setting.status().await;
    assert_eq!(status.hostnames[0].pins.certificate.findings[0].code(), Code::CommandFailed);
    setting.pass(Duration::from_secs(60)).await;
    assert_eq!(setting.settle().await.failed, 1);
    assert_eq!(setting.authority_counts().2, 1, "no order is spent on a command");
}
