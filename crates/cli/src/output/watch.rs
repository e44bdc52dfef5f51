//! A change of records on its way: lines that are drawn anew on a terminal, a line for each change in a pipe, JSON
//! events for programs.

use std::collections::HashMap;
use std::io::{IsTerminal as _, Write as _};
use std::sync::{Mutex, PoisonError};

use comfy_table::Cell;
use indicatif::{MultiProgress, ProgressBar, ProgressDrawTarget};
use jiff::Timestamp;
use pindrel_core::judging::pins::PinState;
use pindrel_core::zones::propagation::{Peer, Reached, Spread};
use pindrel_core::zones::records::in_words;
use pindrel_engine::{WatchRequest, seconds_until};
use serde_json::json;

use super::live::{line_style, shown};
use super::times::{age, clock};
use super::{log, style, table_colour};
use crate::args::Format;
use crate::context::Context;
use crate::error::CliError;

/// The display of one watch.
pub(crate) struct Watching {
    format: Format,
    quiet: bool,
    name: String,
    begun: Timestamp,
    live: Option<(MultiProgress, Mutex<Vec<ProgressBar>>)>,
    told: Mutex<HashMap<String, Reached>>,
}

/// The mark, the word and the colour of a state.
fn word(reached: &Reached) -> (&'static str, &'static str, PinState) {
    match reached {
        Reached::NotAsked => ("·", "not asked", PinState::Unknown),
        Reached::Has => ("◆", "has it", PinState::Held),
        Reached::NotYet { .. } => ("◈", "not yet", PinState::Working),
        Reached::Wrong { .. } => ("✕", "wrong", PinState::Blocked),
        Reached::Silent { .. } => ("✕", "no answer", PinState::Blocked),
    }
}

/// What it gives, and for how long.
fn detail(reached: &Reached, now: Timestamp) -> String {
    match reached {
        Reached::NotAsked | Reached::Has => String::new(),
        Reached::NotYet { gives, until: Some(until) } => {
            format!("{gives}, for {} more", age(seconds_until(*until, now)))
        }
        Reached::NotYet { gives, until: None } | Reached::Wrong { gives } => gives.clone(),
        Reached::Silent { why } => why.clone(),
    }
}

fn peers(spread: &Spread) -> impl Iterator<Item = (&'static str, &Peer)> {
    let servers = spread.servers.iter().map(|peer| ("server", peer));
    servers.chain(spread.resolvers.iter().map(|peer| ("resolver", peer)))
}

impl Watching {
    /// Chooses the display by the format and the terminal.
    pub(crate) fn start(context: &Context, order: &WatchRequest) -> Watching {
        let is_live =
            std::io::stderr().is_terminal() && !context.quiet && !log::is_json() && context.format == Format::Text;
        let live = is_live
            .then(|| (MultiProgress::with_draw_target(ProgressDrawTarget::stderr_with_hz(8)), Mutex::new(Vec::new())));
        Watching {
            format: context.format,
            quiet: context.quiet,
            name: order.owner.to_string(),
            begun: Timestamp::now(),
            live,
            told: Mutex::default(),
        }
    }

    fn title(&self, spread: &Spread, now: Timestamp) -> String {
        let end = match spread.until() {
            Some(until) => format!("caches keep what was before until {}", clock(now, until)),
            None if spread.is_everywhere() => "what was before is not known to be in any cache".into(),
            None => "the end is known once every server has it".into(),
        };
        format!("{}  {}; {end}", style::paint(style::STRONG, &self.name), in_words(spread.wanted()))
    }

    /// Shows a state.
    pub(crate) fn show(&self, spread: &Spread) {
        let now = Timestamp::now();
        if let Some((bars, lines)) = &self.live {
            let mut lines = lines.lock().unwrap_or_else(PoisonError::into_inner);
            let width = peers(spread).map(|(_, peer)| peer.address.len()).max().unwrap_or(0);
            let texts = std::iter::once(self.title(spread, now)).chain(peers(spread).map(|(role, peer)| {
                let (mark, word, like) = word(&peer.reached);
                let state = style::paint(style::of(like), format_args!("{mark} {word:<9}"));
                format!("  {state}  {role:<8}  {:<width$}  {}", peer.address, detail(&peer.reached, now))
            }));
            for (index, text) in texts.enumerate() {
                if lines.len() <= index {
                    let bar = bars.add(ProgressBar::new_spinner());
                    bar.set_style(line_style());
                    lines.push(bar);
                }
                lines[index].set_message(shown(&text));
            }
            return;
        }
        let mut told = self.told.lock().unwrap_or_else(PoisonError::into_inner);
        for (role, peer) in peers(spread) {
            // Only the time that is left counts down: no news.
            let is_news = match (told.get(&peer.address), &peer.reached) {
                (Some(Reached::NotYet { gives: before, .. }), Reached::NotYet { gives, .. }) => before != gives,
                (before, reached) => before != Some(reached),
            };
            if is_news && (peer.reached != Reached::NotAsked) {
                self.tell(role, peer, now);
                told.insert(peer.address.clone(), peer.reached.clone());
            }
        }
    }

    fn tell(&self, role: &str, peer: &Peer, now: Timestamp) {
        if self.format == Format::Json {
            let mut event = json!({ "event": "peer", "at": now, "role": role });
            if let (Some(event), Ok(serde_json::Value::Object(peer))) =
                (event.as_object_mut(), serde_json::to_value(peer))
            {
                event.extend(peer);
            }
            let _ = writeln!(std::io::stdout().lock(), "{event}");
        } else if !self.quiet {
            let (_, word, _) = word(&peer.reached);
            let detail = detail(&peer.reached, now);
            let detail = if detail.is_empty() { detail } else { format!(": {detail}") };
            let _ = writeln!(super::stderr(), "{} {role} {} {word}{detail}", now.strftime("%H:%M:%S"), peer.address);
        }
    }

    /// Shows how it ended.
    pub(crate) fn end(self, spread: &Spread) -> Result<(), CliError> {
        let now = Timestamp::now();
        if let Some((bars, _)) = &self.live {
            let _ = bars.clear();
        }
        let seconds = now.duration_since(self.begun).as_secs_f64();
        let waiting = spread.waiting_for();
        let wrong: Vec<&str> = spread.wrong().map(|peer| peer.address.as_str()).collect();
        if self.format == Format::Json {
            let summary = json!({
                "event": "summary", "done": spread.is_done(), "waiting_for": waiting, "wrong": wrong,
                "until": spread.until(), "old_ttl": spread.old_ttl(), "seconds": (seconds * 10.0).round() / 10.0,
            });
            return Ok(writeln!(std::io::stdout().lock(), "{summary}")?);
        }
        let mut table = super::table(&["WHO", "ADDRESS", "STATE", "WHAT IT GIVES"]);
        for (role, peer) in peers(spread) {
            let (mark, word, like) = word(&peer.reached);
            let given = match &peer.reached {
                Reached::Has => in_words(spread.wanted()),
                reached => detail(reached, now),
            };
            table.add_row([
                Cell::new(role),
                Cell::new(&peer.address),
                Cell::new(format!("{mark} {word}")).fg(table_colour(like)),
                Cell::new(given),
            ]);
        }
        super::write_table(table, &[], &[3, 1])?;
        let mut out = super::stdout();
        if spread.is_done() {
            let done = style::paint(style::GOOD, "Done");
            return Ok(writeln!(out, "{done}: every server and every resolver has it, after {seconds:.0} s.")?);
        }
        if !wrong.is_empty() {
            let mark = style::paint(style::BAD, "✕");
            let who = wrong.join(" and ");
            writeln!(out, "{mark} {who} gives something else, which will not change by itself.")?;
            let remedy = "Check which zone it has, and from where it takes it";
            return super::finding::print_remedy(&mut out, now, remedy, None);
        }
        let until = spread.until().map_or_else(String::new, |until| {
            format!(", and caches may keep what was before until {}", clock(now, until))
        });
        let mark = style::paint(style::UNDERWAY, "Not there yet");
        if let Some(first) = spread.servers.first().filter(|first| first.reached != Reached::Has) {
            let who = &first.address;
            return Ok(writeln!(out, "{mark}: {who}, which takes changes, does not have it; has it been made?")?);
        }
        let verb = if waiting.len() == 1 { "does" } else { "do" };
        Ok(writeln!(out, "{mark}: {} {verb} not have it{until}.", waiting.join(" and "))?)
    }
}
