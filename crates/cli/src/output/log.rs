//! Standard error as programs read it: with `--log-format json` every line of it is a JSON object.

use std::io::Write as _;
use std::sync::atomic::{AtomicBool, Ordering};

use jiff::Timestamp;
use pindrel_core::text::display_text::one_line;
use serde_json::json;
use tracing::{Event, Level, Subscriber};
use tracing_subscriber::fmt::format::{FormatEvent, Writer};
use tracing_subscriber::fmt::{FmtContext, FormatFields};
use tracing_subscriber::registry::LookupSpan;

/// Whether standard error is JSON lines; set once, before anything is written.
static JSON: AtomicBool = AtomicBool::new(false);

/// Makes every line of standard error a JSON object, or not.
pub(crate) fn set_json(json: bool) {
    JSON.store(json, Ordering::Relaxed);
}

/// Says whether standard error is JSON lines.
pub(crate) fn is_json() -> bool {
    JSON.load(Ordering::Relaxed)
}

/// Writes what happens to standard error; nothing is left to do when that fails.
pub(crate) fn say(text: &str) {
    write("INFO", text);
}

/// Writes what went wrong to standard error.
pub(crate) fn fail(text: &str) {
    write("ERROR", text);
}

fn write(level: &str, text: &str) {
    if is_json() {
        let message = anstream::adapter::strip_str(text).to_string();
        let line = json!({ "timestamp": Timestamp::now(), "level": level, "fields": { "message": message } });
        let _ = writeln!(std::io::stderr(), "{line}");
    } else {
        let _ = writeln!(super::stderr(), "{text}");
    }
}

/// Log lines as people read them: one line each, without what a terminal would obey.
pub(crate) struct Sentences {
    /// Whether to say when it was, and in which part.
    pub(crate) with_places: bool,
}

impl<S, N> FormatEvent<S, N> for Sentences
where
    S: Subscriber + for<'s> LookupSpan<'s>,
    N: for<'w> FormatFields<'w> + 'static,
{
    fn format_event(
        &self,
        context: &FmtContext<'_, S, N>,
        mut writer: Writer<'_>,
        event: &Event<'_>,
    ) -> std::fmt::Result {
        let mut says = String::new();
        context.format_fields(Writer::new(&mut says), event)?;
        let level = match *event.metadata().level() {
            Level::ERROR => "error",
            Level::WARN => "warning",
            Level::INFO => "info",
            Level::DEBUG => "debug",
            Level::TRACE => "trace",
        };
        if self.with_places {
            write!(writer, "{:.3} {}: ", Timestamp::now(), event.metadata().target())?;
        }
        writeln!(writer, "{level}: {}", one_line(says))
    }
}
