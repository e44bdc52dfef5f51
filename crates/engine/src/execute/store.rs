//! Putting a certificate into the store that an endpoint takes certificates from.

use pindrel_core::desired::{CertificateId, EndpointId};
use pindrel_core::endpoints::endpoint::EndpointInfo;
use pindrel_core::judging::findings::{EndpointCause, Finding};
use pindrel_state::StoredCopy;

use crate::execute::bind::Binder;
use crate::failure::{internal, state_failed};

impl Binder {
    pub(crate) async fn store(&self, certificate: CertificateId, endpoint: EndpointId) -> Result<(), Finding> {
        let name = &self.context.desired.certificate(certificate).name;
        let row = self.context.state.certificate(name).await.map_err(state_failed)?;
        let row = row.ok_or_else(|| internal(format!("the state has no certificate \"{name}\" to store")))?;
        let (_, key) = self.keys.chain_and_key(&row)?;
        let info = self.listed(endpoint)?;
        let platform = self.context.drivers.platform(self.context.desired.endpoint(endpoint))?;
        let copy = StoredCopy {
            platform: self.context.desired.endpoint(endpoint).platform(),
            site: info.certificate_site.clone(),
            sha256: row.held.sha256,
            certificate: row.name.clone(),
        };
        // Known before it is there: a copy that nobody remembers is never taken away.
        self.context.state.record_copy(&copy).await.map_err(state_failed)?;
        let put = platform.put_certificate(&info.certificate_site, row.held.sha256, &row.chain, key.pem()).await;
        put.map_err(|error| error.finding())
    }

    /// The endpoint as its platform lists it; a plan has steps for no other.
    pub(crate) fn listed(&self, id: EndpointId) -> Result<EndpointInfo, Finding> {
        self.context.endpoint_info(id).ok_or_else(|| {
            let endpoint = self.context.desired.endpoint(id);
            let (platform, id) = (endpoint.platform(), endpoint.id.clone());
            Finding::endpoint(&endpoint.name, EndpointCause::NotListed { platform, id, known: Vec::new() })
        })
    }
}
