//! What `keep` shows: a table on a terminal, a line for each change in a pipe, JSON events for programs.

use std::collections::BTreeMap;
use std::io::{IsTerminal as _, Write as _};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use indicatif::{MultiProgress, ProgressBar};
use jiff::{SignedDuration, Timestamp};
use pindrel_core::desired::Desired;
use pindrel_core::health::{CheckRecord, Verdict};
use pindrel_core::judging::findings::Words;
use pindrel_core::text::display_text::one_line;
use pindrel_engine::{Event, KeepSummary, Listener};
use serde_json::json;

use super::health::{colour, latency, mark};
use super::line_writer::Lines;
use super::live::{line_style, shown};
use super::times::{age, for_people};
use super::wrap::for_stderr;
use super::{EventLine, VERSION, count, log, style};
use crate::args::Format;
use crate::context::Context;
use crate::error::CliError;
use crate::supervisor::Supervisor;
use crate::watching::Watching;

/// The most checks that have a line; of more, those that are not up are shown.
const MOST_ROWS: usize = 24;
/// How often the lines are drawn at most, each second.
const DRAWS: u8 = 8;

/// The display of one `keep`.
pub(crate) struct Keeping {
    format: Format,
    quiet: bool,
    live: Option<Live>,
    lines: Lines,
    /// Who hears that the process works on.
    pub(crate) supervisor: Supervisor,
    /// What is served over HTTP.
    pub(crate) watching: Arc<Watching>,
}

/// The lines of a terminal.
struct Live {
    bars: MultiProgress,
    title: ProgressBar,
    rows: Mutex<Rows>,
}

#[derive(Default)]
struct Rows {
    checks: BTreeMap<String, ProgressBar>,
    /// What the aliases of hostnames with several endpoints give.
    given: BTreeMap<String, ProgressBar>,
    width: usize,
    verdicts: BTreeMap<String, Verdict>,
    hostnames: usize,
}

impl Keeping {
    /// Chooses the display by the format and the terminal.
    pub(crate) fn start(context: &Context, desired: &Arc<Desired>, watching: Arc<Watching>) -> Arc<Keeping> {
        let is_live =
            std::io::stderr().is_terminal() && !context.quiet && !log::is_json() && context.format == Format::Text;
        let live = is_live.then(|| {
            let bars = MultiProgress::with_draw_target(indicatif::ProgressDrawTarget::stderr_with_hz(DRAWS));
            let title = bars.add(ProgressBar::new_spinner());
            title.set_style(line_style());
            Live { bars, title, rows: Mutex::default() }
        });
        let is_json = context.format == Format::Json;
        let lines = Lines::start(move |line| {
            if is_json {
                return writeln!(std::io::stdout().lock(), "{line}");
            }
            log::say(line);
            Ok(())
        });
        let keeping = Keeping {
            format: context.format,
            quiet: context.quiet,
            live,
            lines,
            supervisor: Supervisor::from_environment(),
            watching,
        };
        keeping.replace(desired);
        Arc::new(keeping)
    }

    /// Shows what another manifest has.
    pub(crate) fn replace(&self, desired: &Arc<Desired>) {
        self.watching.replace(desired.clone());
        let follows = |wanted: &&pindrel_core::desired::WantedHostname| wanted.follows_checks(desired);
        match &self.live {
            None => {
                let (names, checks) = (desired.hostnames.len(), desired.checks.len());
                self.note(&format!("keeping {} with {}", count(names, "hostname"), count(checks, "health check")));
            }
            Some(live) => {
                let mut rows = live.rows.lock().unwrap_or_else(PoisonError::into_inner);
                let old = std::mem::take(&mut *rows);
                old.checks.values().chain(old.given.values()).for_each(ProgressBar::finish_and_clear);
                let hostnames = desired.hostnames.iter().filter(follows).map(|wanted| wanted.hostname.as_str().len());
                let checks = desired.checks.iter().map(|check| check.name.chars().count());
                rows.width = checks.chain(hostnames).max().unwrap_or(0).min(48);
                rows.hostnames = desired.hostnames.len();
                for check in &desired.checks {
                    rows.verdicts.insert(check.name.clone(), Verdict::Unknown);
                }
                // Where there is room for all they stand in the manifest's order.
                if desired.checks.len() <= MOST_ROWS {
                    for check in &desired.checks {
                        let name = &check.name;
                        if let Some(bar) = live.add_row(&mut rows, name) {
                            bar.set_message(shown(&format!("  {} {name}", style::paint(style::FAINT, "·        "))));
                        }
                    }
                }
                live.title(&rows);
            }
        }
    }

    /// Tells something.
    pub(crate) fn note(&self, says: &str) {
        self.on(Event::Note { says: says.to_owned() });
    }

    /// Tells that a changed manifest has mistakes.
    pub(crate) fn broken(&self, error: &CliError) {
        let place = first_mistake(error);
        self.watching.broken(&place);
        self.note(&format!(
            "the manifest has changed and cannot be used, so the last good one stays in force: {place}"
        ));
    }

    /// Writes what was done.
    pub(crate) fn finish(&self, summary: &KeepSummary) -> Result<(), CliError> {
        if let Some(live) = &self.live {
            let _ = live.bars.clear();
        }
        if !self.lines.finish()? {
            let says = "what was told last was not read, so it is not written";
            return Err(CliError::Output(std::io::Error::new(std::io::ErrorKind::TimedOut, says)));
        }
        let KeepSummary { checks, verdicts, switches, passes, lateness } = summary;
        if self.format == Format::Json {
            let late = lateness.map(|(median, most, latest)| {
                json!({ "median": median.as_secs_f64(), "of_99_percent": most.as_secs_f64(), "most": latest.as_secs_f64() })
            });
            return super::json(&json!({
                "event": "summary", "version": VERSION, "at": Timestamp::now(), "checks": checks, "verdicts": verdicts, "switches": switches,
                "passes": passes, "late_seconds": late,
            }));
        }
        let mut out = super::stdout();
        let number = |n: u64| usize::try_from(n).unwrap_or(usize::MAX);
        // Quantiles are counted in steps, the latest is exact.
        let late = lateness.map_or(String::new(), |(_, most, latest)| {
            let most = most.min(latest);
            format!(" Of the checks 99 % began within {} of their time, all within {}.", latency(most), latency(latest))
        });
        writeln!(
            out,
            "Stopped after {}, {} and {} in {}.{late}",
            count(number(*checks), "check"),
            verdict_changes(number(*verdicts)),
            count(number(*switches), "switch").replace("switchs", "switches"),
            count(number(*passes), "pass").replace("passs", "passes"),
        )?;
        Ok(())
    }
}

/// The first mistake of a manifest with its place, or why it cannot be read.
pub(crate) fn first_mistake(error: &CliError) -> String {
    match error {
        CliError::Manifest(mistakes) => super::diagnostics::first_in_one_line(mistakes),
        other => other.to_string(),
    }
}

/// Tells something before there is a display.
pub(crate) fn note_first(context: &Context, says: &str) {
    let says = one_line(says);
    if context.format == Format::Json {
        let _ = super::json(&EventLine::new(&Event::Note { says }));
    } else {
        log::say(&for_people(Timestamp::now(), &format!("note: {says}")));
    }
}

/// Says that lines are missing.
fn left_out(lost: u64) -> String {
    format!("{lost} lines before this one are left out: whoever reads them did not keep up")
}

fn verdict_changes(number: usize) -> String {
    if number == 1 { "1 changed verdict".into() } else { format!("{number} changed verdicts") }
}

/// Writes the time from one moment to another: `0.3 s`, `12 s`, `2 min`.
fn between(from: Timestamp, to: Timestamp) -> String {
    let span = to.duration_since(from).max(SignedDuration::ZERO);
    match span.as_secs_f64() {
        seconds @ ..9.95 => format!("{seconds:.1} s"),
        _ => age(span.as_secs()),
    }
}

/// What a change says as a line.
fn line(event: &Event) -> Option<String> {
    Some(match event {
        Event::Verdict { check, to, says, from, .. } => {
            let why = says.as_ref().map_or(String::new(), |says| format!(": {says}"));
            let was = if *from == Verdict::Unknown { String::new() } else { format!(" (it was {from})") };
            let to = style::paint(colour(*to), format_args!("{} {to}", mark(*to)));
            format!("{to} {check}{was}{why}")
        }
        Event::Gives { hostname, endpoints, why } => {
            format!("{hostname} now points to {}: {why}", endpoints.join(" and "))
        }
        Event::Switched { hostname, from, to, why, seen, decided, primary, everywhere, until } => {
            let mut text = format!(
                "{} {hostname}: {} → {}, since {why}",
                style::paint(style::STRONG, "switched"),
                from.join(" and "),
                style::paint(style::STRONG, to.join(" and "))
            );
            let seen = seen
                .map_or(String::new(), |seen| format!("decided {} after the first failure, ", between(seen, *decided)));
            let all = between(primary.unwrap_or(*decided), *everywhere);
            let primary =
                primary.map_or(String::new(), |at| format!("on the primary {} later, ", between(*decided, at)));
            // Until when caches keep the old answer is known once no server gives it.
            let servers = if until.is_some() { "all servers" } else { "all that answer" };
            text.push_str(&format!("; {seen}{primary}on {servers} {all} after that"));
            if let Some(until) = until {
                text.push_str(&format!("; caches may give the old answer until {}", until.strftime("%H:%M:%S UTC")));
            }
            text
        }
        Event::StepEnded { hostname, action, seconds, .. } => format!("{hostname}: {action} done in {seconds:.1} s"),
        Event::StepFailed { hostname, action, finding, .. } => {
            let Words { says, remedy, .. } = finding.words().after_settle();
            let word = style::paint(style::BAD, "failed");
            format!("{word} {hostname}: {action}: {says}\n    {remedy}")
        }
        Event::StepPutOff { hostname, action, finding, .. } => {
            format!("{hostname}: {action} put off: {}", finding.says())
        }
        Event::Stuck { hostname, failed, finding, .. } => {
            let Words { says, remedy, .. } = finding.words().after_settle();
            let (colour, word) = if *failed { (style::BAD, "failed") } else { (style::UNDERWAY, "not held") };
            format!("{} {hostname}: {says}\n    {remedy}", style::paint(colour, word))
        }
        Event::LeftOver { finding, .. } => {
            format!("{} {}", style::paint(style::UNDERWAY, "left over"), finding.says())
        }
        Event::Note { says } => format!("note: {says}"),
        _ => return None,
    })
}

impl Live {
    fn title(&self, rows: &Rows) {
        let how_many = |verdict| rows.verdicts.values().filter(|own| **own == verdict).count();
        let (up, down, unknown) = (how_many(Verdict::Up), how_many(Verdict::Down), how_many(Verdict::Unknown));
        let part = |number: usize, word: &str, style| match number {
            0 => String::new(),
            _ => format!(", {}", style::paint(style, format_args!("{number} {word}"))),
        };
        let up = style::paint(style::GOOD, format_args!("{up} up"));
        let text = format!(
            "{} {}, {}: {up}{}{}",
            style::paint(style::STRONG, "keeping"),
            count(rows.hostnames, "hostname"),
            count(rows.verdicts.len(), "check"),
            part(down, "down", style::BAD),
            part(unknown, "unknown", style::FAINT),
        );
        self.title.set_message(shown(&text));
    }

    fn add_row(&self, rows: &mut Rows, name: &str) -> Option<ProgressBar> {
        if let Some(bar) = rows.checks.get(name) {
            return Some(bar.clone());
        }
        if rows.checks.len() >= MOST_ROWS {
            return None;
        }
        let bar = self.bars.add(ProgressBar::new_spinner());
        bar.set_style(line_style());
        rows.checks.insert(name.to_owned(), bar.clone());
        Some(bar)
    }

    fn checked(&self, name: &str, record: &CheckRecord, took: Option<Duration>) {
        let mut rows = self.rows.lock().unwrap_or_else(PoisonError::into_inner);
        let verdict = record.verdict;
        if rows.verdicts.insert(name.to_owned(), verdict) != Some(verdict) {
            self.title(&rows);
        }
        // Where there are many, only what is not up has a line.
        if rows.verdicts.len() > MOST_ROWS && verdict == Verdict::Up && record.failures() == 0 {
            if let Some(bar) = rows.checks.remove(name) {
                bar.finish_and_clear();
            }
            return;
        }
        let width = rows.width;
        let Some(bar) = self.add_row(&mut rows, name) else { return };
        let now = Timestamp::now();
        let since = record.since.map_or(String::new(), |since| age(now.as_second() - since.as_second()));
        let took = took.map_or_else(String::new, latency);
        let failing = record.last_failure().filter(|_| record.failures() > 0);
        let why = failing.map_or(String::new(), |(address, failure)| format!("{address} {}", failure.why));
        let why = match record.impossible() {
            Some(impossible) => format!("cannot be checked from here: {impossible}"),
            None => why,
        };
        let verdict = style::paint(colour(verdict), format_args!("{} {verdict:7}", mark(verdict)));
        bar.set_message(shown(&format!("  {verdict} {name:width$}  {since:>7}  {took:>7}  {why}")));
    }

    fn given(&self, hostname: &str, endpoints: &[String], why: &str) {
        let mut rows = self.rows.lock().unwrap_or_else(PoisonError::into_inner);
        let width = rows.width;
        let bar = rows.given.entry(hostname.to_owned()).or_insert_with(|| {
            let bar = self.bars.insert_after(&self.title, ProgressBar::new_spinner());
            bar.set_style(line_style());
            bar
        });
        let to = style::paint(style::STRONG, endpoints.join(" and "));
        let why = style::paint(style::FAINT, format_args!("({why})"));
        bar.set_message(shown(&format!("  → {hostname:width$}  {to}  {why}")));
    }
}

impl Listener for Keeping {
    fn on(&self, event: Event) {
        self.watching.happened(&event);
        if self.format == Format::Json {
            let line = |event: &Event| serde_json::to_string(&EventLine::new(event)).unwrap_or_default();
            self.lines.write(line(&event), |lost| line(&Event::Note { says: left_out(lost) }));
            return;
        }
        let now = Timestamp::now();
        if let Some(live) = &self.live {
            match &event {
                Event::Gives { hostname, endpoints, why } => live.given(hostname.as_str(), endpoints, why),
                Event::Switched { hostname, to, why, .. } => live.given(hostname.as_str(), to, why),
                _ => {}
            }
            // What a row shows is no news of its own.
            if matches!(event, Event::Gives { .. }) {
                return;
            }
            if let Some(line) = line(&event) {
                let time = style::paint(style::FAINT, now.strftime("%H:%M:%S"));
                let text = for_stderr(&shown(&format!("{time} {}", for_people(now, &line))));
                let _ = live.bars.println(text);
            }
            return;
        }
        if let Some(line) = line(&event).filter(|_| !self.quiet) {
            let time = if log::is_json() { String::new() } else { format!("{} ", now.strftime("%H:%M:%S")) };
            self.lines.write(format!("{time}{}", for_people(now, &line)), left_out);
        }
    }

    fn on_turn(&self) {
        self.supervisor.works_on();
        self.watching.turned();
    }

    fn on_check(&self, check: &str, record: &CheckRecord, took: Option<Duration>) {
        self.watching.figures.checked(took);
        if let Some(live) = &self.live {
            live.checked(check, record, took);
        }
    }
}
