//! The marks of pins.

use std::collections::BTreeMap;

use pindrel_core::judging::pins::{Pin, PinState};

use super::style;

/// The state of each pin of a hostname.
pub(super) type PinStates = BTreeMap<Pin, PinState>;

/// The five marks of a hostname, in their colours.
pub(super) fn marks(pins: &PinStates) -> String {
    // A certificate by itself has no pins to show.
    if pins.is_empty() {
        return " ".repeat(Pin::ALL.len());
    }
    let mark = |pin: Pin| {
        let state = pins.get(&pin).copied().unwrap_or(PinState::Unknown);
        style::paint(style::of(state), state.mark())
    };
    Pin::ALL.map(mark).concat()
}
