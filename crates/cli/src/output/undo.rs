//! What is put back, and the runs that can be.

use std::io::Write as _;

use jiff::Timestamp;
use pindrel_core::desired::Desired;
use pindrel_core::judging::facts::EndpointKey;
use pindrel_core::judging::findings::{Finding, Words};
use pindrel_core::names::name::Hostname;
use pindrel_core::planning::undo::KeptBack;
use pindrel_engine::{RunChange, RunRow};
use serde_json::json;

use super::{VERSION, count, style, times};
use crate::args::Format;
use crate::context::Context;
use crate::error::CliError;

/// The most hostnames that are written for one run.
const MOST_LISTED: usize = 20;

/// Says what cannot be put back.
pub(crate) fn print_hindered(hindered: &[(Hostname, Finding)]) -> Result<(), CliError> {
    let mut out = super::stderr();
    for (hostname, finding) in hindered {
        let Words { says, remedy, .. } = finding.words();
        writeln!(out, "{} {hostname}: {}", style::paint(style::BAD, "✕"), says)?;
        writeln!(out, "  → {remedy}")?;
    }
    Ok(())
}

/// Says that a hostname is not as the manifest wants it, and what makes it so again.
pub(crate) fn kept_back(KeptBack { hostname, run, .. }: &KeptBack) -> (String, String) {
    (
        format!(
            "{hostname} stays as it was before run {run}, which was undone, until the manifest wants something else of it"
        ),
        format!("Follow the manifest as it is: pindrel settle --redo --only {hostname}"),
    )
}

/// The same as one note.
pub(crate) fn kept_back_note(kept: &KeptBack) -> String {
    let (says, remedy) = kept_back(kept);
    format!("{says}. {remedy}")
}

/// Says what comes next once a run is undone.
pub(crate) fn print_end(context: &Context, run: i64, done: bool) -> Result<(), CliError> {
    if context.format == Format::Json || context.quiet {
        return Ok(());
    }
    let mut out = super::stdout();
    if done {
        writeln!(
            out,
            "Run {run} is undone, and stays so until the manifest wants something else of these hostnames; settle --redo \
             follows it as it is."
        )?;
    } else {
        writeln!(out, "Run {run} is not undone yet. Go on with: pindrel settle --undo {run}")?;
    }
    Ok(())
}

/// Writes runs with what each changed.
pub(crate) fn print_runs(
    context: &Context,
    desired: &Desired,
    runs: &[(RunRow, Vec<RunChange>)],
) -> Result<(), CliError> {
    // As the manifest calls it, where it does.
    let name = |key: &EndpointKey| {
        desired.endpoint_at(key).map_or_else(|| key.to_string(), |id| desired.endpoint(id).name.clone())
    };
    match context.format {
        Format::Json => {
            let runs: Vec<_> = runs
                .iter()
                .map(|(run, changes)| {
                    let changes: Vec<_> = changes
                        .iter()
                        .map(|RunChange { hostname, before, after }| {
                            let differences = after.as_ref().map(|after| before.differences(after, name));
                            json!({ "hostname": hostname, "changed": differences })
                        })
                        .collect();
                    let RunRow { id, begun, ended, command, .. } = run;
                    json!({ "run": id, "begun": begun, "ended": ended, "command": command, "changes": changes })
                })
                .collect();
            super::json(&json!({ "version": VERSION, "runs": runs }))
        }
        Format::Csv => {
            let rows = runs.iter().map(|(run, _)| {
                let ended = run.ended.map_or_else(String::new, |at| at.to_string());
                [run.id.to_string(), run.begun.to_string(), ended, run.command.clone(), run.changes.to_string()]
            });
            super::csv(&["run", "begun", "ended", "command", "changes"], rows)
        }
        Format::Text => print_text(runs, name),
    }
}

fn print_text(runs: &[(RunRow, Vec<RunChange>)], name: impl Fn(&EndpointKey) -> String + Copy) -> Result<(), CliError> {
    let mut out = super::stdout();
    if runs.is_empty() {
        return Ok(writeln!(out, "No run has changed anything.")?);
    }
    let now = Timestamp::now();
    for (run, changes) in runs {
        let stopped = if run.ended.is_none() { ", stopped" } else { "" };
        let changed = count(usize::try_from(run.changes).unwrap_or(usize::MAX), "hostname");
        let head = format!("run {}", run.id);
        let at = times::age(now.as_second() - run.begun.as_second());
        writeln!(out, "{}  {}, {at} ago{stopped}: {changed} changed", style::paint(style::STRONG, head), run.command)?;
        for RunChange { hostname, before, after } in changes.iter().take(MOST_LISTED) {
            let differences = match after.as_ref().map(|after| before.differences(after, name)) {
                None => "as far as it came".into(),
                Some(differences) if differences.is_empty() => "as it was before".into(),
                Some(differences) => differences.join("; "),
            };
            writeln!(out, "  {hostname}  {}", style::paint(style::FAINT, differences))?;
        }
        if let Some(more @ 1..) = changes.len().checked_sub(MOST_LISTED) {
            writeln!(out, "  {}", style::paint(style::FAINT, format_args!("and {more} more")))?;
        }
    }
    Ok(())
}
