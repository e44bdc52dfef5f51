//! The five pins and the states that each can be in.

use serde::{Deserialize, Serialize};

/// One of the five things that hold a hostname, in their order.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Pin {
    /// The zone is delegated and served.
    Zone,
    /// A valid certificate covers the name.
    Certificate,
    /// The endpoint knows the hostname.
    Binding,
    /// The alias record points at the endpoint.
    Alias,
    /// A client gets the expected answer.
    Answer,
}

impl Pin {
    /// All pins, in the order in which they are always shown.
    pub const ALL: [Pin; 5] = [Pin::Zone, Pin::Certificate, Pin::Binding, Pin::Alias, Pin::Answer];

    /// Returns the pin's name.
    pub fn as_str(self) -> &'static str {
        match self {
            Pin::Zone => "zone",
            Pin::Certificate => "certificate",
            Pin::Binding => "binding",
            Pin::Alias => "alias",
            Pin::Answer => "answer",
        }
    }
}

/// How a pin holds.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum PinState {
    /// As described, and verified.
    Held,
    /// A change is under way.
    Working,
    /// Not as described; `settle` corrects it.
    Loose,
    /// Needs a person.
    Blocked,
    /// Not looked at, or cannot be looked at from here.
    Unknown,
}

impl PinState {
    /// Returns the state's name.
    pub fn as_str(self) -> &'static str {
        match self {
            PinState::Held => "held",
            PinState::Working => "working",
            PinState::Loose => "loose",
            PinState::Blocked => "blocked",
            PinState::Unknown => "unknown",
        }
    }

    /// Returns the mark that stands for the state in tables.
    pub fn mark(self) -> char {
        match self {
            PinState::Held => '◆',
            PinState::Working => '◈',
            PinState::Loose => '◇',
            PinState::Blocked => '✕',
            PinState::Unknown => '·',
        }
    }
}
