//! Certificates in PKCS#7 (RFC 2315 §9, RFC 5652 §5): what is called a `.p7b` file holds signed data that
//! nobody signed, for the sake of the certificates in it.

use x509_parser::asn1_rs::{Any, Class, FromDer as _, Tag};

/// The contents of the object identifier of signed data, 1.2.840.113549.1.7.2.
const SIGNED_DATA: [u8; 9] = [0x2a, 0x86, 0x48, 0x86, 0xf7, 0x0d, 0x01, 0x07, 0x02];

/// Returns the certificates of signed data in DER; `None` where it is something else.
pub(super) fn certificates(bytes: &[u8]) -> Option<Vec<Vec<u8>>> {
    let (outer, _) = next(bytes)?;
    let (kind, rest) = next(sequence(outer)?)?;
    if kind.tag() != Tag::Oid || kind.data != SIGNED_DATA {
        return None;
    }
    let (content, _) = next(rest)?;
    let (signed, _) = next(tagged(&content, 0)?)?;
    // The version, the digest algorithms and the content, of which nothing is of interest.
    let rest = (0..3).try_fold(sequence(signed)?, |rest, _| next(rest).map(|(_, rest)| rest))?;
    let (set, _) = next(rest)?;
    let mut left = tagged(&set, 0)?;
    let mut found = Vec::new();
    while !left.is_empty() {
        let (_, rest) = next(left)?;
        found.push(left[..left.len() - rest.len()].to_vec());
        left = rest;
    }
    Some(found)
}

fn next(bytes: &[u8]) -> Option<(Any<'_>, &[u8])> {
    Any::from_der(bytes).ok().map(|(rest, value)| (value, rest))
}

fn sequence(value: Any<'_>) -> Option<&[u8]> {
    (value.tag() == Tag::Sequence).then_some(value.data)
}

fn tagged<'v>(value: &Any<'v>, number: u32) -> Option<&'v [u8]> {
    (value.class() == Class::ContextSpecific && value.tag() == Tag(number)).then_some(value.data)
}
