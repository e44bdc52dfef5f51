//! What can be taken over, and what was.

use std::io::Write as _;

use pindrel_core::names::name::Hostname;
use pindrel_engine::{Adoptable, Candidate, Proof};
use serde::Serialize;
use serde_json::json;

use super::{VERSION, count, style};
use crate::args::Format;
use crate::context::Context;
use crate::error::CliError;

#[derive(Serialize)]
struct Row<'c> {
    hostname: &'c Hostname,
    what: Adoptable,
    present: &'c str,
    differs: Option<&'c str>,
    proofs: &'c [Proof],
    proven: bool,
    adopted: bool,
}

/// Writes what was found, and which of it `is_adopted`.
pub(crate) fn print(
    context: &Context,
    found: &[Candidate],
    is_adopted: impl Fn(&Candidate) -> bool,
) -> Result<(), CliError> {
    let rows = found.iter().map(|candidate| Row {
        hostname: &candidate.hostname,
        what: candidate.what,
        present: &candidate.present,
        differs: candidate.differs.as_deref(),
        proofs: &candidate.proofs,
        proven: candidate.is_proven(),
        adopted: is_adopted(candidate),
    });
    match context.format {
        Format::Json => super::json(&json!({ "version": VERSION, "found": rows.collect::<Vec<_>>() })),
        Format::Csv => {
            let heads = ["hostname", "what", "present", "differs", "proofs", "proven", "adopted"];
            super::csv(
                &heads,
                rows.map(|row| {
                    let proofs: Vec<String> = row.proofs.iter().map(ToString::to_string).collect();
                    [
                        row.hostname.to_string(),
                        row.what.as_str().to_owned(),
                        row.present.to_owned(),
                        row.differs.unwrap_or_default().to_owned(),
                        proofs.join("; "),
                        row.proven.to_string(),
                        row.adopted.to_string(),
                    ]
                }),
            )
        }
        Format::Text => print_text(&rows.collect::<Vec<_>>()),
    }
}

fn print_text(rows: &[Row<'_>]) -> Result<(), CliError> {
    let mut out = super::stdout();
    let width = rows.iter().map(|row| row.hostname.as_str().len()).max().unwrap_or(0);
    for row in rows {
        let (colour, word) = match (row.adopted, row.proven) {
            (true, _) => (style::GOOD, "adopted   "),
            (false, true) => (style::STRONG, "proven    "),
            (false, false) => (style::UNDERWAY, "not proven"),
        };
        let word = style::paint(colour, word);
        writeln!(out, "{word}  {:width$}  {:7}  {}", row.hostname.as_str(), row.what.as_str(), row.present)?;
        let mut tell =
            |says: String| writeln!(out, "{:12}{:width$}  {:7}  {}", "", "", "", style::paint(style::FAINT, says));
        for proof in row.proofs {
            tell(proof.to_string())?;
        }
        if let Some(differs) = row.differs {
            tell(format!("settle will change: {differs}"))?;
        }
    }
    let (total, adopted) = (rows.len(), rows.iter().filter(|row| row.adopted).count());
    let proven = rows.iter().filter(|row| row.proven).count();
    let arrow = style::paint(style::FAINT, "→");
    match (total, adopted) {
        (0, _) => writeln!(out, "Nothing to take over: everything that is there is known.")?,
        (_, 0) => {
            writeln!(
                out,
                "{} found, {proven} of them proven to be the manifest's own. Nothing was changed.",
                count(total, "thing")
            )?;
            if proven > 0 {
                writeln!(out, "  {arrow} Take over what is proven with: pindrel adopt --all --yes")?;
            }
        }
        _ => writeln!(out, "{} of {} taken over. The next settle may change them.", adopted, count(total, "thing"))?,
    }
    if let Some(row) = rows.iter().find(|row| !row.proven && !row.adopted) {
        writeln!(out, "  {arrow} What is yours without a proof: pindrel adopt {} {}", row.what.as_str(), row.hostname)?;
    }
    Ok(())
}
