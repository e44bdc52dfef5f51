//! What a command that shows no progress has to tell all the same.

use std::io::Write as _;

use jiff::Timestamp;
use pindrel_engine::{Event, Listener};

use super::times::for_people;

/// Tells notes, each as a line on standard error.
pub(crate) struct Notes;

impl Listener for Notes {
    fn on(&self, event: Event) {
        if let Event::Note { says } = event {
            let _ = writeln!(anstream::stderr(), "note: {}", for_people(Timestamp::now(), &says));
        }
    }
}

/// Tells notes that no engine has.
pub(crate) fn warn(notes: &[String]) {
    for says in notes {
        let _ = writeln!(anstream::stderr(), "note: {says}");
    }
}
