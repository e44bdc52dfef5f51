//! Zone files (RFC 1035 §5): read with every mistake at its place, written in canonical form, and changed in only
//! the lines concerned.
//!
//! The reader takes a file line by line, so that a file of any size passes through it; it opens nothing itself. What
//! an `$INCLUDE` names is handed to the caller.

mod edit;
mod lex;
mod read;
mod write;

pub use edit::{EditError, SetEdit, edit};
pub use read::{Include, Mistake, MistakeCode, Reader, Sink};
pub use write::{line_of, write_zone};

/// The longest line, and the longest entry over several lines, in bytes. The data of a record takes 64 KiB, and an
/// octet four characters at most.
pub const LONGEST_ENTRY: usize = 1 << 19;

#[cfg(test)]
mod tests;
