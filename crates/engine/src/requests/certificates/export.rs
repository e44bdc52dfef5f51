//! Exporting a certificate in the form that is asked for.

use pindrel_core::certificates::delivery::{Contents, Piece};
use pindrel_core::judging::findings::{CertificateCause, Finding};
use pindrel_core::names::name::Hostname;
use pindrel_keys::bundle::pkcs12;
use secrecy::SecretString;
use zeroize::Zeroizing;

use super::unknown;
use crate::execute::deliver::write_file;
use crate::failure::{internal, state_failed};
use crate::observe::certificate::pem_of;
use crate::requests::certificates::CertificateRequests;

/// In which form a certificate is exported.
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

impl CertificateRequests {
    /// Exports a certificate.
    ///
    /// # Errors
    /// A [`Finding`].
    pub async fn export(
        &self,
        name: &str,
        form: ExportForm,
        password: Option<&SecretString>,
    ) -> Result<Zeroizing<Vec<u8>>, Finding> {
        let row = self.context.state.certificate(name).await.map_err(state_failed)?.ok_or_else(|| unknown(name))?;
        let (chain, key) = self.keys.chain_and_key(&row)?;
        match form.contents() {
            Contents::Pem(pieces) => Ok(pem_of(&pieces, &chain, &key)),
            Contents::Pkcs12 => {
                let password = password.ok_or_else(|| Finding::certificate(name, CertificateCause::PasswordMissing))?;
                let alias = row.held.names.first().map_or(name, Hostname::as_str);
                let made = pkcs12(&chain, &key, alias, password);
                made.map(Zeroizing::new).map_err(|error| internal(error.to_string()))
            }
        }
    }
}

/// Writes what was exported to a file, replacing an old one as a whole.
///
/// # Errors
/// A [`Finding`].
pub fn write_export(path: &std::path::Path, bytes: &[u8], form: ExportForm) -> Result<(), Finding> {
    write_file(path, bytes, form.contents().default_mode().bits(), (None, None), true)
}
