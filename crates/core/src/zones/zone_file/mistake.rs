//! What is wrong with a zone file, and where.

use crate::zones::zone_data::Place;

/// What kind of mistake it is; in kebab case in the output.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
#[expect(missing_docs, reason = "the codes and their help say it")]
pub enum MistakeCode {
    Syntax,
    BadName,
    BadTtl,
    NoTtl,
    BadClass,
    BadType,
    BadData,
    NoOwner,
    Directive,
    Generate,
    Include,
    TooLong,
}

impl MistakeCode {
    /// Returns the code as it is written.
    pub fn as_str(self) -> &'static str {
        match self {
            MistakeCode::Syntax => "syntax",
            MistakeCode::BadName => "bad-name",
            MistakeCode::BadTtl => "bad-ttl",
            MistakeCode::NoTtl => "no-ttl",
            MistakeCode::BadClass => "bad-class",
            MistakeCode::BadType => "bad-type",
            MistakeCode::BadData => "bad-data",
            MistakeCode::NoOwner => "no-owner",
            MistakeCode::Directive => "bad-directive",
            MistakeCode::Generate => "generate",
            MistakeCode::Include => "bad-include",
            MistakeCode::TooLong => "too-long",
        }
    }
}

/// Something that cannot be read as it stands.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Mistake {
    /// What kind it is.
    pub code: MistakeCode,
    /// The file and the line.
    pub place: Place,
    /// Where in the line, from 1, in bytes.
    pub column: u32,
    /// How many bytes of the line are meant.
    pub length: u32,
    /// The line, as far as it is shown.
    pub text: String,
    /// What is wrong.
    pub says: String,
    /// What to write instead.
    pub help: String,
}

/// A mistake as an entry is read: the word that is wrong, what is wrong, and what to write instead.
pub(super) type Told = (MistakeCode, Option<usize>, String, String);
