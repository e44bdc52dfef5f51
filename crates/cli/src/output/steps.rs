//! What a run would do.

use std::collections::HashMap;
use std::io::Write;

use jiff::Timestamp;
use pindrel_core::judging::findings::Words;
use pindrel_core::planning::plan::Step;
use pindrel_core::planning::reviewed::Difference;
use pindrel_engine::Plan;
use serde_json::json;

use super::finding::{print_evidence, print_remedy};
use super::grouping::grouped;
use super::times::for_people;
use super::wrap::named_in_columns;
use super::{VERSION, count, held_of, style};
use crate::args::Format;
use crate::context::Context;
use crate::error::CliError;

/// The most steps that are each shown to a person.
const MOST_STEPS: usize = 60;
/// The most differences that are shown to a person at once.
const MOST_DIFFERENCES: usize = 40;

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
            &json!({ "version": VERSION, "steps": plan.steps, "stuck": stuck, "leftovers": leftovers, "foreseen": plan.foreseen }),
        );
    }
    let mut out = super::stdout();
    if !plan.steps.is_empty() {
        writeln!(out, "{}", by_kind(&plan.steps))?;
    }
    match plan.steps.len() {
        ..=MOST_STEPS => print_steps(&mut out, &plan.steps)?,
        _ => print_by_hostname(&mut out, &plan.steps)?,
    }
    let now = Timestamp::now();
    let stuck = plan.stuck.iter().flat_map(|stuck| stuck.findings.iter().map(|finding| (&stuck.hostname, finding)));
    for group in grouped(stuck.map(|(hostname, finding)| (hostname.as_str(), Some(finding), (), finding))) {
        let Some(Words { says, evidence, remedy, .. }) = group.words() else { continue };
        let says = for_people(now, &says);
        writeln!(out, "{} {}: {says}", style::paint(style::BAD, "✕"), group.label())?;
        if let Some(listed) = group.listed() {
            writeln!(out, "    {}", style::paint(style::FAINT, listed))?;
        }
        print_evidence(&mut out, now, &evidence)?;
        print_remedy(&mut out, now, &remedy, group.first.again().at())?;
    }
    for finding in &plan.foreseen {
        let head = format!("{} ", style::paint(style::UNDERWAY, "!"));
        super::finding::print(&mut out, now, &head, &finding.words())?;
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

/// How many steps there are of each kind, in the order in which kinds begin.
fn by_kind(steps: &[Step]) -> String {
    let mut kinds: Vec<(&str, usize)> = Vec::new();
    for step in steps {
        match kinds.iter_mut().find(|(action, _)| *action == step.action) {
            Some((_, number)) => *number += 1,
            None => kinds.push((step.action, 1)),
        }
    }
    let kinds: Vec<String> =
        kinds.iter().map(|(action, n)| format!("{n} {}", style::paint(style::STRONG, action))).collect();
    format!("{}: {}", count(steps.len(), "step"), kinds.join(", "))
}

/// Writes what is to be done for each hostname as a line: of hundreds nobody reads each step.
fn print_by_hostname(out: &mut impl Write, steps: &[Step]) -> Result<(), CliError> {
    let mut hostnames: Vec<(&str, Vec<&str>)> = Vec::new();
    let mut places: HashMap<&str, usize> = HashMap::new();
    for step in steps {
        let hostname = step.hostname.as_str();
        let place = *places.entry(hostname).or_insert(hostnames.len());
        match hostnames.get_mut(place) {
            Some((_, actions)) => actions.push(step.action),
            None => hostnames.push((hostname, vec![step.action])),
        }
    }
    let width = hostnames.iter().map(|(hostname, _)| hostname.len()).max().unwrap_or(0);
    for (hostname, actions) in &hostnames {
        let line = format!("{hostname:width$}  {}", style::paint(style::FAINT, actions.join(", ")));
        writeln!(out, "{}", named_in_columns(&line))?;
    }
    Ok(writeln!(out, "Each step with its target and reason: --format json, or --only HOSTNAME.")?)
}

fn print_steps(out: &mut impl Write, steps: &[Step]) -> Result<(), CliError> {
    let width = steps.iter().map(|step| step.hostname.as_str().len()).max().unwrap_or(0);
    let actions = steps.iter().map(|step| step.action.len()).max().unwrap_or(0);
    let digits = steps.len().to_string().len();
    for step in steps {
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
    Ok(())
}

/// Writes how what is to be done now differs from a plan that was made earlier.
pub(crate) fn print_differences(
    context: &Context,
    made: Timestamp,
    differences: &[Difference],
) -> Result<(), CliError> {
    let now = Timestamp::now();
    if context.format == Format::Json {
        let row = |difference: &Difference| {
            let (how, step) = match difference {
                Difference::Added(step) => ("added", step),
                Difference::Gone(step) => ("gone", step),
                Difference::Changed(step) => ("changed", step),
            };
            json!({ "how": how, "hostname": step.hostname, "action": step.action, "target": step.target })
        };
        let rows: Vec<_> = differences.iter().map(row).collect();
        return super::json(&json!({ "version": VERSION, "event": "differs", "at": now, "differences": rows }));
    }
    let mut out = super::stdout();
    for difference in differences.iter().take(MOST_DIFFERENCES) {
        writeln!(out, "{} {difference}", style::paint(style::UNDERWAY, "differs"))?;
    }
    if differences.len() > MOST_DIFFERENCES {
        writeln!(out, "… and {} more", differences.len() - MOST_DIFFERENCES)?;
    }
    let made = super::times::clock(now, made);
    writeln!(out, "Nothing was done: what is to be done is no longer the plan that was made at {made}.")?;
    let remedy = "Review it anew: pindrel settle --dry-run --out FILE";
    print_remedy(&mut out, now, remedy, None)
}
