//! What can go wrong at an authority, switched on and off.

use std::collections::BTreeSet;
use std::sync::{Mutex, PoisonError};

/// A fault of the authority.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
#[expect(missing_docs, reason = "the table below says what each does, for people too")]
pub enum Fault {
    Nonces,
    Limit,
    Down,
    Busy,
    SlowValidation,
    Dropped,
    Half,
    OtherKey,
    MissingName,
    /// Of this name.
    Validation(String),
    EarlyRenewal,
    NewTerms,
    LostOrder,
}

/// The words of the faults that need no name, and what they do.
const WORDS: [(&str, Fault, &str); 12] = [
    ("nonces", Fault::Nonces, "the authority refuses seven of ten good nonces"),
    ("limit", Fault::Limit, "the authority answers new orders with 429, Retry-After an hour"),
    ("down", Fault::Down, "the authority answers everything with 503, Retry-After ten minutes"),
    ("busy", Fault::Busy, "every fourth answer of the authority is 503, Retry-After a second"),
    ("slow-validation", Fault::SlowValidation, "a validation takes some seconds"),
    ("dropped", Fault::Dropped, "every fourth answer of the authority breaks off before its first byte"),
    ("half", Fault::Half, "every fourth answer of the authority breaks off half-way"),
    ("other-key", Fault::OtherKey, "certificates are issued for another key"),
    ("missing-name", Fault::MissingName, "certificates lack their last name"),
    ("early-renewal", Fault::EarlyRenewal, "every certificate should be renewed at once"),
    ("new-terms", Fault::NewTerms, "the terms of service have changed"),
    ("lost-order", Fault::LostOrder, "the answer to the next order is lost on its way"),
];
/// The one that needs a name.
const VALIDATION: (&str, &str) = ("validation=NAME", "validations of this name fail");

impl Fault {
    /// Reads a fault's word: `validation=NAME` for the one that needs a name.
    pub fn from_word(text: &str) -> Option<Fault> {
        if let Some(name) = text.strip_prefix("validation=") {
            return (!name.is_empty()).then(|| Fault::Validation(name.to_ascii_lowercase()));
        }
        WORDS.iter().find(|(word, ..)| *word == text).map(|(_, fault, _)| fault.clone())
    }

    /// Returns the fault's word.
    pub fn word(&self) -> String {
        match self {
            Fault::Validation(name) => format!("validation={name}"),
            other => WORDS.iter().find(|(_, fault, _)| fault == other).map_or("", |(word, ..)| word).to_owned(),
        }
    }

    /// Returns the words of all faults, with what each does.
    pub fn words() -> impl Iterator<Item = (&'static str, &'static str)> {
        WORDS.iter().map(|(word, _, does)| (*word, *does)).chain([VALIDATION])
    }
}

/// The faults that are on.
#[derive(Debug, Default)]
pub(super) struct Faults {
    on: Mutex<BTreeSet<Fault>>,
}

impl Faults {
    pub(super) fn switch(&self, fault: Fault, on: bool) {
        let mut faults = self.on.lock().unwrap_or_else(PoisonError::into_inner);
        if on {
            faults.insert(fault);
        } else {
            faults.remove(&fault);
        }
    }

    pub(super) fn has(&self, fault: &Fault) -> bool {
        self.on.lock().unwrap_or_else(PoisonError::into_inner).contains(fault)
    }

    /// Says whether a fault is on, and switches it off.
    pub(super) fn take(&self, fault: &Fault) -> bool {
        self.on.lock().unwrap_or_else(PoisonError::into_inner).remove(fault)
    }

    pub(super) fn clear(&self) {
        self.on.lock().unwrap_or_else(PoisonError::into_inner).clear();
    }

    pub(super) fn list(&self) -> Vec<String> {
        self.on.lock().unwrap_or_else(PoisonError::into_inner).iter().map(Fault::word).collect()
    }
}
