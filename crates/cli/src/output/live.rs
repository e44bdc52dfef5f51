//! A run on a terminal: a line for the whole, and one for each hostname at work.

use std::collections::HashMap;
use std::sync::{Mutex, PoisonError};
use std::time::Duration;

use indicatif::{MultiProgress, ProgressBar, ProgressDrawTarget, ProgressStyle};
use jiff::Timestamp;
use pindrel_core::judging::pins::{Pin, PinState};
use pindrel_core::names::name::Hostname;
use pindrel_engine::Event;

use super::marks::{PinStates, marks};
use super::style;
use super::times::for_people;
use super::wrap::named_in_columns;

/// The most hostnames that have a live line; more are only counted.
const MOST_LIVE: usize = 16;
/// What a live line says until it is known what there is to do.
const LOOKING: &str = "looking";
/// How often live lines are drawn anew.
const TICK: Duration = Duration::from_millis(120);
/// A line at work, with a clock of its own; one that is idle has none.
const AT_WORK: &str = "{spinner} {wide_msg} {elapsed:>4}";
const IDLE: &str = "  {wide_msg}";

/// The live lines.
pub(super) struct Live {
    bars: MultiProgress,
    total: ProgressBar,
    width: usize,
    lines: Mutex<Lines>,
}

#[derive(Default)]
struct Lines {
    of: HashMap<Hostname, Line>,
    planned: usize,
    ended: usize,
    under_way: usize,
    waits_for: String,
}

struct Line {
    bar: ProgressBar,
    pins: PinStates,
    doing: String,
    steps: usize,
}

fn style(template: &str) -> ProgressStyle {
    // The templates are constant and right; the default would only look different.
    let style = ProgressStyle::with_template(template).unwrap_or_else(|_| ProgressStyle::default_spinner());
    style.tick_strings(&["⠋", "⠙", "⠹", "⠸", "⠼", "⠴", "⠦", "⠧", "⠇", "⠏", " "])
}

/// A line that is nothing but its text.
pub(super) fn line_style() -> ProgressStyle {
    style("{wide_msg}")
}

/// Writes names in Unicode, and takes the colours away where the stream has none.
pub(super) fn shown(text: &str) -> String {
    let text = &*named_in_columns(text);
    match anstream::AutoStream::choice(&std::io::stderr()) {
        anstream::ColorChoice::Never => anstream::adapter::strip_str(text).to_string(),
        _ => text.to_owned(),
    }
}

impl Live {
    pub(super) fn new(width: usize) -> Live {
        let bars = MultiProgress::new();
        let total = bars.add(ProgressBar::new_spinner());
        total.set_style(style(AT_WORK));
        Live { bars, total, width, lines: Mutex::default() }
    }

    /// Takes the lines away.
    pub(super) fn close(&self) {
        let _ = self.bars.clear();
        // Their ticks would draw them again below what is printed after the run.
        self.bars.set_draw_target(ProgressDrawTarget::hidden());
    }

    pub(super) fn on(&self, event: &Event) {
        let mut lines = self.lines.lock().unwrap_or_else(PoisonError::into_inner);
        match event {
            Event::Pins { hostname, pins } => self.change(&mut lines, hostname, |line| line.pins = pins.clone()),
            Event::StepStarted { hostname, action, target, .. } => {
                lines.under_way += 1;
                self.change(&mut lines, hostname, |line| {
                    if line.steps == 0 {
                        line.bar.reset_elapsed();
                        line.bar.set_style(style(AT_WORK));
                    }
                    line.steps += 1;
                    line.doing = format!("{action}: {target}");
                });
            }
            Event::StepEnded { hostname, action, .. } => self.end(&mut lines, hostname, format!("{action} done")),
            Event::StepFailed { hostname, action, finding, .. } => {
                let says = style::paint(style::BAD, format_args!("{action} failed: {}", finding.says()));
                self.end(&mut lines, hostname, says);
            }
            Event::StepPutOff { hostname, action, finding, .. } => {
                let says = style::paint(style::UNDERWAY, format_args!("{action} put off: {}", finding.says()));
                self.end(&mut lines, hostname, says);
            }
            Event::Waiting { hostname, action, what, .. } => {
                lines.waits_for = what.clone();
                self.change(&mut lines, hostname, |line| line.doing = format!("{action} waits for {what}"));
            }
            Event::Note { says } => {
                let _ = self.bars.println(for_people(Timestamp::now(), &format!("note: {says}")));
            }
            // Nothing is drawn before: a question may be asked first.
            Event::Looking { .. } => {
                self.total.set_message(LOOKING);
                self.total.enable_steady_tick(TICK);
            }
            Event::Planned { steps } => {
                lines.planned = *steps;
                self.total.enable_steady_tick(TICK);
                self.stop_looking(&mut lines);
            }
            Event::Changed { .. }
            | Event::Stuck { .. }
            | Event::LeftOver { .. }
            | Event::Verdict { .. }
            | Event::Gives { .. }
            | Event::Switched { .. }
            | Event::Passed(_)
            | Event::Summary(_) => {}
        }
        let Lines { planned, ended, under_way, waits_for, .. } = &*lines;
        if *planned > 0 {
            let waits = if waits_for.is_empty() { String::new() } else { format!("; waiting for {waits_for}") };
            let steps = super::count(*planned, "step");
            let message = format!("{ended} of {steps} done, {under_way} under way{waits}");
            self.total.set_message(shown(&for_people(Timestamp::now(), &message)));
        }
    }

    fn end(&self, lines: &mut Lines, hostname: &Hostname, doing: String) {
        lines.ended += 1;
        lines.under_way = lines.under_way.saturating_sub(1);
        if lines.under_way == 0 {
            lines.waits_for.clear();
        }
        self.change(lines, hostname, |line| {
            line.steps = line.steps.saturating_sub(1);
            line.doing = doing;
            // What has ended needs no clock.
            if line.steps == 0 {
                line.bar.set_style(style(IDLE));
            }
        });
    }

    /// Says of the hostnames that were looked at what is next for them.
    fn stop_looking(&self, lines: &mut Lines) {
        for (hostname, line) in lines.of.iter_mut().filter(|(_, line)| line.doing == LOOKING) {
            let held = Pin::ALL.iter().all(|pin| line.pins.get(pin) == Some(&PinState::Held));
            line.doing = if held { "nothing to do" } else { "waits for its turn" }.into();
            line.bar.set_style(style(IDLE));
            self.show(hostname, line);
        }
    }

    fn change(&self, lines: &mut Lines, hostname: &Hostname, change: impl FnOnce(&mut Line)) {
        if !lines.of.contains_key(hostname) {
            if lines.of.len() >= MOST_LIVE {
                return;
            }
            let bar = self.bars.add(ProgressBar::new_spinner());
            bar.set_style(style(AT_WORK));
            bar.enable_steady_tick(TICK);
            let line = Line { bar, pins: PinStates::new(), doing: LOOKING.into(), steps: 0 };
            lines.of.insert(hostname.clone(), line);
        }
        if let Some(line) = lines.of.get_mut(hostname) {
            change(line);
            self.show(hostname, line);
        }
    }

    fn show(&self, hostname: &Hostname, line: &Line) {
        let name = format!("{hostname:width$}", width = self.width);
        let doing = for_people(Timestamp::now(), &line.doing);
        line.bar.set_message(shown(&format!("{}  {name}  {doing}", marks(&line.pins))));
    }
}
