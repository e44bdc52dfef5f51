//! Putting a certificate into the store that an endpoint takes certificates from.

use pindrel_core::desired::{CertificateId, EndpointId};
use pindrel_core::endpoints::endpoint::EndpointInfo;
use pindrel_core::judging::findings::{Code, Finding};

use pindrel_state::StoredCopy;

use crate::failure::{internal, state_failed};
use crate::run::Engine;

impl Engine {
    pub(super) async fn store(&self, certificate: CertificateId, endpoint: EndpointId) -> Result<(), Finding> {
        let name = &self.desired.certificate(certificate).name;
        let row = self.state.certificate(name).await.map_err(state_failed)?;
        let row = row.ok_or_else(|| internal(format!("the state has no certificate \"{name}\" to store")))?;
        let (_, key) = self.chain_and_key(&row)?;
        let info = self.listed(endpoint)?;
        let platform = self.drivers.platform(self.desired.endpoint(endpoint))?;
        let copy = StoredCopy {
            platform: self.desired.endpoint(endpoint).platform(),
            site: info.certificate_site.clone(),
            sha256: row.held.sha256,
            certificate: row.name.clone(),
        };
        // Known before it is there: a copy that nobody remembers is never taken away.
        self.state.record_copy(&copy).await.map_err(state_failed)?;
        let put = platform.put_certificate(&info.certificate_site, row.held.sha256, &row.chain, key.pem()).await;
        put.map_err(|error| error.finding())
    }

    /// The endpoint as its platform lists it; a plan has steps for no other.
    pub(super) fn listed(&self, id: EndpointId) -> Result<EndpointInfo, Finding> {
        self.endpoint_info(id).ok_or_else(|| {
            let endpoint = self.desired.endpoint(id);
            let says =
                format!("the platform at {} does not list the endpoint \"{}\"", endpoint.platform(), endpoint.id);
            Finding::of(Code::EndpointUnknown, says, "Set the id of the endpoint to one that the platform lists")
        })
    }
}
