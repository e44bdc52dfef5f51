//! What a command that shows no progress has to tell all the same.

use jiff::Timestamp;
use pindrel_engine::{Event, Listener};

use super::log;
use super::times::for_people;

/// Tells notes, each as a line on standard error.
pub(crate) struct Notes;

impl Listener for Notes {
    fn on(&self, event: Event) {
        if let Event::Note { says } = event {
            log::say(&format!("note: {}", for_people(Timestamp::now(), &says)));
        }
    }
}

/// Tells notes that no engine has.
pub(crate) fn warn(notes: &[String]) {
    for says in notes {
        log::say(&format!("note: {says}"));
    }
}
