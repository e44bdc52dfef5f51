//! Standard error as programs read it: with `--log-format json` every line of it is a JSON object.

use std::io::Write as _;
use std::sync::atomic::{AtomicBool, Ordering};

use jiff::Timestamp;
use serde_json::json;

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
