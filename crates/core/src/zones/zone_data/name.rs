//! Names as a zone holds them: any octets in a label, in an order that bytes can be compared in.

use std::fmt;

use crate::names::name::DnsName;

/// The longest name on the wire, with the root label (RFC 1035 §2.3.4).
const MAX_WIRE: usize = 255;
/// The longest label, in octets (RFC 1035 §2.3.4).
const MAX_LABEL: usize = 63;
const END: u8 = 0;
const ESCAPE: u8 = 1;

/// A name in lower case as its labels from the root down, each closed by a zero octet, so that the order of the
/// bytes is the canonical order of names (RFC 4034 §6.1) and what lies below a name begins with its bytes.
///
/// An octet of 0 or 1 within a label is written as 1 and the octet plus one.
#[derive(Debug, Clone, PartialEq, Eq, Hash, PartialOrd, Ord, Default)]
pub struct NameKey(Vec<u8>);

/// Why a text is not a name.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum NameTextError {
    /// Nothing was given, or two dots follow one another.
    #[error("a label of the name is empty")]
    EmptyLabel,
    /// One label is longer than 63 octets.
    #[error("a label of the name has more than 63 octets")]
    LabelTooLong,
    /// The whole name is longer than 255 octets.
    #[error("the name has more than 255 octets")]
    TooLong,
    /// A backslash that neither a character nor three digits up to 255 follow.
    #[error("a backslash must be followed by a character, or by three digits up to 255")]
    BadEscape,
}

/// Reads what follows a backslash (RFC 1035 §5.1); returns the octet and how many bytes of the text it took.
pub(crate) fn unescape(rest: &[u8]) -> Option<(u8, usize)> {
    match rest {
        [a @ b'0'..=b'9', b @ b'0'..=b'9', c @ b'0'..=b'9', ..] => {
            let value = u16::from(a - b'0') * 100 + u16::from(b - b'0') * 10 + u16::from(c - b'0');
            Some((u8::try_from(value).ok()?, 3))
        }
        [b'0'..=b'9', ..] | [] => None,
        [octet, ..] => Some((*octet, 1)),
    }
}

/// Writes one octet of a label or a string (RFC 1035 §5.1); `special` must not stand there as it is.
pub(crate) fn escape(f: &mut dyn fmt::Write, octet: u8, special: &[u8]) -> fmt::Result {
    match octet {
        octet if special.contains(&octet) => write!(f, "\\{}", char::from(octet)),
        b'!'..=b'~' => f.write_char(char::from(octet)),
        octet => write!(f, "\\{octet:03}"),
    }
}

impl NameKey {
    /// The root.
    pub fn root() -> NameKey {
        NameKey::default()
    }

    /// Reads a name in presentation form (RFC 1035 §5.1); one without a final dot is completed with `origin`.
    ///
    /// # Errors
    /// [`NameTextError`].
    pub fn parse(text: &[u8], origin: &NameKey) -> Result<NameKey, NameTextError> {
        let mut key = NameKey::default();
        key.read(text, origin)?;
        Ok(key)
    }

    /// The same in the room that this name has already.
    pub(crate) fn read(&mut self, text: &[u8], origin: &NameKey) -> Result<(), NameTextError> {
        self.0.clear();
        if text == b"." {
            return Ok(());
        }
        if text == b"@" {
            self.0.extend_from_slice(&origin.0);
            return Ok(());
        }
        if text.contains(&b'\\') {
            return self.read_escaped(text, origin);
        }
        let relative = text.strip_suffix(b".");
        if relative.is_none() {
            self.0.extend_from_slice(&origin.0);
        }
        for label in relative.unwrap_or(text).rsplit(|octet| *octet == b'.') {
            self.push_label(label)?;
        }
        self.check_length()
    }

    fn read_escaped(&mut self, text: &[u8], origin: &NameKey) -> Result<(), NameTextError> {
        let mut labels = vec![Vec::new()];
        let mut rest = text;
        while let [octet, after @ ..] = rest {
            rest = after;
            match octet {
                b'.' => labels.push(Vec::new()),
                b'\\' => {
                    let (octet, taken) = unescape(rest).ok_or(NameTextError::BadEscape)?;
                    labels.last_mut().unwrap_or(&mut Vec::new()).push(octet);
                    rest = &rest[taken..];
                }
                octet => labels.last_mut().unwrap_or(&mut Vec::new()).push(*octet),
            }
        }
        match labels.last() {
            Some(last) if last.is_empty() && labels.len() > 1 => drop(labels.pop()),
            _ => self.0.extend_from_slice(&origin.0),
        }
        for label in labels.iter().rev() {
            self.push_label(label)?;
        }
        self.check_length()
    }

    /// Adds a label below the name.
    fn push_label(&mut self, label: &[u8]) -> Result<(), NameTextError> {
        match label.len() {
            0 => return Err(NameTextError::EmptyLabel),
            length if length > MAX_LABEL => return Err(NameTextError::LabelTooLong),
            _ => {}
        }
        for octet in label {
            match octet {
                0 | 1 => self.0.extend_from_slice(&[ESCAPE, octet + 1]),
                octet => self.0.push(octet.to_ascii_lowercase()),
            }
        }
        self.0.push(END);
        Ok(())
    }

    fn check_length(&self) -> Result<(), NameTextError> {
        // Each label has its length octet on the wire, and a zero octet here.
        let is_short = self.0.len() < MAX_WIRE || self.0.iter().filter(|octet| **octet != ESCAPE).count() < MAX_WIRE;
        if is_short { Ok(()) } else { Err(NameTextError::TooLong) }
    }

    /// Reads a name on the wire that is not compressed; returns it with what follows it.
    pub fn from_wire(wire: &[u8]) -> Option<(NameKey, &[u8])> {
        let mut labels = Vec::new();
        let mut rest = wire;
        loop {
            let (length, after) = rest.split_first()?;
            if *length == 0 {
                rest = after;
                break;
            }
            let length = usize::from(*length);
            labels.push(after.get(..length).filter(|_| length <= MAX_LABEL)?);
            rest = &after[length..];
        }
        let mut key = NameKey::default();
        for label in labels.iter().rev() {
            key.push_label(label).ok()?;
        }
        key.check_length().ok()?;
        Some((key, rest))
    }

    /// Takes bytes that came from another name.
    pub(crate) fn from_bytes(bytes: &[u8]) -> NameKey {
        NameKey(bytes.to_vec())
    }

    /// Returns the bytes that are compared.
    pub fn as_bytes(&self) -> &[u8] {
        &self.0
    }

    /// Writes the name as on the wire, without compression.
    pub fn push_wire(&self, wire: &mut Vec<u8>) {
        for label in self.labels().rev() {
            let length_at = wire.len();
            wire.push(0);
            wire.extend(octets(label));
            wire[length_at] = u8::try_from(wire.len() - length_at - 1).unwrap_or(0);
        }
        wire.push(0);
    }

    /// Returns the labels from the root down, as they are stored.
    fn labels(&self) -> impl DoubleEndedIterator<Item = &[u8]> {
        let inner = self.0.strip_suffix(&[END]).unwrap_or(&self.0);
        inner.split(|octet| *octet == END).filter(|label| !label.is_empty())
    }

    /// Says whether this name is `other` or lies below it.
    pub fn is_within(&self, other: &NameKey) -> bool {
        self.0.starts_with(&other.0)
    }

    /// Returns the name above this one; `None` for the root.
    pub fn parent(&self) -> Option<NameKey> {
        let inner = self.0.strip_suffix(&[END])?;
        let end = inner.iter().rposition(|octet| *octet == END).map_or(0, |at| at + 1);
        Some(NameKey(inner[..end].to_vec()))
    }

    /// Returns the name below `from` with the same labels below `to` instead; `None` where it does not lie below.
    pub fn moved(&self, from: &NameKey, to: &NameKey) -> Option<NameKey> {
        let below = self.0.strip_prefix(from.as_bytes())?;
        let moved = NameKey([to.as_bytes(), below].concat());
        moved.check_length().is_ok().then_some(moved)
    }

    /// Says whether the first label is `*` (RFC 4592 §2.1.1).
    pub fn is_wildcard(&self) -> bool {
        self.0.ends_with(&[END, b'*', END]) || self.0 == [b'*', END]
    }

    /// Returns the name `*` below this one; `None` where that is too long.
    pub fn wildcard(&self) -> Option<NameKey> {
        let mut key = self.clone();
        key.push_label(b"*").and_then(|()| key.check_length()).ok()?;
        Some(key)
    }

    /// Returns the name as the rest of Pindrel takes it; `None` where it holds octets that no such name has.
    pub fn to_dns_name(&self) -> Option<DnsName> {
        self.to_string().parse().ok()
    }

    /// Returns the name as it is written below an origin: `@`, a relative name, or an absolute one.
    pub fn relative_to(&self, origin: &NameKey) -> String {
        let whole = self.to_string();
        if self == origin {
            return "@".into();
        }
        match whole.strip_suffix(&format!(".{origin}")) {
            Some(label) if self.is_within(origin) => label.to_owned(),
            _ => whole,
        }
    }
}

/// The octets of a stored label.
fn octets(label: &[u8]) -> impl Iterator<Item = u8> + '_ {
    let mut rest = label.iter();
    std::iter::from_fn(move || match rest.next()? {
        &ESCAPE => rest.next().map(|octet| octet - 1),
        octet => Some(*octet),
    })
}

impl fmt::Display for NameKey {
    /// Writes the name in presentation form with its final dot.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if self.0.is_empty() {
            return f.write_str(".");
        }
        for label in self.labels().rev() {
            for octet in octets(label) {
                escape(f, octet, br#"."\;()@$"#)?;
            }
            f.write_str(".")?;
        }
        Ok(())
    }
}

impl From<&DnsName> for NameKey {
    fn from(name: &DnsName) -> NameKey {
        // Every `DnsName` keeps RFC 1035's limits, so this cannot fail.
        NameKey::parse(name.as_str().as_bytes(), &NameKey::root()).unwrap_or_default()
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn key(text: &str) -> NameKey {
        NameKey::parse(text.as_bytes(), &NameKey::root()).unwrap()
    }

    #[test]
    fn names_are_in_the_order_of_rfc_4034() {
        // RFC 4034 §6.1, as it stands there.
        let ordered = [
            "example.",
            "a.example.",
            "yljkjljk.a.example.",
            "Z.a.example.",
            "zABC.a.EXAMPLE.",
            "z.example.",
            "\\001.z.example.",
            "*.z.example.",
            "\\200.z.example.",
        ];
        let keys: Vec<NameKey> = ordered.iter().map(|text| key(text)).collect();
        assert!(keys.is_sorted(), "{keys:?}");
        assert!(keys[3].is_within(&keys[1]) && !keys[5].is_within(&keys[1]));
        assert_eq!(keys[2].parent().as_ref(), Some(&keys[1]));
        assert!(keys[7].is_wildcard() && keys[5].wildcard().as_ref() == Some(&keys[7]));
        assert_eq!(keys[6].to_string(), "\\001.z.example.");
    }

    #[test]
    fn what_is_no_name_is_refused_for_what_it_is() {
        let origin = key("larkfield.example");
        let label = "a".repeat(63);
        let long = [&*label; 4].join(".");
        for (text, expected) in [
            ("", NameTextError::EmptyLabel),
            ("a..b", NameTextError::EmptyLabel),
            (".a", NameTextError::EmptyLabel),
            (&format!("{label}a"), NameTextError::LabelTooLong),
            (&long, NameTextError::TooLong),
            ("a\\", NameTextError::BadEscape),
            ("a\\25", NameTextError::BadEscape),
            ("a\\256", NameTextError::BadEscape),
        ] {
            assert_eq!(NameKey::parse(text.as_bytes(), &origin), Err(expected), "{text}");
        }
        assert_eq!(NameKey::parse(b"@", &origin).as_ref(), Ok(&origin));
        assert_eq!(NameKey::parse(b"a\\.b", &origin).unwrap().to_string(), "a\\.b.larkfield.example.");
        assert_eq!(key("a.larkfield.example").relative_to(&origin), "a");
        assert_eq!(key("a.notlarkfield.example").relative_to(&origin), "a.notlarkfield.example.");
        let long = &long[..251];
        assert_eq!(NameKey::parse(format!("{long}.").as_bytes(), &origin).unwrap().to_string().len(), 252);
    }

    proptest! {
        #[test]
        fn a_name_is_the_same_written_and_on_the_wire(
            labels in prop::collection::vec(prop::collection::vec(any::<u8>(), 1..20), 0..6),
        ) {
            let mut wire = Vec::new();
            for label in &labels {
                wire.push(label.len() as u8);
                wire.extend_from_slice(label);
            }
            wire.push(0);
            let (name, rest) = NameKey::from_wire(&wire).unwrap();
            prop_assert!(rest.is_empty());
            prop_assert_eq!(&key(&name.to_string()), &name);
            let mut again = Vec::new();
            name.push_wire(&mut again);
            prop_assert_eq!(again, wire.to_ascii_lowercase());
        }

        #[test]
        fn any_bytes_are_a_name_or_refused(bytes in prop::collection::vec(any::<u8>(), 0..300)) {
            if let Ok(name) = NameKey::parse(&bytes, &NameKey::root()) {
                prop_assert_eq!(key(&name.to_string()), name);
            }
            let _ = NameKey::from_wire(&bytes);
        }
    }
}
