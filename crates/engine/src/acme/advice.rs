//! Renewal information: asked for when an authority may be asked, and no earlier
//! (RFC 9773).

use std::collections::{BTreeMap, HashSet};
use std::sync::Arc;

use futures::{StreamExt as _, stream};
use jiff::{SignedDuration, Timestamp};
use pindrel_acme::TransportError;
use pindrel_core::certificates::renewal::brake;
use pindrel_core::desired::{AuthorityId, CertificateId};
use pindrel_core::judging::findings::Finding;
use pindrel_state::CertificateRow;

use crate::acme::accounts::Accounts;
use crate::context::Context;
use crate::context::progress::seconds_from;
use crate::failure::{EngineError, state_failed, transport_failed};
use crate::home::certificates::Certificates;

/// How long an authority is not asked again that failed to advise (RFC 9773 §4.3.3).
const ASK_AGAIN_SECS: i64 = 6 * 3_600;

/// What authorities advise of when certificates are renewed (RFC 9773).
pub(crate) struct Advice {
    pub(crate) context: Arc<Context>,
    pub(crate) accounts: Arc<Accounts>,
    pub(crate) certificates: Arc<Certificates>,
}

impl Advice {
    /// Asks for advice on the certificates of the manifest for which it is time; returns
    /// the certificates that are due, or whose advice has changed.
    pub(crate) async fn take(&self) -> Result<HashSet<CertificateId>, EngineError> {
        let now = self.context.clock.now();
        let due = self.due_certificates(now).await?;
        let mut to_ask: BTreeMap<AuthorityId, Vec<(CertificateId, CertificateRow)>> = BTreeMap::new();
        for id in due.iter().copied() {
            let wanted = self.context.desired.certificate(id);
            let Some(row) = self.context.state.certificate(&wanted.name).await? else { continue };
            let same = wanted.authority.filter(|authority| {
                self.context.desired.authority(*authority).directory.as_str() == row.held.authority
            });
            let may_ask = row.advice_at().is_some_and(|at| at <= now) && row.held.not_after > now;
            if let (Some(authority), true) = (same, may_ask) {
                to_ask.entry(authority).or_default().push((id, row));
            }
        }
        for (authority, rows) in to_ask {
            if let Err(finding) = self.ask_all(authority, rows).await {
                // Without advice the manifest's rule holds: nothing stops for want of it.
                let name = &self.context.desired.authority(authority).name;
                self.context.note(format!("{name} returned no renewal information: {}", finding.says()));
            }
        }
        Ok(due)
    }

    async fn ask_all(&self, id: AuthorityId, rows: Vec<(CertificateId, CertificateRow)>) -> Result<(), Finding> {
        let authority = self.accounts.authority(id).await?;
        if !authority.advises() {
            return Ok(());
        }
        let asked = stream::iter(rows).map(|(certificate, row)| {
            let authority = authority.clone();
            async move {
                let renewal_id = row.held.renewal_id.clone().unwrap_or_default();
                (certificate, row, authority.renewal_info(&renewal_id).await)
            }
        });
        let mut asked = asked.buffer_unordered(self.context.bounds.at_once);
        let mut refused = None;
        while let Some((certificate, row, answer)) = asked.next().await {
            let window = match answer {
                Ok(window) => window,
                // What is wrong with one certificate says nothing of the others.
                Err(error @ (TransportError::Refused { .. } | TransportError::Malformed { .. })) => {
                    let finding = transport_failed(error);
                    let again =
                        finding.again().at().unwrap_or_else(|| seconds_from(self.context.clock.now(), ASK_AGAIN_SECS));
                    self.certificates.change(&row, &|row| row.ask_again = Some(again)).await?;
                    refused.get_or_insert(finding);
                    continue;
                }
                // The first that fails stands for all: an authority that is down is not asked
                // a thousand times.
                Err(error) => return Err(transport_failed(error)),
            };
            let life = row.held.not_after.as_second() - row.held.not_before.as_second();
            let replaced = self.replaced_on_advice(&row).await?;
            let (window, rule) =
                (brake(window, life, row.kept, replaced), self.context.desired.certificate(certificate).terms.renewal);
            let advised = |row: &mut CertificateRow| {
                (row.held.window, row.ask_again) = (Some(window.clone()), None);
                row.renew_at = row.held.due_at(rule);
            };
            if let Some(row) = self.certificates.change(&row, &advised).await? {
                self.certificates.know(certificate, row).await;
            }
        }
        refused.map_or(Ok(()), Err)
    }

    /// How old the certificate before a present one was when it was replaced, if that was on its
    /// authority's advice alone.
    async fn replaced_on_advice(&self, row: &CertificateRow) -> Result<Option<SignedDuration>, Finding> {
        let history = self.context.state.certificate_history(&row.name).await.map_err(state_failed)?;
        let before = history.into_iter().nth(1).filter(|before| before.held.replace.is_none());
        let advised = before.filter(|before| before.held.window.as_ref().is_some_and(|own| own.start <= row.kept));
        Ok(advised.map(|before| row.kept.duration_since(before.kept)))
    }

    /// The certificates of the manifest that are due or have advice to be asked for.
    pub(crate) async fn due_certificates(&self, now: Timestamp) -> Result<HashSet<CertificateId>, EngineError> {
        let names: HashSet<String> = self.context.state.due_certificates(now).await?.into_iter().collect();
        let due = |id: &CertificateId| names.contains(&self.context.desired.certificate(*id).name);
        Ok(if names.is_empty() { HashSet::new() } else { self.context.desired.certificate_ids().filter(due).collect() })
    }
}
