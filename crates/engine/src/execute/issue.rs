//! Having a certificate issued, or making a self-signed one.

use std::collections::BTreeSet;
use std::sync::Arc;

use pindrel_core::desired::{CertificateId, EndpointId, WantedHostname};
use pindrel_core::judging::facts::Origin;
use pindrel_core::judging::findings::{CertificateCause, EndpointCause, Finding};
use pindrel_keys::Chain;
use pindrel_state::Claim;

use crate::acme::orders::{OrderRequest, Orders};
use crate::context::Context;
use crate::context::progress::Progress;
use crate::failure::{internal, key_failed, seal_failed};
use crate::home::certificates::{Certificates, held_of};
use crate::home::keys::key_row;
use crate::observe::certificate::DeliveryObserver;

/// How long a self-signed certificate is valid, in days.
const SELF_SIGNED_DAYS: i64 = 30;

/// The step that issues a certificate.
pub(crate) struct Issuer {
    pub(crate) context: Arc<Context>,
    pub(crate) certificates: Arc<Certificates>,
    pub(crate) deliveries: Arc<DeliveryObserver>,
    pub(crate) orders: Arc<Orders>,
}

impl Issuer {
    pub(crate) async fn issue(&self, id: CertificateId, claim: &Claim) -> Result<Progress, Finding> {
        match self.context.desired.certificate(id).authority {
            Some(authority) => {
                self.require_ready(id).await?;
                self.orders.order(&OrderRequest { certificate: id, authority, rehearsal: false }, claim).await
            }
            None => self.sign_itself(id, claim).await.map(|()| Progress::Done),
        }
    }

    /// Refuses to spend a first certificate where this machine could not take it: its servers, or the place where it
    /// is delivered.
    async fn require_ready(&self, id: CertificateId) -> Result<(), Finding> {
        if self.context.held_certificate(id).is_some() {
            return Ok(());
        }
        let desired = &self.context.desired;
        let users = desired.hostnames.iter().filter(|wanted| wanted.certificate == id);
        let endpoints: BTreeSet<EndpointId> = users.flat_map(WantedHostname::endpoints).collect();
        // Where an endpoint uses it too, a fault of its files keeps no client from it.
        if endpoints.is_empty()
            && let Some(obstacle) = self.deliveries.obstacles(id).into_iter().next()
        {
            return Err(obstacle);
        }
        for endpoint in endpoints.into_iter().map(|id| desired.endpoint(id)).filter(|own| own.is_on_this_machine()) {
            let platform = self.context.drivers.platform(endpoint)?;
            if let Some(unready) = platform.unready().await.into_iter().next() {
                return Err(Finding::endpoint(&endpoint.name, EndpointCause::Unready(unready)));
            }
        }
        Ok(())
    }

    /// Makes a self-signed certificate, for a first bring-up.
    async fn sign_itself(&self, id: CertificateId, claim: &Claim) -> Result<(), Finding> {
        let wanted = self.context.desired.certificate(id);
        if wanted.terms.issued_by != Origin::SelfSigned {
            return Err(Finding::certificate(wanted, CertificateCause::IssuedElsewhere { import: true }));
        }
        let key = self.context.drivers.keys().certificate_key(wanted.terms.key).await.map_err(key_failed)?;
        let pem = key.self_signed(&wanted.names, self.context.clock.now(), SELF_SIGNED_DAYS).map_err(key_failed)?;
        let chain = Chain::from_pem(&pem).map_err(|error| internal(error.to_string()))?;
        let held = held_of(&chain, Origin::SelfSigned, String::new(), Some(wanted.terms.key));
        let sealed = self.context.vault.seal(&key_row(&wanted.name, ""), key.pkcs8()).map_err(seal_failed)?;
        self.certificates.persist(claim, id, held, &chain, sealed, 0).await
    }
}
