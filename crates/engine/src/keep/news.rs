//! What the machine tells, as events.

use jiff::Timestamp;
use pindrel_core::health::Verdict;
use pindrel_core::keep::{Keep, News, Switched};
use pindrel_core::text::display_text::one_line;

use super::switch::why;
use crate::events::{Event, Listener};

/// Passes on what the machine tells.
pub(super) fn tell(keep: &Keep, listener: &dyn Listener, news: News, now: Timestamp) {
    let desired = keep.desired();
    listener.on(match news {
        News::Checked { check, took } => {
            if let Some(record) = keep.record(check) {
                listener.on_check(&desired.check(check).name, record, took);
            }
            return;
        }
        News::Verdict { check: id, from, to } => {
            let check = desired.check(id);
            let failure = keep.record(id).and_then(|record| record.last_failure());
            let says = match failure.filter(|_| to == Verdict::Down) {
                Some((address, failure)) if !address.is_empty() => Some(format!("{address}: {}", failure.why)),
                Some((_, failure)) => Some(failure.why.to_string()),
                None => None,
            };
            let endpoint = check.endpoint().map(|endpoint| desired.endpoint(endpoint).name.clone());
            Event::Verdict { check: check.name.clone(), endpoint, from, to, says, at: now }
        }
        News::Gives { id, endpoints, reason } => Event::Gives {
            hostname: desired.hostname(id).hostname.clone(),
            endpoints: endpoints.iter().map(|id| desired.endpoint(*id).name.clone()).collect(),
            why: reason.to_string(),
        },
        News::Switched(switched) => {
            let Switched { hostname, from, to, reason, seen, decided, primary, everywhere, until } = *switched;
            Event::Switched { hostname, from, to, why: why(reason), seen, decided, primary, everywhere, until }
        }
        News::InTheWay { hostname, finding, failed } => Event::Stuck { hostname, failed, finding, next: None },
        News::Note(says) => Event::Note { says: one_line(says) },
    });
}
