//! Zone files (RFC 1035 §5): read with every mistake at its place, written in canonical form, and changed in only
//! the lines concerned.
//!
//! The reader takes a file line by line, so that a file of any size passes through it; it opens nothing itself. What
//! an `$INCLUDE` names is handed to the caller.

mod edit;
mod generate;
mod lex;
mod mistake;
mod read;
mod write;

pub use edit::{EditError, SetEdit, edit};
pub use mistake::{Mistake, MistakeCode};
pub use read::{Include, Reader, Sink};
pub use write::{line_of, write_zone};

use crate::zones::zone_data::rdata::{self, RdataError};
use crate::zones::zone_data::{NameKey, TypeCode};

/// Returns the data of a record, as on the wire with names in lower case, out of its presentation form. All names in
/// it are full ones.
///
/// # Errors
/// [`RdataError`].
pub fn read_data(code: TypeCode, text: &str) -> Result<Vec<u8>, RdataError> {
    let (mut tokens, mut wire) = (Vec::new(), Vec::new());
    lex::tokens(text.as_bytes(), &mut tokens);
    rdata::parse(code, &tokens, &NameKey::root(), &mut wire)?;
    Ok(wire)
}

/// The longest line, and the longest entry over several lines, in bytes. The data of a record takes 64 KiB, and an
/// octet four characters at most.
pub const LONGEST_ENTRY: usize = 1 << 19;

#[cfg(test)]
mod tests;
