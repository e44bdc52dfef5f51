//! The mistakes of a manifest: for people with the source line, for programs as JSON.

use std::io::Write;

use annotate_snippets::renderer::DecorStyle;
use annotate_snippets::{AnnotationKind, Level, Renderer, Snippet};
use pindrel_core::desired::Desired;
use pindrel_core::manifest::{Diagnostic, Place};
use pindrel_engine::OnlineReport;
use serde_json::{Value, json};

use super::excerpt::excerpt;
use super::wrap::named;
use super::{VERSION, count, log, style};
use crate::args::Format;
use crate::context::{Context, Placed, placed};
use crate::error::{CliError, Mistakes};

/// The most mistakes that are shown to a person at once.
const MOST_SHOWN: usize = 50;

/// Writes what `check` found.
pub(crate) fn print(
    context: &Context,
    desired: &Desired,
    mistakes: &Mistakes,
    online: Option<&[OnlineReport]>,
) -> Result<(), CliError> {
    if context.format == Format::Json {
        let mut document = document(mistakes);
        if let Some(online) = online {
            document["online"] = json!(online);
        }
        return super::json(&document);
    }
    let mut out = anstream::stdout();
    show(&mut out, mistakes, Level::ERROR, &mistakes.errors)?;
    show(&mut out, mistakes, Level::WARNING, &mistakes.warnings)?;
    let warnings = match mistakes.warnings.len() {
        0 => String::new(),
        n => format!(", {}", count(n, "warning")),
    };
    let file = mistakes.source.name();
    if mistakes.errors.is_empty() {
        let valid = style::paint(style::GOOD, "is valid");
        let (hostnames, certificates) = (desired.hostnames.len(), desired.certificates.len());
        let (hostnames, certificates) = (count(hostnames, "hostname"), count(certificates, "certificate"));
        writeln!(out, "{file} {valid}: {hostnames}, {certificates}{warnings}.")?;
    } else {
        let errors = style::paint(style::BAD, count(mistakes.errors.len(), "mistake"));
        writeln!(out, "{file} has {errors}{warnings}.")?;
    }
    online.map_or(Ok(()), super::online::print)
}

/// Writes the mistakes that kept another command from running.
pub(crate) fn print_errors(context: &Context, mistakes: &Mistakes) -> Result<(), CliError> {
    if context.format == Format::Json {
        return super::json(&document(mistakes));
    }
    if log::is_json() {
        log_each(mistakes, &mistakes.errors, log::fail);
        return Ok(());
    }
    let mut err = anstream::stderr();
    show(&mut err, mistakes, Level::ERROR, &mistakes.errors)?;
    let errors = style::paint(style::BAD, count(mistakes.errors.len(), "mistake"));
    writeln!(err, "{} has {errors}; nothing was done.", mistakes.source.name())?;
    Ok(())
}

/// Tells what stops nothing, to standard error.
pub(crate) fn warn(mistakes: &Mistakes) {
    if log::is_json() {
        return log_each(mistakes, &mistakes.warnings, log::say);
    }
    let _ = show(&mut anstream::stderr(), mistakes, Level::WARNING, &mistakes.warnings);
}

/// Writes mistakes as lines of the log.
fn log_each(mistakes: &Mistakes, of: &[Diagnostic], write: fn(&str)) {
    for Placed { diagnostic, file, place: Place { line, column }, .. } in placed(mistakes, of).take(MOST_SHOWN) {
        write(&format!("{file}:{line}:{column}: {}", diagnostic.message));
    }
}

/// Returns the first mistake with its place, and the number of the others, as one line.
pub(crate) fn first_in_one_line(mistakes: &Mistakes) -> String {
    let first = placed(mistakes, &mistakes.errors).next();
    let Some(Placed { diagnostic, file, place: Place { line, column }, .. }) = first else {
        return mistakes.source.name().to_owned();
    };
    let more = match mistakes.errors.len() {
        0 | 1 => String::new(),
        all => format!(" (and {} more)", count(all - 1, "mistake")),
    };
    format!("{file}:{line}:{column}: {}{more}", diagnostic.message)
}

fn document(mistakes: &Mistakes) -> Value {
    let listed = |of: &[Diagnostic]| -> Vec<Value> {
        let one = |Placed { diagnostic, file, place, .. }: Placed<'_>| {
            json!({
                "code": diagnostic.code,
                "message": diagnostic.message,
                "file": file,
                "line": place.line,
                "column": place.column,
                "help": diagnostic.help,
            })
        };
        placed(mistakes, of).map(one).collect()
    };
    json!({ "version": VERSION, "errors": listed(&mistakes.errors), "warnings": listed(&mistakes.warnings) })
}

fn show(out: &mut impl Write, mistakes: &Mistakes, level: Level<'_>, of: &[Diagnostic]) -> Result<(), CliError> {
    let renderer = Renderer::styled().decor_style(DecorStyle::Unicode);
    for Placed { diagnostic, file, text, span, place } in placed(mistakes, of).take(MOST_SHOWN) {
        let (line, span) = excerpt(text, &span);
        let snippet =
            Snippet::source(line).path(file).line_start(place.line).annotation(AnnotationKind::Primary.span(span));
        let message = named(&diagnostic.message);
        let group = level.clone().primary_title(&*message).id(diagnostic.code).element(snippet);
        let group = match &diagnostic.help {
            Some(help) => group.element(Level::HELP.message(help)),
            None => group,
        };
        writeln!(out, "{}\n", renderer.render(&[group]))?;
    }
    if of.len() > MOST_SHOWN {
        writeln!(out, "… and {} more.\n", of.len() - MOST_SHOWN)?;
    }
    Ok(())
}
