//! Colours by meaning.

use anstyle::{AnsiColor, Style};
use pindrel_core::judging::pins::PinState;

/// Something that holds or went well.
pub(crate) const GOOD: Style = AnsiColor::Green.on_default();
/// Something under way or to be done.
pub(crate) const UNDERWAY: Style = AnsiColor::Yellow.on_default();
/// Something wrong.
pub(crate) const BAD: Style = AnsiColor::Red.on_default().bold();
/// Something less important.
pub(crate) const FAINT: Style = Style::new().dimmed();
/// Something to read first.
pub(crate) const STRONG: Style = Style::new().bold();
/// Something to type.
pub(crate) const COMMAND: Style = AnsiColor::Cyan.on_default();

/// Returns the colour of a pin's state.
pub(crate) fn of(state: PinState) -> Style {
    match state {
        PinState::Held => GOOD,
        PinState::Working | PinState::Loose => UNDERWAY,
        PinState::Blocked => BAD,
        PinState::Unknown => FAINT,
    }
}

/// Writes a text in a style.
pub(crate) fn paint(style: Style, text: impl std::fmt::Display) -> String {
    format!("{style}{text}{style:#}")
}
