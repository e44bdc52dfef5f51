//! Server certificates below a root of their own.

use rcgen::{BasicConstraints, Certificate, CertificateParams, IsCa, Issuer, KeyPair};

/// A server's certificate, its key, and the root above it.
pub(crate) struct Certified {
    pub(crate) root: Certificate,
    pub(crate) leaf: Certificate,
    pub(crate) key: KeyPair,
}

/// Makes all three for these names and addresses.
pub(crate) fn certified(names: &[&str]) -> Result<Certified, rcgen::Error> {
    let mut params = CertificateParams::new(Vec::new())?;
    params.is_ca = IsCa::Ca(BasicConstraints::Unconstrained);
    let root_key = KeyPair::generate()?;
    let root = params.self_signed(&root_key)?;
    let issuer = Issuer::new(params, root_key);
    let key = KeyPair::generate()?;
    let names: Vec<String> = names.iter().map(|name| (*name).to_owned()).collect();
    let leaf = CertificateParams::new(names)?.signed_by(&key, &issuer)?;
    Ok(Certified { root, leaf, key })
}
