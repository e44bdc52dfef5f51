//! A run while it is under way: live lines on a terminal, plain lines in a pipe, JSON
//! events for programs. All of them consume the engine's events and nothing else.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::io::{IsTerminal as _, Write as _};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use jiff::Timestamp;
use pindrel_core::desired::Desired;
use pindrel_core::judging::findings::{Again, Finding, Words};
use pindrel_core::names::name::Hostname;
use pindrel_engine::{Aim, Event, Listener, Scope, Summary};

use super::finding::print_remedy;
use super::grouping::grouped;
use super::live::Live;
use super::log;
use super::marks::{PinStates, marks};
use super::times::for_people;
use super::{count, held_of, style};
use crate::args::Format;
use crate::context::Context;
use crate::error::CliError;

/// The most hostnames that are listed at the end.
const MOST_LISTED: usize = 40;
/// How often a pipe is told at most that something is waited for.
const TELL_WAITS: Duration = Duration::from_secs(10);
/// How often it is told that the same thing is still waited for.
const TELL_AGAIN: Duration = Duration::from_secs(60);

/// The display of one run.
pub(crate) struct Progress {
    display: Arc<dyn Display>,
    /// The steps that have begun and not ended, by their numbers.
    under_way: Arc<Mutex<BTreeMap<u32, String>>>,
}

/// A consumer of events that also says how it ended.
trait Display: Listener {
    fn close(&self);
    fn finish(&self, summary: &Summary) -> Result<(), CliError>;
}

/// Chooses the display by the format and the terminal.
pub(crate) fn start(context: &Context, desired: &Desired, scope: &Scope, aim: Aim) -> Progress {
    let hostnames = scope.hostnames.iter().map(|id| &desired.hostname(*id).hostname);
    let names = || hostnames.chain(scope.certificates.iter().filter_map(|id| desired.certificate(*id).names.first()));
    let live = std::io::stderr().is_terminal() && !context.quiet && !log::is_json();
    let display: Arc<dyn Display> = match context.format {
        Format::Json => Arc::new(JsonLines::default()),
        Format::Text | Format::Csv => Arc::new(Text {
            live: live.then(|| Live::new(names().map(|name| name.as_str().len()).max().unwrap_or(0))),
            plain: !live && !context.quiet,
            quiet: context.quiet,
            aim,
            seen: Mutex::default(),
        }),
    };
    Progress { display, under_way: Arc::default() }
}

impl Progress {
    /// Returns who is to be told the events.
    pub(crate) fn listener(&self) -> Arc<dyn Listener> {
        Arc::new(Forward { display: self.display.clone(), under_way: self.under_way.clone() })
    }

    /// Takes the live lines away, and returns the steps that are under way.
    pub(crate) fn abandon(&self) -> Vec<String> {
        self.display.close();
        let under_way = self.under_way.lock().unwrap_or_else(PoisonError::into_inner);
        under_way.values().cloned().collect()
    }

    /// Writes what came of the run.
    pub(crate) fn finish(&self, summary: &Summary) -> Result<(), CliError> {
        self.display.close();
        self.display.finish(summary)
    }
}

struct Forward {
    display: Arc<dyn Display>,
    under_way: Arc<Mutex<BTreeMap<u32, String>>>,
}

impl Listener for Forward {
    fn on(&self, event: Event) {
        let mut under_way = self.under_way.lock().unwrap_or_else(PoisonError::into_inner);
        match &event {
            Event::StepStarted { id, hostname, action, .. } => {
                under_way.insert(*id, format!("{action} {hostname}"));
            }
            Event::StepEnded { id, .. } | Event::StepFailed { id, .. } | Event::StepPutOff { id, .. } => {
                under_way.remove(id);
            }
            _ => {}
        }
        drop(under_way);
        self.display.on(event);
    }
}

/// One JSON object a line.
#[derive(Default)]
struct JsonLines {
    /// The first line that could not be written; the work goes on without its reader.
    failed: Mutex<Option<CliError>>,
}

impl Listener for JsonLines {
    fn on(&self, event: Event) {
        if let Err(error) = super::json(&super::EventLine::new(&event)) {
            self.failed.lock().unwrap_or_else(PoisonError::into_inner).get_or_insert(error);
        }
    }
}

impl Display for JsonLines {
    fn close(&self) {}

    fn finish(&self, _summary: &Summary) -> Result<(), CliError> {
        self.failed.lock().unwrap_or_else(PoisonError::into_inner).take().map_or(Ok(()), Err)
    }
}

/// For people: what happens goes to standard error, what came of it to standard output.
struct Text {
    live: Option<Live>,
    plain: bool,
    quiet: bool,
    aim: Aim,
    seen: Mutex<Seen>,
}

/// What is in a hostname's way at the end of a run.
struct InTheWay {
    hostname: Hostname,
    failed: bool,
    finding: Finding,
    next: Option<Timestamp>,
}

#[derive(Default)]
struct Seen {
    pins: BTreeMap<Hostname, PinStates>,
    /// The hostnames that had a step, or have something in their way.
    touched: BTreeSet<Hostname>,
    stuck: Vec<InTheWay>,
    leftovers: Vec<(Hostname, Finding)>,
    /// The waits that a pipe was told, and when.
    waits: HashMap<(Hostname, &'static str), (String, Instant)>,
    /// When a pipe was last told that something is waited for.
    told_waits: Option<Instant>,
}

impl Listener for Text {
    fn on(&self, event: Event) {
        let mut seen = self.seen.lock().unwrap_or_else(PoisonError::into_inner);
        match &event {
            Event::Pins { hostname, pins } => {
                seen.pins.insert(hostname.clone(), pins.clone());
            }
            Event::StepStarted { hostname, .. } => {
                seen.touched.insert(hostname.clone());
            }
            Event::Stuck { hostname, failed, finding, next } => {
                seen.touched.insert(hostname.clone());
                let (hostname, finding) = (hostname.clone(), finding.clone());
                seen.stuck.push(InTheWay { hostname, failed: *failed, finding, next: *next });
            }
            Event::LeftOver { hostname, finding, .. } => seen.leftovers.push((hostname.clone(), finding.clone())),
            // A terminal has a line for each.
            Event::Waiting { .. } if self.live.is_some() => {}
            Event::Waiting { hostname, action, what, .. } => {
                let key = (hostname.clone(), *action);
                let told = seen.waits.get(&key);
                // Waiting for the same thing is no news before a while.
                if told.is_some_and(|(told, at)| told == what && at.elapsed() < TELL_AGAIN) {
                    return;
                }
                // Many steps wait at once, and each for several things: what still waits then is told then.
                if seen.told_waits.is_some_and(|told| told.elapsed() < TELL_WAITS) {
                    return;
                }
                let now = Instant::now();
                seen.told_waits = Some(now);
                seen.waits.insert(key, (what.clone(), now));
            }
            _ => {}
        }
        let line = if self.plain { plain_line(&event) } else { None };
        drop(seen);
        match (&self.live, line) {
            (Some(live), _) => live.on(&event),
            (None, Some(line)) => log::say(&for_people(Timestamp::now(), &line)),
            (None, None) => {}
        }
    }
}

impl Display for Text {
    fn close(&self) {
        if let Some(live) = &self.live {
            live.close();
        }
    }

    fn finish(&self, summary: &Summary) -> Result<(), CliError> {
        let seen = self.seen.lock().unwrap_or_else(PoisonError::into_inner);
        // With --quiet, a run after which everything is held prints nothing.
        if self.quiet && summary.held == summary.total && seen.stuck.is_empty() && seen.leftovers.is_empty() {
            return Ok(());
        }
        let mut out = super::stdout();
        let listed = seen.pins.iter().filter(|(hostname, _)| seen.touched.contains(hostname));
        for (hostname, pins) in listed.clone().take(MOST_LISTED) {
            writeln!(out, "{}  {hostname}", marks(pins))?;
        }
        if listed.clone().count() > MOST_LISTED {
            writeln!(out, "… and {} more", listed.count() - MOST_LISTED)?;
        }
        let now = Timestamp::now();
        let told = seen.stuck.iter().map(|told| {
            let minute = told.next.map(|next| next.as_second() / 60);
            (told.hostname.as_str(), Some(&told.finding), (told.failed, minute), told)
        });
        for group in grouped(told) {
            let (failed, next) = (group.first.failed, group.first.next);
            let Some(Words { says, remedy, .. }) = group.words().map(Words::after_settle) else { continue };
            let is_for_person = group.first.finding.again() == Again::Person;
            let (colour, word) = match (failed, next) {
                (true, _) => (style::BAD, "failed"),
                (false, Some(_)) => (style::UNDERWAY, "waiting"),
                (false, None) if is_for_person => (style::UNDERWAY, "stuck"),
                (false, None) => (style::UNDERWAY, "not held"),
            };
            let (word, says) = (style::paint(colour, word), for_people(now, &says));
            writeln!(out, "{word} {}: {says}", group.label())?;
            if let Some(listed) = group.listed() {
                writeln!(out, "    {}", style::paint(style::FAINT, listed))?;
            }
            print_remedy(&mut out, now, &remedy, next)?;
        }
        // What is in the way of taking one away was just told.
        let is_told = |hostname: &Hostname| seen.stuck.iter().any(|told| told.hostname == *hostname);
        let leftovers: Vec<&Finding> =
            seen.leftovers.iter().filter(|(hostname, _)| !is_told(hostname)).map(|(_, finding)| finding).collect();
        for finding in leftovers.iter().take(MOST_LISTED) {
            let says = finding.says();
            writeln!(out, "{} {}", style::paint(style::UNDERWAY, "left over"), for_people(now, &says))?;
        }
        if leftovers.len() > MOST_LISTED {
            writeln!(out, "… and {} more left over", leftovers.len() - MOST_LISTED)?;
        }
        if let Some(finding) = leftovers.first() {
            print_remedy(&mut out, now, &finding.remedy(), None)?;
        }
        writeln!(out, "{}", sentence(summary, self.aim))?;
        Ok(())
    }
}

fn sentence(summary: &Summary, aim: Aim) -> String {
    let Summary { held, total, failed, steps, planned, acme_requests, lost_orders, .. } = summary;
    let colour = if held == total { style::GOOD } else { style::UNDERWAY };
    let sum = style::paint(
        colour,
        match aim {
            Aim::Hold | Aim::HoldAliases => held_of(*held, *total, summary.certificates),
            Aim::Rehearse => format!("{held} of {} proven", count(*total, "set-up")),
        },
    );
    let taken =
        if steps == planned { count(*steps, "step") } else { format!("{steps} of {}", count(*planned, "step")) };
    let spent = || format!("in {:.1} s, of which {:.1} s waiting", summary.seconds, summary.waited_seconds);
    let mut text = match planned {
        _ if *total == 0 && summary.retired + summary.leftovers > 0 => {
            let (retired, all) = (summary.retired, summary.retired + summary.leftovers);
            format!("{retired} of {} retired after {taken} {}.", count(all, "hostname"), spent())
        }
        0 if held == total => format!("Nothing to do: {sum}."),
        0 => format!("{sum}."),
        _ => format!("{sum} after {taken} {}.", spent()),
    };
    if summary.retired > 0 && *total > 0 {
        text.push_str(&format!(" {} retired.", summary.retired));
    }
    if *failed > 0 {
        text.push_str(&format!(" {}.", style::paint(style::BAD, format_args!("{failed} failed"))));
    }
    if summary.waiting > 0 {
        text.push_str(&format!(" {} put off to a later run.", summary.waiting));
    }
    if summary.leftovers > 0 {
        text.push_str(&format!(" {}.", style::paint(style::UNDERWAY, format_args!("{} left over", summary.leftovers))));
    }
    if *acme_requests > 0 {
        text.push_str(&format!(
            " {} to the authority.",
            count(usize::try_from(*acme_requests).unwrap_or(0), "request")
        ));
    }
    if *lost_orders > 0 {
        text.push_str(&format!(" {} lost.", count(usize::try_from(*lost_orders).unwrap_or(0), "order")));
    }
    text
}

/// What a pipe is told: a line for each step, once it has ended, and for what takes its time.
fn plain_line(event: &Event) -> Option<String> {
    Some(match event {
        Event::Looking { hostnames, total } if hostnames > &0 => {
            format!("looking at {hostnames} of {}", count(*total, "hostname"))
        }
        Event::StepEnded { hostname, action, target, seconds, .. } => {
            format!("{hostname}: {action}: {target} done in {seconds:.1} s")
        }
        Event::StepFailed { hostname, action, finding, .. } => {
            format!("{hostname}: {action} failed: {}", finding.says())
        }
        Event::StepPutOff { hostname, action, finding, .. } => {
            format!("{hostname}: {action} put off: {}", finding.says())
        }
        Event::Waiting { hostname, action, what, until } => {
            let until = until.map_or_else(String::new, |until| format!(", until {until:.0}"));
            format!("{hostname}: {action} waits for {what}{until}")
        }
        Event::Note { says } => format!("note: {says}"),
        _ => return None,
    })
}

#[cfg(test)]
mod tests {
    use pindrel_core::judging::pins::{Pin, PinState};

    use super::*;

    fn plain(text: &str) -> String {
        anstream::adapter::strip_str(text).to_string()
    }

    #[test]
    fn a_run_ends_in_one_sentence_that_says_what_came_of_it() {
        let none = Summary::default();
        let done =
            Summary { held: 4, total: 4, steps: 28, planned: 28, seconds: 5.26, waited_seconds: 4.0, ..none.clone() };
        for (summary, aim, expected) in [
            (Summary { planned: 0, ..done.clone() }, Aim::Hold, "Nothing to do: 4 of 4 hostnames held."),
            (Summary { held: 3, planned: 0, ..done.clone() }, Aim::Hold, "3 of 4 hostnames held."),
            (done.clone(), Aim::Hold, "4 of 4 hostnames held after 28 steps in 5.3 s, of which 4.0 s waiting."),
            (
                Summary { held: 3, failed: 1, steps: 21, acme_requests: 21, lost_orders: 1, ..done.clone() },
                Aim::Hold,
                "3 of 4 hostnames held after 21 of 28 steps in 5.3 s, of which 4.0 s waiting. 1 failed. \
                 21 requests to the authority. 1 order lost.",
            ),
            (
                Summary { held: 1, total: 2, steps: 1, planned: 1, seconds: 1.0, waited_seconds: 0.0, ..none },
                Aim::Rehearse,
                "1 of 2 set-ups proven after 1 step in 1.0 s, of which 0.0 s waiting.",
            ),
        ] {
            assert_eq!(plain(&sentence(&summary, aim)), expected);
        }
    }

    #[test]
    fn a_pipe_is_told_each_thing_in_a_line_that_starts_with_its_name() {
        let hostname: Hostname = "api.larkfield.example".parse().unwrap();
        let (action, id) = ("alias", 7);
        let line = |event: &Event| plain_line(event).unwrap_or_default();
        let until = "2026-11-26T08:15:07Z".parse().ok();
        for (event, expected) in [
            (Event::Looking { hostnames: 0, total: 9 }, ""),
            (Event::Looking { hostnames: 2, total: 9 }, "looking at 2 of 9 hostnames"),
            (Event::StepStarted { id, hostname: hostname.clone(), action, target: "catalogue".into() }, ""),
            (
                Event::StepEnded { id, hostname: hostname.clone(), action, target: "catalogue".into(), seconds: 0.25 },
                "api.larkfield.example: alias: catalogue done in 0.2 s",
            ),
            (
                Event::Waiting { hostname: hostname.clone(), action, what: "the resolver".into(), until: None },
                "api.larkfield.example: alias waits for the resolver",
            ),
            (
                Event::Waiting { hostname: hostname.clone(), action, what: "the resolver".into(), until },
                "api.larkfield.example: alias waits for the resolver, until 2026-11-26T08:15:07Z",
            ),
            (Event::Pins { hostname, pins: BTreeMap::new() }, ""),
            (Event::Note { says: "the sandbox is not the world".into() }, "note: the sandbox is not the world"),
        ] {
            assert_eq!(line(&event), expected);
        }
        // A certificate by itself has no pins, and one that is not known yet has a mark too.
        assert_eq!(marks(&BTreeMap::new()), " ".repeat(Pin::ALL.len()));
        let known = BTreeMap::from([(Pin::Alias, PinState::Held)]);
        let shown = plain(&marks(&known));
        assert_eq!(shown.chars().count(), Pin::ALL.len());
        assert_eq!(shown.chars().filter(|mark| mark.to_string() == PinState::Held.mark().to_string()).count(), 1);
    }
}
