//! Lists of address prefixes (APL, RFC 3123).

use std::fmt::Write as _;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

/// The address families (RFC 3123 §4).
const IPV4: u16 = 1;
const IPV6: u16 = 2;
/// The bit that says that a prefix is excluded, and the length of the address beside it.
const EXCLUDED: u8 = 0x80;

/// Reads one prefix, as in `!1:192.0.2.0/24`.
pub(super) fn parse(text: &[u8], wire: &mut Vec<u8>) -> Option<()> {
    let text = std::str::from_utf8(text).ok()?;
    let (excluded, text) = text.strip_prefix('!').map_or((0, text), |rest| (EXCLUDED, rest));
    let (family, text) = text.split_once(':')?;
    let (address, prefix) = text.split_once('/')?;
    let (family, octets, most) = match (family, address.parse().ok()?) {
        ("1", IpAddr::V4(address)) => (IPV4, address.octets().to_vec(), 32),
        ("2", IpAddr::V6(address)) => (IPV6, address.octets().to_vec(), 128),
        _ => return None,
    };
    let prefix: u8 = prefix.parse().ok().filter(|prefix| *prefix <= most)?;
    // Octets of zeros at the end are left out.
    let length = octets.iter().rposition(|octet| *octet != 0).map_or(0, |last| last + 1);
    wire.extend_from_slice(&family.to_be_bytes());
    wire.extend_from_slice(&[prefix, excluded | length as u8]);
    wire.extend_from_slice(&octets[..length]);
    Some(())
}

/// Writes all prefixes of some data.
pub(super) fn write(mut data: &[u8], out: &mut String) -> Option<()> {
    let mut space = "";
    while !data.is_empty() {
        let ([high, low, prefix, flags], rest) = data.split_first_chunk::<4>()?;
        let (address, rest) = rest.split_at_checked(usize::from(flags & !EXCLUDED))?;
        data = rest;
        if address.last() == Some(&0) {
            return None;
        }
        let family = u16::from_be_bytes([*high, *low]);
        let address: IpAddr = match family {
            IPV4 if *prefix <= 32 => Ipv4Addr::from(whole::<4>(address)?).into(),
            IPV6 if *prefix <= 128 => Ipv6Addr::from(whole::<16>(address)?).into(),
            _ => return None,
        };
        let mark = if flags & EXCLUDED == 0 { "" } else { "!" };
        write!(out, "{space}{mark}{family}:{address}/{prefix}").ok()?;
        space = " ";
    }
    Some(())
}

/// An address of which the octets of zeros at the end are left out.
fn whole<const N: usize>(octets: &[u8]) -> Option<[u8; N]> {
    let mut whole = [0; N];
    whole.get_mut(..octets.len())?.copy_from_slice(octets);
    Some(whole)
}
