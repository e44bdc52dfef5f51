//! What a run would do.

use std::io::Write as _;

use jiff::Timestamp;
use pindrel_core::judging::findings::Words;
use pindrel_engine::Plan;
use serde_json::json;

use super::finding::{print_evidence, print_remedy};
use super::times::for_people;
use super::wrap::named_in_columns;
use super::{VERSION, count, held_of, style};
use crate::args::Format;
use crate::context::Context;
use crate::error::CliError;

/// Writes the steps in their order.
pub(crate) fn print(context: &Context, plan: &Plan) -> Result<(), CliError> {
    if context.format == Format::Json {
        let stuck: Vec<_> = plan
            .stuck
            .iter()
            .map(|stuck| json!({ "hostname": stuck.hostname, "failed": stuck.outage, "findings": stuck.findings }))
            .collect();
        let leftovers: Vec<_> = plan.leftovers.iter().map(super::status::LeftoverRow::new).collect();
        return super::json(
            &json!({ "version": VERSION, "steps": plan.steps, "stuck": stuck, "leftovers": leftovers }),
        );
    }
    let mut out = super::stdout();
    let width = plan.steps.iter().map(|step| step.hostname.as_str().len()).max().unwrap_or(0);
    let actions = plan.steps.iter().map(|step| step.action.len()).max().unwrap_or(0);
    let digits = plan.steps.len().to_string().len();
    for step in &plan.steps {
        let after = match step.after.as_slice() {
            [] => String::new(),
            after => format!(" after {}", after.iter().map(u32::to_string).collect::<Vec<_>>().join(", ")),
        };
        let action = style::paint(style::STRONG, format_args!("{:actions$}", step.action));
        let (hostname, after) = (step.hostname.as_str(), style::paint(style::FAINT, after));
        let line = format!("{:>digits$}  {action}  {hostname:width$}  {}{after}", step.id, step.target);
        writeln!(out, "{}", named_in_columns(&line))?;
        writeln!(out, "{:digits$}  {:actions$}  {:width$}  {}", "", "", "", style::paint(style::FAINT, &step.why))?;
    }
    let now = Timestamp::now();
    for stuck in &plan.stuck {
        for finding in &stuck.findings {
            let Words { says, evidence, remedy } = finding.words();
            let says = for_people(now, &says);
            writeln!(out, "{} {}: {says}", style::paint(style::BAD, "✕"), stuck.hostname)?;
            print_evidence(&mut out, now, &evidence)?;
            print_remedy(&mut out, now, &remedy, finding.again().at())?;
        }
    }
    for leftover in &plan.leftovers {
        super::status::print_leftover(&mut out, now, &leftover.finding)?;
    }
    let held = held_of(plan.held, plan.total, plan.certificates);
    match plan.steps.len() {
        n if plan.total == 0 => writeln!(out, "{} to take. Nothing was changed.", count(n, "step"))?,
        0 if plan.held == plan.total => writeln!(out, "Nothing to do: {held}.")?,
        0 => writeln!(out, "No step can be taken: {held}.")?,
        n => writeln!(out, "{} to take; {held}. Nothing was changed.", count(n, "step"))?,
    }
    Ok(())
}
