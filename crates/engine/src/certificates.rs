//! What a person does with certificates: look at them, bring them in and out, have them
//! replaced or revoked.

use std::collections::HashMap;

use jiff::Timestamp;
use pindrel_acme::RequestSigner;
use pindrel_core::delivery::{Contents, Piece};
use pindrel_core::desired::CertificateId;
use pindrel_core::facts::{HeldCertificate, KEY_COMPROMISED, Origin};
use pindrel_core::name::Hostname;
use pindrel_core::pins::PinReport;
use pindrel_core::values::{Fingerprint, KeyKind};
use pindrel_keys::bundle::{Bundle, BundleError, LooseFile, pkcs12};
use pindrel_keys::{CertificateKey, Chain, ChainError, Details, details, pem};
use pindrel_state::{CertificateRow, CommandRun, Moment, OrderEnd, SigningRequestRow};
use secrecy::{ExposeSecret as _, SecretString};
use serde::Serialize;
use zeroize::Zeroizing;

use crate::Engine;
use crate::account::Signing;
use crate::carry::key_row;
use crate::deliver::{chain_of, pem_of, replace_file};
use crate::error::{EngineError, StepFailure};
use crate::issue::held_of;

/// One certificate in the list.
#[derive(Debug, Clone, PartialEq)]
pub struct CertificateReport {
    /// Its name in the manifest.
    pub name: String,
    /// Whether the manifest still names it.
    pub in_manifest: bool,
    /// The names it covers; the wanted ones where there is none yet.
    pub names: Vec<String>,
    /// The name of its authority in the manifest, or who else issues it.
    pub from: String,
    /// The kind of its key.
    pub key: Option<KeyKind>,
    /// Of the leaf.
    pub sha256: Option<Fingerprint>,
    /// Until when it is valid.
    pub expires: Option<Timestamp>,
    /// How much of its life is over, from 0 to 1.
    pub used_share: Option<f32>,
    /// When it is due.
    pub renew_at: Option<Timestamp>,
    /// The judgement, as the pin `certificate` has it.
    pub report: Option<PinReport>,
    /// How the last order ended.
    pub last: Option<OrderEnd>,
    /// Where it is used.
    pub used: Vec<CertificateUse>,
    /// Words to filter by.
    pub labels: Vec<String>,
    /// A note for people.
    pub note: Option<String>,
}

/// Where a certificate is used.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum CertificateUse {
    /// By a hostname at an endpoint.
    Hostname {
        /// The hostname.
        hostname: String,
        /// The endpoint's name in the manifest.
        endpoint: String,
    },
    /// In a file.
    File(String),
}

impl std::fmt::Display for CertificateUse {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            CertificateUse::Hostname { hostname, endpoint } => write!(f, "{hostname} at {endpoint}"),
            CertificateUse::File(path) => f.write_str(path),
        }
    }
}

/// All that is known of one certificate.
#[derive(Debug, Clone)]
pub struct CertificateDetails {
    /// As in the list.
    pub report: CertificateReport,
    /// What each certificate of the chain says, leaf first.
    pub chain: Vec<Details>,
    /// The root that the chain leads to.
    pub root: Option<String>,
    /// What the authority advised last.
    pub window: Option<pindrel_core::renewal::RenewalWindow>,
    /// When it was revoked.
    pub revoked: Option<Timestamp>,
    /// How the commands went that follow it.
    pub commands: Vec<CommandRun>,
    /// Those before it, the newest first.
    pub former: Vec<PastCertificate>,
}

/// A certificate that another one took the place of.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct PastCertificate {
    /// Of the leaf.
    pub sha256: Fingerprint,
    /// From when it was valid.
    pub not_before: Timestamp,
    /// Until when it was valid.
    pub not_after: Timestamp,
    /// When it was kept.
    pub kept: Timestamp,
    /// When it was revoked.
    pub revoked: Option<Timestamp>,
}

/// Why a certificate is revoked (RFC 5280 §5.3.1).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[expect(missing_docs, reason = "the names are the standard's own")]
pub enum RevokeReason {
    Unspecified,
    KeyCompromise,
    AffiliationChanged,
    Superseded,
    CessationOfOperation,
}

impl RevokeReason {
    fn code(self) -> u8 {
        match self {
            RevokeReason::Unspecified => 0,
            RevokeReason::KeyCompromise => 1,
            RevokeReason::AffiliationChanged => 3,
            RevokeReason::Superseded => 4,
            RevokeReason::CessationOfOperation => 5,
        }
    }
}

/// Which key signs a revocation (RFC 8555 §7.6).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum RevocationKey {
    /// The account's.
    Account,
    /// The certificate's own.
    Certificate,
}

/// In which form a certificate is taken out.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ExportForm {
    /// Leaf and intermediates in PEM.
    Chain,
    /// The leaf alone in PEM.
    Leaf,
    /// The intermediates alone in PEM.
    Intermediates,
    /// The private key in PEM.
    Key,
    /// Key, leaf and intermediates in PEM.
    Bundle,
    /// Key and chain as PKCS#12.
    Pkcs12,
}

impl ExportForm {
    /// Returns what is in it.
    pub fn contents(self) -> Contents {
        Contents::Pem(match self {
            ExportForm::Chain => vec![Piece::Leaf, Piece::Intermediates],
            ExportForm::Leaf => vec![Piece::Leaf],
            ExportForm::Intermediates => vec![Piece::Intermediates],
            ExportForm::Key => vec![Piece::Key],
            ExportForm::Bundle => vec![Piece::Key, Piece::Leaf, Piece::Intermediates],
            ExportForm::Pkcs12 => return Contents::Pkcs12,
        })
    }
}

/// What came of bringing a certificate in.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ImportSummary {
    /// Of the leaf.
    pub sha256: Fingerprint,
    /// The names it covers.
    pub names: Vec<Hostname>,
    /// Until when it is valid.
    pub not_after: Timestamp,
    /// How many certificates the chain has.
    pub chain_length: usize,
    /// What was left out, each as a sentence.
    pub left_out: Vec<String>,
}

impl Engine {
    /// Returns all certificates: those of the manifest in its order, then those that it
    /// no longer names.
    ///
    /// # Errors
    /// [`EngineError`] when the state cannot be read.
    pub fn certificate_reports(&self) -> Result<Vec<CertificateReport>, EngineError> {
        let now = Timestamp::now();
        let mut rows: HashMap<String, CertificateRow> =
            self.state.certificates()?.into_iter().map(|row| (row.name.clone(), row)).collect();
        let mut uses: HashMap<CertificateId, Vec<CertificateUse>> = HashMap::new();
        for wanted in &self.desired.hostnames {
            let endpoint = self.desired.endpoint(wanted.endpoint).name.clone();
            let hostname = wanted.hostname.to_string();
            uses.entry(wanted.certificate).or_default().push(CertificateUse::Hostname { hostname, endpoint });
        }
        let mut reports = Vec::with_capacity(self.desired.certificates.len());
        for id in self.desired.certificate_ids() {
            let wanted = self.desired.certificate(id);
            let row = rows.remove(&wanted.name);
            self.remember_certificate(id)?;
            let mut used = uses.remove(&id).unwrap_or_default();
            let files = wanted.terms.deliveries.iter().map(|delivery| delivery.file.display().to_string());
            used.extend(files.map(CertificateUse::File));
            let from = match wanted.authority {
                Some(authority) => self.desired.authority(authority).name.clone(),
                None => in_words(wanted.terms.issued_by),
            };
            reports.push(CertificateReport {
                name: wanted.name.clone(),
                in_manifest: true,
                names: wanted.names.iter().map(ToString::to_string).collect(),
                from,
                report: Some(self.judge_certificate(id, now)),
                last: self.state.last_order(&wanted.name)?,
                used,
                labels: wanted.terms.labels.clone(),
                note: wanted.terms.note.clone(),
                ..of_row(row.as_ref(), wanted.terms.renewal, now)
            });
        }
        let mut left: Vec<CertificateRow> = rows.into_values().collect();
        left.sort_by(|one, other| one.name.cmp(&other.name));
        for row in left {
            let last = self.state.last_order(&row.name)?;
            reports.push(CertificateReport { last, ..of_row(Some(&row), Default::default(), now) });
        }
        Ok(reports)
    }

    /// Returns all that is known of one certificate.
    ///
    /// # Errors
    /// [`StepFailure`] when there is none of that name, or the state cannot be read.
    pub fn certificate_details(&self, name: &str) -> Result<CertificateDetails, StepFailure> {
        let report = self.certificate_reports()?.into_iter().find(|report| report.name == name);
        let report = report.ok_or_else(|| unknown(name))?;
        let mut history = self.state.certificate_history(name)?.into_iter();
        let present = history.next();
        let former = history.map(|row| PastCertificate {
            sha256: row.held.sha256,
            not_before: row.held.not_before,
            not_after: row.held.not_after,
            kept: row.kept,
            revoked: row.revoked,
        });
        let former = former.collect();
        let chain = present.as_ref().map(chain_of).transpose()?;
        let read = chain.iter().flat_map(Chain::certificates).filter_map(|certificate| details(certificate).ok());
        Ok(CertificateDetails {
            chain: read.collect(),
            root: chain.as_ref().map(Chain::root_name),
            window: present.as_ref().and_then(|row| row.held.window.clone()),
            revoked: present.as_ref().and_then(|row| row.revoked),
            commands: self.state.command_runs(name)?,
            former,
            report,
        })
    }

    /// Marks certificates to be replaced by the next settle, whether or not they are due.
    ///
    /// # Errors
    /// [`StepFailure`] when one is not there, or is not Pindrel's to renew.
    pub fn ask_for_renewal(&self, ids: &[CertificateId]) -> Result<(), StepFailure> {
        for id in ids {
            let wanted = self.desired.certificate(*id);
            if wanted.terms.issued_by == Origin::Elsewhere {
                let says = format!("the certificate \"{}\" is bought elsewhere", wanted.name);
                let remedy = format!("make a signing request with: pindrel cert request {}", wanted.name);
                return Err(StepFailure::new(says, remedy));
            }
            // One that is not there yet is issued by the settle that follows.
            if let Some(row) = self.state.certificate(&wanted.name)? {
                self.replace(*id, row, "a new one was asked for")?;
            }
        }
        Ok(())
    }

    /// Marks a certificate to be replaced by the next settle.
    fn replace(&self, id: CertificateId, mut row: CertificateRow, why: &str) -> Result<(), StepFailure> {
        if row.held.replace.as_deref() != Some(KEY_COMPROMISED) {
            row.held.replace = Some(why.to_owned());
        }
        row.renew_at = row.held.due_at(self.desired.certificate(id).terms.renewal);
        self.state.update_certificate(&row)?;
        self.take_in(id, row)
    }

    /// Revokes the present certificate of a name, and marks it to be replaced unless told
    /// otherwise; after a key compromise the next one always has a new key.
    ///
    /// # Errors
    /// [`StepFailure`].
    pub async fn revoke(
        &self,
        id: CertificateId,
        reason: RevokeReason,
        by: RevocationKey,
        replace: bool,
    ) -> Result<Fingerprint, StepFailure> {
        let wanted = self.desired.certificate(id);
        let mut row = self.state.certificate(&wanted.name)?.ok_or_else(|| unknown(&wanted.name))?;
        // Known before the authority hears of it: what is stopped half-way is gone on with,
        // and a compromised key is never used again.
        row.revoking = Some(reason.code());
        if reason == RevokeReason::KeyCompromise {
            row.held.replace = Some(KEY_COMPROMISED.into());
        } else if replace {
            row.held.replace = Some("it was revoked".into());
        }
        row.renew_at = row.held.due_at(wanted.terms.renewal);
        self.state.update_certificate(&row)?;
        let sha256 = row.held.sha256;
        self.revoke_row(row.clone(), by).await?;
        row.revoking = None;
        self.take_in(id, row)?;
        Ok(sha256)
    }

    /// Asks the authority to revoke, and notes that it has; one that is revoked already is
    /// as good.
    async fn revoke_row(&self, mut row: CertificateRow, by: RevocationKey) -> Result<(), StepFailure> {
        let directory = row.held.authority.clone();
        let authority = self.desired.authorities.iter().position(|authority| authority.directory.as_str() == directory);
        let Some(authority) = authority.filter(|_| row.held.origin == Origin::Authority) else {
            row.revoking = None;
            self.state.update_certificate(&row)?;
            let says = format!("the certificate \"{}\" is from no authority of the manifest", row.name);
            return Err(StepFailure::new(says, "have it revoked where it was issued"));
        };
        let authority = pindrel_core::desired::AuthorityId(authority as u32);
        let (chain, key) = self.chain_and_key(&row)?;
        let leaf = &chain.certificates()[0];
        let reason = row.revoking.unwrap_or(0);
        self.journal(Moment::Begun, "certificate-revoke", row.name.clone(), row.held.sha256.to_string())?;
        match by {
            RevocationKey::Account => {
                let account = self.account(authority).await?;
                account.authority.revoke(&Signing(&account.key), Some(&account.url), leaf, reason).await?;
            }
            RevocationKey::Certificate => {
                let connected = self.world.authority(&self.desired, authority).await?;
                let signer = key.request_signer()?;
                let signer: &dyn RequestSigner = &Signing(&signer);
                connected.revoke(signer, None, leaf, reason).await?;
            }
        }
        (row.revoked, row.revoking) = (Some(Timestamp::now()), None);
        self.state.update_certificate(&row)?;
        self.journal(Moment::Ended, "certificate-revoke", row.name.clone(), row.held.sha256.to_string())
    }

    /// Goes on with revocations that an earlier run did not see confirmed.
    pub(crate) async fn finish_revocations(&self) -> Result<(), EngineError> {
        for row in self.state.certificates_to_revoke()? {
            let name = row.name.clone();
            if let Err(failure) = self.revoke_row(row, RevocationKey::Account).await {
                let says = format!("the certificate \"{name}\" is still to be revoked: {}", failure.says);
                self.listener.on(crate::Event::Note { says });
            }
        }
        Ok(())
    }

    /// Makes a key and a signing request for a certificate that is bought; the key stays
    /// sealed in the state. Returns the request in PEM.
    ///
    /// # Errors
    /// [`StepFailure`].
    pub fn request(&self, id: CertificateId) -> Result<String, StepFailure> {
        let wanted = self.desired.certificate(id);
        let present = self.state.certificate(&wanted.name)?;
        let kept = present.filter(|row| {
            wanted.terms.reuse_key && row.held.key.is_some() && row.held.replace.as_deref() != Some(KEY_COMPROMISED)
        });
        let waiting = self.state.signing_request(&wanted.name)?.filter(|row| row.names == wanted.names);
        let key = match (waiting, kept) {
            // Asking twice gives the same key: the seller may have the first request already.
            (Some(row), _) => {
                let key = self.vault.unseal(&request_row(&wanted.name), &row.key)?;
                CertificateKey::from_pkcs8(key.expose_secret())?
            }
            (None, Some(row)) => self.certificate_key(&row)?,
            (None, None) => CertificateKey::generate(wanted.terms.key)?,
        };
        let row = SigningRequestRow {
            certificate: wanted.name.clone(),
            names: wanted.names.clone(),
            at: Timestamp::now(),
            key: self.vault.seal(&request_row(&wanted.name), key.pkcs8())?,
        };
        self.state.keep_signing_request(&row)?;
        Ok(pem::encode("CERTIFICATE REQUEST", &key.signing_request(&wanted.names)?))
    }

    /// Brings a certificate in out of loose files, checked against the manifest.
    ///
    /// # Errors
    /// [`StepFailure`] says which file is wrong and why.
    pub fn import(
        &self,
        id: CertificateId,
        files: &[LooseFile],
        password: Option<&SecretString>,
    ) -> Result<ImportSummary, StepFailure> {
        let wanted = self.desired.certificate(id);
        let waiting = self.state.signing_request(&wanted.name)?;
        let present = self.state.certificate(&wanted.name)?;
        let held = match (&waiting, &present) {
            (Some(row), _) => {
                let key = self.vault.unseal(&request_row(&wanted.name), &row.key)?;
                Some(("the signing request", CertificateKey::from_pkcs8(key.expose_secret())?))
            }
            (None, Some(row)) => Some(("the state", self.certificate_key(row)?)),
            (None, None) => None,
        };
        let lent = held.as_ref().map(|(place, key)| (*place, key));
        let bundle = Bundle::assemble(files, lent, password).map_err(|error| refused(&error))?;
        let Bundle { chain, key, left_out } = bundle;
        let key = key.or(held.map(|(_, key)| key)).ok_or_else(|| {
            StepFailure::new(
                format!("no private key for \"{}\" is among the files or in the state", wanted.name),
                "give the file of the private key too",
            )
        })?;
        let roots = match wanted.authority {
            Some(authority) => self.world.issued_roots(&self.desired, authority)?,
            None => self.world.bought_roots(wanted.terms.issued_roots.as_ref())?,
        };
        let shown = files.iter().map(|file| file.name.as_str()).collect::<Vec<_>>().join(", ");
        chain.verify(&key.public_key(), &wanted.names, &roots, Timestamp::now()).map_err(|error| {
            let remedy = match &error {
                ChainError::IntermediateMissing(name) => {
                    format!(
                        "give the file of the intermediate certificate \"{name}\" too, or name its root in issued_roots"
                    )
                }
                ChainError::NameMissing(_) => "buy one for all names, or take the name out of the manifest".into(),
                _ => "have it issued anew".into(),
            };
            StepFailure::new(format!("the certificate in {shown} cannot be used: {error}"), remedy)
        })?;
        self.journal(Moment::Begun, "certificate-import", wanted.name.clone(), chain.fingerprint().to_string())?;
        let brought = ImportSummary {
            sha256: chain.fingerprint(),
            names: chain.names().to_vec(),
            not_after: chain.leaf().not_after,
            chain_length: chain.certificates().len(),
            left_out,
        };
        let kind = key.request_signer().ok().map(|key| key.kind());
        let held = held_of(&chain, Origin::Elsewhere, String::new(), kind);
        let sealed = self.vault.seal(&key_row(&wanted.name, ""), key.pkcs8())?;
        self.keep_issued(id, held, &chain, sealed, 0)?;
        self.state.forget_signing_request(&wanted.name)?;
        self.journal(Moment::Ended, "certificate-import", wanted.name.clone(), brought.sha256.to_string())?;
        Ok(brought)
    }

    /// Takes a certificate out.
    ///
    /// # Errors
    /// [`StepFailure`].
    pub fn export(
        &self,
        name: &str,
        form: ExportForm,
        password: Option<&SecretString>,
    ) -> Result<Zeroizing<Vec<u8>>, StepFailure> {
        let row = self.state.certificate(name)?.ok_or_else(|| unknown(name))?;
        let (chain, key) = self.chain_and_key(&row)?;
        match form.contents() {
            Contents::Pem(pieces) => Ok(pem_of(&pieces, &chain, &key)),
            Contents::Pkcs12 => {
                let password = password.ok_or_else(|| {
                    StepFailure::new(
                        "a PKCS#12 file needs a password",
                        "give one with --password env:NAME or file:PATH",
                    )
                })?;
                let alias = row.held.names.first().map_or(name, Hostname::as_str);
                let made = pkcs12(&chain, &key, alias, password);
                made.map(Zeroizing::new).map_err(|error| StepFailure::new(error.to_string(), "report this fault"))
            }
        }
    }

    /// Writes what was taken out to a file, replacing an old one as a whole.
    ///
    /// # Errors
    /// [`StepFailure`].
    pub fn write_export(path: &std::path::Path, bytes: &[u8], form: ExportForm) -> Result<(), StepFailure> {
        replace_file(path, bytes, form.contents().usual_mode().bits(), (None, None)).map_err(|error| {
            let says = format!("{} cannot be written: {}", path.display(), crate::secrets::plain(&error));
            StepFailure::new(says, "see that its folder exists and this user may write there")
        })
    }
}

fn of_row(row: Option<&CertificateRow>, rule: pindrel_core::renewal::RenewalRule, now: Timestamp) -> CertificateReport {
    let held = row.map(|row| &row.held);
    let share = |held: &HeldCertificate| {
        let life = (held.not_after.as_second() - held.not_before.as_second()).max(1);
        let used = now.as_second() - held.not_before.as_second();
        (used as f32 / life as f32).clamp(0.0, 1.0)
    };
    CertificateReport {
        name: row.map_or_else(String::new, |row| row.name.clone()),
        in_manifest: false,
        names: held.map_or_else(Vec::new, |held| held.names.iter().map(ToString::to_string).collect()),
        from: held.map_or_else(String::new, |held| in_words(held.origin)),
        key: held.and_then(|held| held.key),
        sha256: held.map(|held| held.sha256),
        expires: held.map(|held| held.not_after),
        used_share: held.map(share),
        renew_at: held.map(|held| held.due_at(rule)),
        report: None,
        last: None,
        used: Vec::new(),
        labels: Vec::new(),
        note: None,
    }
}

fn in_words(origin: Origin) -> String {
    match origin {
        Origin::Authority => "an authority".into(),
        Origin::Elsewhere => "elsewhere".into(),
        Origin::SelfSigned => "self-signed".into(),
    }
}

fn unknown(name: &str) -> StepFailure {
    StepFailure::new(format!("there is no certificate \"{name}\""), "see the names with: pindrel cert list")
}

fn refused(error: &BundleError) -> StepFailure {
    let remedy = match error {
        BundleError::Unusable { .. } => "leave that file out, or give the right one",
        BundleError::Protected { .. } => "give its password with --password env:NAME or file:PATH",
        BundleError::NoLeaf(_) => "give the file of the server's certificate too",
        BundleError::SeveralLeaves(_) => "give the files of one certificate only, or its private key too",
        BundleError::SeveralKeys(_) => "give one private key only",
        BundleError::OtherKey { .. } => "give the certificate that belongs to this key, or the key that belongs to it",
        _ => "have it issued anew",
    };
    StepFailure::new(error.to_string(), remedy)
}

/// The row that the key of a signing request is sealed for.
fn request_row(name: &str) -> String {
    format!("signing request/{name}")
}
