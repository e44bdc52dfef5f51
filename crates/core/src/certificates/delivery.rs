//! What a certificate is written to, and what is run afterwards.

use std::fmt;
use std::net::SocketAddr;
use std::path::PathBuf;
use std::str::FromStr;
use std::time::Duration;

use crate::judging::facts::ServedView;

use crate::values::SecretRef;

/// One file that a certificate is written to.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct Delivery {
    /// The file, relative to the manifest's folder.
    pub file: PathBuf,
    /// What it holds.
    pub contents: Contents,
    /// Its permission bits.
    pub mode: FileMode,
    /// The user that it belongs to; unchanged when `None`.
    pub owner: Option<String>,
    /// The group that it belongs to; unchanged when `None`.
    pub group: Option<String>,
    /// Where the password of a PKCS#12 file is to be read.
    pub password: Option<SecretRef>,
}

/// What a file holds.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub enum Contents {
    /// These pieces in PEM, in this order.
    Pem(Vec<Piece>),
    /// Key and chain as PKCS#12 (RFC 7292).
    Pkcs12,
}

impl Contents {
    /// Says whether a private key is among them.
    pub fn is_secret(&self) -> bool {
        match self {
            Contents::Pem(pieces) => pieces.contains(&Piece::Key),
            Contents::Pkcs12 => true,
        }
    }

    /// Returns the permission bits unless the manifest says: a key is its owner's alone.
    pub fn default_mode(&self) -> FileMode {
        FileMode(if self.is_secret() { 0o600 } else { 0o644 })
    }
}

/// A piece of a PEM file.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Piece {
    /// The private key.
    Key,
    /// The certificate itself.
    Leaf,
    /// Those above it, without the root.
    Intermediates,
}

impl FromStr for Piece {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        match text {
            "key" => Ok(Piece::Key),
            "leaf" => Ok(Piece::Leaf),
            "intermediates" => Ok(Piece::Intermediates),
            _ => Err(format!("\"{text}\" is not a part of a certificate")),
        }
    }
}

/// The permission bits of a file.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct FileMode(u32);

impl FileMode {
    /// Returns the bits.
    pub fn bits(self) -> u32 {
        self.0
    }
}

impl FromStr for FileMode {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        let bits = u32::from_str_radix(text, 8).ok().filter(|bits| *bits <= 0o777 && (3..=4).contains(&text.len()));
        bits.map(FileMode).ok_or_else(|| format!("\"{text}\" are not permission bits"))
    }
}

/// A command: an argument list, never a shell line.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct Command {
    /// The program and its arguments.
    pub run: Vec<String>,
    /// How long it may take, with all that it starts.
    pub within: Duration,
}

impl fmt::Display for Command {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.run.join(" "))
    }
}

/// What is still to be done for a certificate outside of Pindrel.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Undelivered {
    /// The files that do not hold the present certificate.
    pub files: Vec<String>,
    /// The commands that have not ended well since, each with what it said last.
    pub commands: Vec<(String, Option<String>)>,
    /// The listeners that do not serve the present certificate, each with what it does instead.
    pub listeners: Vec<(SocketAddr, ServedView)>,
}

impl Undelivered {
    /// Says whether nothing is left to do.
    pub fn is_empty(&self) -> bool {
        self.files.is_empty() && self.commands.is_empty() && self.listeners.is_empty()
    }
}
