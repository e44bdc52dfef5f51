//! All certificates: those of the manifest, and those that it no longer names.

use std::collections::HashMap;

use jiff::Timestamp;
use pindrel_core::desired::{CertificateId, HostnameId};
use pindrel_core::judging::facts::{HeldCertificate, HostnameKnowledge, Knowledge, Origin};
use pindrel_core::judging::pins::{Known, PinReport, PinState};
use pindrel_core::values::{Fingerprint, KeyKind};
use pindrel_state::{CertificateRow, HostnameRow, OrderEnd};
use serde::Serialize;

use crate::failure::EngineError;
use crate::requests::certificates::CertificateRequests;
use crate::run::attempts::LastAttempt;

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
    /// When it was revoked.
    pub revoked: Option<Timestamp>,
    /// When it is due, where the manifest names it.
    pub renew_at: Option<Timestamp>,
    /// The judgement, as the pin `certificate` has it.
    pub report: Option<PinReport>,
    /// How the last order ended.
    pub last: Option<OrderEnd>,
    /// The last attempt at anything that it needs; one that did not succeed comes first.
    pub last_attempt: Option<LastAttempt>,
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

impl CertificateReport {
    /// Says whether it is there for nothing: no longer named by the manifest, and still trusted.
    pub fn is_left_over(&self) -> bool {
        !self.in_manifest && self.revoked.is_none()
    }
}

impl std::fmt::Display for CertificateUse {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            CertificateUse::Hostname { hostname, endpoint } => write!(f, "{hostname} at {endpoint}"),
            CertificateUse::File(path) => f.write_str(path),
        }
    }
}

impl CertificateRequests {
    /// Returns all certificates: those of the manifest in its order, then those that it
    /// no longer names.
    ///
    /// # Errors
    /// [`EngineError`] when the state cannot be read.
    pub async fn reports(&self) -> Result<Vec<CertificateReport>, EngineError> {
        let now = self.context.clock.now();
        let mut rows: HashMap<String, CertificateRow> =
            self.context.state.certificates().await?.into_iter().map(|row| (row.name.clone(), row)).collect();
        let mut users: HashMap<CertificateId, Vec<HostnameId>> = HashMap::new();
        for id in self.context.desired.hostname_ids() {
            users.entry(self.context.desired.hostname(id).certificate).or_default().push(id);
        }
        let ids: Vec<CertificateId> = self.context.desired.certificate_ids().collect();
        let mut attempts = self.attempts.last_of_certificates(&ids).await?;
        let mut reports = Vec::with_capacity(ids.len());
        for id in ids {
            let row = rows.remove(&self.context.desired.certificate(id).name);
            let users = users.remove(&id).unwrap_or_default();
            reports.push(self.certificate_report(id, row.as_ref(), &users, attempts.remove(&id), now).await?);
        }
        let mut left: Vec<CertificateRow> = rows.into_values().collect();
        left.sort_by(|one, other| one.name.cmp(&other.name));
        for row in left {
            let last = self.context.state.last_order(&row.name).await?;
            let authority = self.context.desired.authority_at(&row.held.authority);
            let mut report = CertificateReport { last, renew_at: None, ..of_row(Some(&row), Default::default(), now) };
            if let Some(authority) = authority.filter(|_| row.held.origin == Origin::Authority) {
                report.from = self.context.desired.authority(authority).name.clone();
            }
            reports.push(report);
        }
        Ok(reports)
    }

    /// Says whether a certificate is kept under this name, whether or not the manifest names it.
    ///
    /// # Errors
    /// [`EngineError`] when the state cannot be read.
    pub async fn keeps(&self, name: &str) -> Result<bool, EngineError> {
        Ok(self.context.state.certificate(name).await?.is_some())
    }

    /// Reports on some certificates that no hostname uses.
    pub(crate) async fn unused_certificate_reports(
        &self,
        ids: &[CertificateId],
        now: Timestamp,
    ) -> Result<Vec<CertificateReport>, EngineError> {
        let mut attempts = self.attempts.last_of_certificates(ids).await?;
        let mut reports = Vec::with_capacity(ids.len());
        for id in ids {
            let row = self.context.state.certificate(&self.context.desired.certificate(*id).name).await?;
            reports.push(self.certificate_report(*id, row.as_ref(), &[], attempts.remove(id), now).await?);
        }
        Ok(reports)
    }

    async fn certificate_report(
        &self,
        id: CertificateId,
        row: Option<&CertificateRow>,
        users: &[HostnameId],
        last_attempt: Option<LastAttempt>,
        now: Timestamp,
    ) -> Result<CertificateReport, EngineError> {
        let wanted = self.context.desired.certificate(id);
        self.certificates.load(id).await?;
        let mut used: Vec<CertificateUse> = users.iter().map(|user| self.use_by(*user)).collect();
        let files = wanted.terms.deliveries.iter().map(|delivery| delivery.file.display().to_string());
        used.extend(files.map(CertificateUse::File));
        let from = match wanted.authority {
            Some(authority) => self.context.desired.authority(authority).name.clone(),
            None => in_words(wanted.terms.issued_by),
        };
        let kept = of_row(row, wanted.terms.renewal, now);
        let report = match wanted.terms.issued_by {
            Origin::Platform => self.judge_issued(users, now).await?,
            _ => None,
        };
        let report = report.unwrap_or_else(|| self.context.judge_certificate(id, now));
        Ok(CertificateReport {
            name: wanted.name.clone(),
            in_manifest: true,
            names: wanted.names.iter().map(ToString::to_string).collect(),
            from,
            sha256: kept.sha256.or(report.sha256),
            expires: kept.expires.or(report.expires),
            report: Some(report),
            last: self.context.state.last_order(&wanted.name).await?,
            last_attempt,
            used,
            labels: wanted.terms.labels.clone(),
            note: wanted.terms.note.clone(),
            ..kept
        })
    }

    fn use_by(&self, user: HostnameId) -> CertificateUse {
        let wanted = self.context.desired.hostname(user);
        let endpoint = self.context.desired.endpoint(wanted.first_endpoint()).name.clone();
        CertificateUse::Hostname { hostname: wanted.hostname.to_string(), endpoint }
    }

    /// Judges what platforms issue for some hostnames by what was seen of them last: the first that is not held, or
    /// the one that expires first.
    async fn judge_issued(&self, users: &[HostnameId], now: Timestamp) -> Result<Option<PinReport>, EngineError> {
        let mut knowledge = Knowledge::default();
        for id in users {
            if let Some(row) = self.context.state.hostname(&self.context.desired.hostname(*id).hostname).await? {
                let HostnameRow { facts, ownership, .. } = row;
                knowledge.hostnames.insert(*id, HostnameKnowledge { facts, ownership });
            }
        }
        let reports =
            users.iter().map(|id| Known::about(&self.context.desired, &knowledge, *id).judge_certificate(now));
        Ok(reports.min_by_key(|report| (report.state == PinState::Held, report.expires.is_none(), report.expires)))
    }
}

impl CertificateReport {
    /// Says whether the manifest names it and it is held.
    pub fn is_held(&self) -> bool {
        self.report.as_ref().is_some_and(|report| report.state == PinState::Held)
    }
}

fn of_row(
    row: Option<&CertificateRow>,
    rule: pindrel_core::certificates::renewal::RenewalRule,
    now: Timestamp,
) -> CertificateReport {
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
        revoked: held.and_then(|held| held.revoked),
        renew_at: held.map(|held| held.due_at(rule)),
        report: None,
        last: None,
        last_attempt: None,
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
        Origin::Platform => "its platform".into(),
    }
}
