//! The files of certificates and keys: PEM, DER, PKCS#7 and PKCS#12.

use pindrel_keys::bundle::{Bundle, LooseFile, OpenHere, OpenPkcs12, OpenedPkcs12, Unopened, pkcs12};
use pindrel_keys::{AccountKey, CertificateKey, Chain};
use rcgen::{CertificateParams, KeyPair};
use secrecy::SecretString;

/// The longest file in PKCS#12 that is opened here: the process that does it otherwise bounds what a file costs.
const LONGEST: usize = 4 << 10;

/// Opens what would not take its time on purpose: how often a password is hashed stands in the file.
struct OpenCheap;

impl OpenPkcs12 for OpenCheap {
    fn open(&self, file: &[u8], password: &SecretString) -> Result<OpenedPkcs12, Unopened> {
        // A whole number of more than two octets is a count that only a process with a time limit should follow.
        let is_dear = file.windows(2).any(|pair| pair[0] == 0x02 && (3..=8).contains(&pair[1]));
        if is_dear || file.len() > LONGEST { Err(Unopened::Password) } else { OpenHere.open(file, password) }
    }
}

/// Whatever lies in the files of a certificate or a key, reading them neither panics nor takes much memory.
pub(crate) fn run(data: &[u8]) {
    let half = data.len() / 2;
    let file = |name: &str, bytes: &[u8]| LooseFile { name: name.into(), bytes: bytes.to_vec() };
    let password = "password".to_owned().into();
    let _ = Bundle::assemble(&[file("whole", data)], None, Some(&password), &OpenCheap);
    let halves = [file("first", &data[..half]), file("second", &data[half..])];
    let _ = Bundle::assemble(&halves, None, None, &OpenCheap);
    if let Ok(text) = std::str::from_utf8(data) {
        let _ = Chain::from_pem(text);
        let _ = AccountKey::from_text(&text.to_owned().into());
    }
}

pub(crate) fn seeds() -> Vec<Vec<u8>> {
    let pair = KeyPair::generate().unwrap();
    let made = CertificateParams::new(vec!["api.larkfield.example".to_owned()]).unwrap().self_signed(&pair).unwrap();
    let pem = format!("{}{}", made.pem(), pair.serialize_pem());
    let key = CertificateKey::from_der(&pair.serialize_der().try_into().unwrap()).unwrap();
    let chain = Chain::from_pem(&made.pem()).unwrap();
    let packed = pkcs12(&chain, &key, "api", &"password".to_owned().into()).unwrap();
    // Signed data of nobody around the certificate (RFC 2315 §9.1).
    let wrap = |tag: u8, inner: &[u8]| {
        let length = u16::try_from(inner.len()).unwrap().to_be_bytes();
        [&[tag, 0x82, length[0], length[1]], inner].concat()
    };
    let data = [0x06, 0x09, 0x2a, 0x86, 0x48, 0x86, 0xf7, 0x0d, 0x01, 0x07, 0x01];
    let inner = [&[2, 1, 1, 0x31, 0][..], &wrap(0x30, &data), &wrap(0xa0, made.der()), &[0x31, 0]].concat();
    let signed = [0x06, 0x09, 0x2a, 0x86, 0x48, 0x86, 0xf7, 0x0d, 0x01, 0x07, 0x02];
    let pkcs7 = wrap(0x30, &[&signed[..], &wrap(0xa0, &wrap(0x30, &inner))].concat());
    vec![pem.into_bytes(), made.der().to_vec(), pair.serialize_der(), packed, pkcs7]
}
