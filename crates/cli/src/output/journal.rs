//! The journal.

use std::io::Write as _;

use pindrel_core::text::display_text::one_line;
use pindrel_engine::{Entry, ManifestOrigin, Moment};
use serde_json::json;

use super::wrap::named_in_columns;
use super::{VERSION, style};
use crate::args::Format;
use crate::context::Context;
use crate::error::CliError;

/// Writes entries, the oldest first. `is_cut` says that there are older ones.
pub(crate) fn print(context: &Context, entries: &[Entry], is_cut: bool) -> Result<(), CliError> {
    match context.format {
        Format::Json => {
            let entries: Vec<_> = entries
                .iter()
                .map(|entry| {
                    let Entry { at, moment, action, subject, detail } = entry;
                    let moment = moment.as_str();
                    json!({ "at": at, "moment": moment, "action": action, "about": subject, "detail": detail })
                })
                .collect();
            super::json(&json!({ "version": VERSION, "entries": entries, "cut": is_cut }))
        }
        Format::Csv => {
            let rows = entries.iter().map(|entry| {
                let Entry { at, moment, action, subject, detail } = entry;
                [at.to_string(), moment.as_str().to_owned(), action.clone(), subject.clone(), detail.clone()]
            });
            super::csv(&["at", "moment", "action", "about", "detail"], rows)?;
            if is_cut {
                super::notes::warn(&[left_out(entries)]);
            }
            Ok(())
        }
        Format::Text => print_text(entries, is_cut),
    }
}

/// Says that older entries are not shown.
fn left_out(entries: &[Entry]) -> String {
    format!(
        "these are the newest {}: --most shows more, --since and --about other ones",
        super::count(entries.len(), "entry")
    )
}

fn print_text(entries: &[Entry], is_cut: bool) -> Result<(), CliError> {
    let mut out = anstream::stdout();
    if entries.is_empty() {
        return Ok(writeln!(out, "No entries match.")?);
    }
    let width = |of: fn(&Entry) -> &str| entries.iter().map(|entry| of(entry).chars().count()).max().unwrap_or(0);
    let (action, subject) = (width(|entry| &entry.action), width(|entry| &entry.subject));
    for entry in entries {
        let colour = match entry.moment {
            Moment::Begun => style::FAINT,
            Moment::Done => style::GOOD,
            Moment::Waiting => style::UNDERWAY,
            Moment::Failed => style::BAD,
        };
        let moment = style::paint(colour, format_args!("{:7}", entry.moment.as_str()));
        let (of, about) = (&entry.action, &entry.subject);
        let detail = one_line(entry.detail.as_str());
        let line = format!("{:.0}  {moment}  {of:action$}  {about:subject$}  {detail}", entry.at);
        writeln!(out, "{}", named_in_columns(line.trim_end()))?;
    }
    if is_cut {
        super::notes::warn(&[left_out(entries)]);
    }
    Ok(())
}

/// Writes which manifest the state is of now.
pub(crate) fn print_origin(context: &Context, origin: &ManifestOrigin) -> Result<(), CliError> {
    let ManifestOrigin { manifest, values } = origin;
    if context.format == Format::Json {
        return super::json(&json!({ "version": VERSION, "manifest": manifest, "values": values }));
    }
    let with = values.as_ref().map_or_else(String::new, |file| format!(" with the values of {file}"));
    Ok(writeln!(super::stdout(), "The state is of {manifest}{with} from now on.")?)
}
