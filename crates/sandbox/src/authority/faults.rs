//! What can go wrong at an authority, switched on and off.

use std::collections::BTreeSet;
use std::sync::{Mutex, PoisonError};

/// A fault of the authority.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub enum Fault {
    /// Seven of ten good nonces are refused.
    Nonces,
    /// Every new order is refused with 429 and a `Retry-After` of an hour.
    Limit,
    /// Everything is answered with 503 and a `Retry-After` of ten minutes.
    Down,
    /// Every fourth answer is 503 with a `Retry-After` of a second.
    Busy,
    /// A validation takes some seconds.
    SlowValidation,
    /// Every fourth answer breaks off before its first byte.
    Dropped,
    /// Every fourth answer breaks off half-way.
    Half,
    /// Certificates are issued for another key.
    OtherKey,
    /// Certificates lack their last name.
    MissingName,
    /// Validations of this name fail.
    Validation(String),
    /// Every certificate should be renewed at once.
    EarlyRenewal,
    /// The terms of service have changed.
    NewTerms,
    /// The answer to the next order is lost on its way.
    LostOrder,
}

/// The words of the faults that need no name.
const WORDS: [(&str, Fault); 12] = [
    ("nonces", Fault::Nonces),
    ("limit", Fault::Limit),
    ("down", Fault::Down),
    ("busy", Fault::Busy),
    ("slow-validation", Fault::SlowValidation),
    ("dropped", Fault::Dropped),
    ("half", Fault::Half),
    ("other-key", Fault::OtherKey),
    ("missing-name", Fault::MissingName),
    ("early-renewal", Fault::EarlyRenewal),
    ("new-terms", Fault::NewTerms),
    ("lost-order", Fault::LostOrder),
];

impl Fault {
    /// Reads a fault's word: `validation=NAME` for the one that needs a name.
    pub fn from_word(text: &str) -> Option<Fault> {
        if let Some(name) = text.strip_prefix("validation=") {
            return (!name.is_empty()).then(|| Fault::Validation(name.to_ascii_lowercase()));
        }
        WORDS.iter().find(|(word, _)| *word == text).map(|(_, fault)| fault.clone())
    }

    /// Returns the fault's word.
    pub fn word(&self) -> String {
        match self {
            Fault::Validation(name) => format!("validation={name}"),
            other => WORDS.iter().find(|(_, fault)| fault == other).map_or("", |(word, _)| word).to_owned(),
        }
    }

    /// Returns the words of all faults.
    pub fn words() -> Vec<&'static str> {
        WORDS.iter().map(|(word, _)| *word).chain(["validation=NAME"]).collect()
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
