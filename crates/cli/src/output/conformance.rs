//! How a protocol that others implement is kept.

use std::io::Write as _;

use pindrel_engine::{ClauseReport, Verdict};
use serde_json::json;

use super::{VERSION, count, style};
use crate::args::Format;
use crate::context::Context;
use crate::error::CliError;

/// Writes how each clause of a protocol is kept by what is tried, which is named under `key` in JSON.
pub(crate) fn print(context: &Context, (key, name): (&str, &str), clauses: &[ClauseReport]) -> Result<(), CliError> {
    if context.format == Format::Json {
        return super::json(&json!({ "version": VERSION, key: name, "clauses": clauses }));
    }
    let mut out = super::stdout();
    for ClauseReport { clause, verdict } in clauses {
        let (word, colour) = match verdict {
            Verdict::Met => ("met", style::GOOD),
            Verdict::NotMet { .. } => ("not met", style::BAD),
            Verdict::NotOffered => ("not offered", style::FAINT),
        };
        writeln!(out, "{}  {clause}", style::paint(colour, format_args!("{word:<11}")))?;
        if let Verdict::NotMet { why } = verdict {
            writeln!(out, "{:13}{}", "", style::paint(style::FAINT, why))?;
        }
    }
    let how_many = |is: fn(&Verdict) -> bool| clauses.iter().filter(|report| is(&report.verdict)).count();
    let met = how_many(|verdict| *verdict == Verdict::Met);
    let missing = how_many(|verdict| matches!(verdict, Verdict::NotMet { .. }));
    let rest = [(missing, "not met"), (clauses.len() - met - missing, "not offered")];
    let rest: String = rest.iter().filter(|(n, _)| *n > 0).map(|(n, word)| format!(", {n} {word}")).collect();
    writeln!(out, "{name}: {met} of {} met{rest}.", count(clauses.len(), "clause"))?;
    Ok(())
}
